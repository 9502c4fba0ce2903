package redact

import (
	"net/netip"
	"strconv"
	"strings"
)

type sort uint8

const (
	isName sort = iota
	isAddress
	isHardware
	isOctets // more octets than a hardware address has, one of which may be in them: identifiers of DHCP clients
)

// token is a part of a text that may be an original.
type token struct {
	sort     sort
	text     string
	addr     netip.Addr
	bits     int // of the prefix that follows it; -1: none
	hardware hardware
	between  string
}

// scan hands each part of a text that may be an original to f, and puts what f makes of it in its place.
func scan(s string, f func(token) string) string {
	var b strings.Builder
	for len(s) > 0 {
		n := strings.IndexFunc(s, func(r rune) bool { return inName(r) || r == ':' })
		if n < 0 {
			break
		}
		b.WriteString(s[:n])
		s = s[n:]
		if n = strings.IndexFunc(s, func(r rune) bool { return !inName(r) && r != ':' && r != '.' }); n < 0 {
			n = len(s)
		}
		run, rest := s[:n], s[n:]
		out, left := part(run, rest, f)
		b.WriteString(out)
		s = left
	}
	return b.String() + s
}

// part is what f makes of a run of characters, and what is left behind it.
func part(run, rest string, f func(token) string) (out, left string) {
	if a, err := netip.ParseAddr(run); err == nil {
		return address(run, a, rest, f)
	}
	core := strings.TrimRight(run, ".:-_")
	if core == "" {
		return run, rest
	}
	rest = run[len(core):] + rest
	if a, err := netip.ParseAddr(core); err == nil {
		return address(core, a, rest, f)
	}
	if h, between, ok := parseHardware(core); ok {
		return f(token{sort: isHardware, text: core, hardware: h, between: between}), rest
	}
	digits := strings.NewReplacer(":", "", "-", "").Replace(core)
	if len(digits) > 12 && strings.Trim(digits, "0123456789abcdefABCDEF") == "" {
		return f(token{sort: isOctets, text: core}), rest
	}
	if host, behind, ok := strings.Cut(core, ":"); ok { // a port, or a scheme
		if host == "" {
			return ":", behind + rest
		}
		first, _ := part(host, "", f)
		return first + ":", behind + rest
	}
	return f(token{sort: isName, text: core}), rest
}

func address(text string, a netip.Addr, rest string, f func(token) string) (out, left string) {
	t := token{sort: isAddress, text: text, addr: a, bits: -1}
	if after, ok := strings.CutPrefix(rest, "/"); ok {
		digits := after[:len(after)-len(strings.TrimLeft(after, "0123456789"))]
		if bits, err := strconv.Atoi(digits); err == nil && bits <= a.BitLen() {
			t.bits, t.text = bits, text+"/"+digits
			rest = after[len(digits):]
		}
	}
	return f(t), rest
}

// JSON puts stand-ins into a JSON value, of one line.
func (r *Redactor) JSON(raw []byte) ([]byte, error) {
	v, err := decode(raw)
	if err != nil {
		return nil, err
	}
	return encode(walk(v, place{}, r.under))
}

// Text puts stand-ins into a text.
func (r *Redactor) Text(s string) string { return r.under(text, s) }

// Name is the stand-in of a name.
func (r *Redactor) Name(s string) string { return r.under(place{key: "Name"}, s) }

// under puts stand-ins into what stands at a place.
func (r *Redactor) under(at place, s string) string {
	for _, p := range r.phrases {
		if s == p || len(p) > 3 && strings.Contains(s, p) {
			s = strings.ReplaceAll(s, p, r.in[p])
		}
	}
	sentence := strings.Contains(s, " ")
	return scan(s, func(t token) string {
		switch t.sort {
		case isAddress:
			if t.bits >= 0 {
				return r.tree.prefix(netip.PrefixFrom(t.addr, t.bits)).String()
			}
			return r.tree.addr(t.addr).String()
		case isHardware:
			if out, ok := r.cards[t.hardware]; ok {
				return out.write(t.between)
			}
		case isOctets:
			return r.octets(t.text)
		case isName:
			return r.word(t.text, at.holdsNames(), sentence)
		}
		return t.text
	})
}

// octets puts stand-ins into octets in which a hardware address stands.
func (r *Redactor) octets(s string) string {
	for h, out := range r.cards {
		for _, between := range []string{":", "-", ""} {
			s = strings.ReplaceAll(strings.ToLower(s), h.write(between), out.write(between))
		}
	}
	return s
}

func (r *Redactor) word(s string, isName, sentence bool) string {
	if out, ok := r.reversed(s); ok {
		return out
	}
	label := strings.ToLower(s)
	switch {
	case strings.Contains(s, "."), isName:
		return r.named(s)
	case sentence && !plain[label] && r.labels[label] != "":
		return r.labels[label]
	}
	return s
}
