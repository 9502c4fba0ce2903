package redact

import (
	"slices"
	"strings"
)

// publicLabels are ends of names that stay: reserved ones (RFC 6761, RFC 6762, RFC 9476, SAC113), and public ones of more than three
// letters.
var publicLabels = words(`arpa local localhost localdomain internal home alt onion test invalid example info name mobi`)

// plain are words of the trade with which a machine may be called: alone, in a sentence, they are left as they are.
var plain = words(`access address adapter cable card client desk desktop device dhcp dns echo ethernet frame gateway host interface
	internet label laptop lease lines link local machine mail meter name names neighbour network node path phone port portal prefix print
	printer probe proxy query resolver route router scale scanner segment server service site station storage subnet switch system target
	terminal time user web wifi wireless workstation zone`)

func words(list string) map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.Fields(list) {
		out[w] = true
	}
	return out
}

// labelsOf are the labels of a name that are given stand-ins. Services and protocols (RFC 6335 §5.1) stay, as do public ends, which are of
// three letters at most or reserved.
func labelsOf(name string) (out []string) {
	labels := strings.Split(strings.ToLower(strings.Trim(name, ".")), ".")
	for i, label := range labels {
		if label != "" && !staying(label, i, len(labels)) {
			out = append(out, label)
		}
	}
	return out
}

// staying reports whether a label of a name stays: the n-th of so many.
func staying(label string, n, of int) bool {
	end := n == of-1
	return strings.HasPrefix(label, "_") || label == "*" || isNumber(label) || label == "ipv4only" || // RFC 8880
		end && (publicLabels[label] || of > 1 && len(label) <= 3)
}

func isNumber(s string) bool {
	return s != "" && strings.Trim(s, "0123456789") == ""
}

// syllables of which stand-ins are made: they can be read out on the telephone, and nobody takes them for words.
const (
	consonants = "bdfgklmnprstvz"
	vowels     = "aeiou"
)

// word is a stand-in for a label: three syllables, chosen by what a key gives for it.
func word(of []byte) string {
	var b strings.Builder
	for i := range 3 {
		b.WriteByte(consonants[int(of[2*i])%len(consonants)])
		b.WriteByte(vowels[int(of[2*i+1])%len(vowels)])
	}
	return b.String()
}

// named replaces each label of a name that has a stand-in.
func (r *Redactor) named(name string) string {
	labels := strings.Split(name, ".")
	for i, label := range labels {
		if out, ok := r.labels[strings.ToLower(label)]; ok && !staying(strings.ToLower(label), i, len(labels)) {
			labels[i] = out
		} else if !ok {
			labels[i] = r.pieces(label)
		}
	}
	return strings.Join(labels, ".")
}

// pieces replaces what of a label that is not known is one.
func (r *Redactor) pieces(label string) string {
	pieces := strings.Split(label, "-")
	for i, piece := range pieces {
		if lower := strings.ToLower(piece); len(piece) > 3 && !plain[lower] && r.labels[lower] != "" {
			pieces[i] = r.labels[lower]
		}
	}
	return strings.Join(pieces, "-")
}

// reversed is the stand-in of a name under in-addr.arpa or ip6.arpa (RFC 1035 §3.5, RFC 3596 §2.5), whole or of a zone.
func (r *Redactor) reversed(name string) (string, bool) {
	lower := strings.ToLower(strings.TrimSuffix(name, "."))
	if digits, ok := strings.CutSuffix(lower, ".in-addr.arpa"); ok {
		return r.reversedOf(digits, 4, 10, ".in-addr.arpa"), true
	}
	if digits, ok := strings.CutSuffix(lower, ".ip6.arpa"); ok {
		return r.reversedOf(digits, 32, 16, ".ip6.arpa"), true
	}
	return "", false
}

func (r *Redactor) reversedOf(digits string, most, base int, end string) string {
	parts := strings.Split(digits, ".")
	slices.Reverse(parts)
	p, ok := prefixOf(parts, most, base)
	if !ok {
		return r.named(digits) + end
	}
	out := partsOf(r.tree.prefix(p).Addr(), base)[:len(parts)]
	slices.Reverse(out)
	return strings.Join(out, ".") + end
}
