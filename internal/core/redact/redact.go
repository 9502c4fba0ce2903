// Package redact puts stand-ins in the place of what tells where a case was and whose: addresses, hardware addresses and names. They are
// the same throughout, and keep what matters: addresses of one network have stand-ins of one network, private ones private ones, and the
// half of a hardware address that names its maker stays. Who has the key can turn an answer back.
package redact

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"hash"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"passepartout/internal/core/subnet"
)

// Key is what stand-ins are chosen by. Without it, nobody gets from one to its original.
type Key [32]byte

// Redactor gives stand-ins. It is not safe for concurrent use.
type Redactor struct {
	seen   *Originals
	mac    hash.Hash
	tree   *tree
	cards  map[hardware]hardware
	labels map[string]string
	// phrases are names that hold what no label does, as the instances of services do (RFC 6763 §4.1.1), longest first.
	phrases []string
	in      map[string]string // stand-ins of the phrases
}

// tries is how many keys are derived in the search of one by which no stand-in is an original.
const tries = 400

// New chooses stand-ins for what was seen. The same key and the same originals give the same stand-ins.
func New(key Key, seen *Originals) *Redactor {
	var best *Redactor
	least := -1
	for try := range max(20, tries-len(seen.addresses)) {
		r := &Redactor{seen: seen, mac: hmac.New(sha256.New, derive(key, try))}
		if clashes := r.choose(); least < 0 || clashes < least {
			best, least = r, clashes
		}
		if least == 0 {
			break
		}
	}
	return best
}

func derive(key Key, try int) []byte {
	m := hmac.New(sha256.New, key[:])
	m.Write([]byte("passepartout.key/1"))
	_ = binary.Write(m, binary.BigEndian, uint32(try)) // a hash takes all
	return m.Sum(nil)
}

func (r *Redactor) digest(what string, of []byte) []byte {
	r.mac.Reset()
	r.mac.Write([]byte(what))
	r.mac.Write([]byte{0})
	r.mac.Write(of)
	return r.mac.Sum(nil)
}

func (r *Redactor) octet(what string, of []byte) byte { return r.digest(what, of)[0] }

// choose gives all that was seen its stand-in, and tells how many of them are originals, or a network's end without being one.
func (r *Redactor) choose() (clashes int) {
	known := slices.SortedFunc(maps.Keys(r.seen.networks), func(a, b netip.Prefix) int { return a.Compare(b) })
	r.tree = newTree(r.octet, known, r.seen.translated)
	ends := r.ends()
	for a := range r.seen.addresses {
		if within(kept, a) {
			continue
		}
		out := r.tree.addr(a)
		if r.seen.addresses[out] || ends[out] && !ends[a] {
			clashes++
		}
	}
	r.cards = map[hardware]hardware{}
	for h := range r.seen.hardware {
		out := h.standIn(r.octet)
		if r.cards[h] = out; h.kept() < 6 && r.seen.hardware[out] {
			clashes++
		}
	}
	r.chooseNames()
	return clashes
}

// ends are the first and the last addresses of the IPv4 networks of the case, and of their stand-ins.
func (r *Redactor) ends() map[netip.Addr]bool {
	out := map[netip.Addr]bool{}
	for _, p := range r.tree.known {
		if p.Addr().Is4() && p.Bits() < 31 {
			for _, q := range []netip.Prefix{p.Masked(), r.tree.prefix(p.Masked())} {
				out[q.Addr()], out[subnet.Last(q)] = true, true
			}
		}
	}
	return out
}

func (r *Redactor) chooseNames() {
	r.labels, r.in = map[string]string{}, map[string]string{}
	taken := map[string]bool{}
	pick := func(of string) string {
		for n := byte(0); ; n++ {
			d := r.digest("name", append([]byte(of), n))
			out := word(d)
			if n > 200 { // more names than words of three syllables
				out += word(d[6:])
			}
			if !taken[out] && !r.seen.labels[out] && !plain[out] {
				taken[out] = true
				return out
			}
		}
	}
	for _, label := range slices.Sorted(maps.Keys(r.seen.labels)) {
		r.labels[label] = pick(label)
	}
	r.phrases = slices.SortedFunc(maps.Keys(r.seen.phrases), func(a, b string) int {
		if len(a) != len(b) {
			return len(b) - len(a)
		}
		return strings.Compare(a, b)
	})
	for _, p := range r.phrases {
		r.in[p] = pick(p)
	}
}

// Pair is an original and its stand-in.
type Pair struct {
	Original string `json:"original"`
	StandIn  string `json:"stand_in"`
}

// Pairs are all that differ, addresses first.
func (r *Redactor) Pairs() (out []Pair) {
	put := func(original, standIn string) {
		if original != standIn {
			out = append(out, Pair{original, standIn})
		}
	}
	for _, a := range slices.SortedFunc(maps.Keys(r.seen.addresses), netip.Addr.Compare) {
		put(a.String(), r.tree.addr(a).String())
	}
	cards := slices.SortedFunc(maps.Keys(r.cards), func(a, b hardware) int { return slices.Compare(a[:], b[:]) })
	for _, h := range cards {
		put(h.write(":"), r.cards[h].write(":"))
	}
	for _, p := range r.phrases {
		put(p, r.in[p])
	}
	for _, label := range slices.Sorted(maps.Keys(r.labels)) {
		put(label, r.labels[label])
	}
	return out
}
