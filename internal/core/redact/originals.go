package redact

import (
	"bytes"
	"encoding/json"
	"net/netip"
	"slices"
	"strings"
)

// Originals are what a case must not give away.
type Originals struct {
	addresses map[netip.Addr]bool
	networks  map[netip.Prefix]bool
	hardware  map[hardware]bool
	labels    map[string]bool // in lower case
	phrases   map[string]bool
	// translated are the networks in which a translator stands for IPv4 addresses (RFC 6052 §2.2).
	translated map[netip.Prefix]bool
}

// NewOriginals are none.
func NewOriginals() *Originals {
	return &Originals{map[netip.Addr]bool{}, map[netip.Prefix]bool{}, map[hardware]bool{}, map[string]bool{}, map[string]bool{},
		map[netip.Prefix]bool{netip.MustParsePrefix("64:ff9b::/96"): true}}
}

// JSON takes note of what stands in a JSON value.
func (o *Originals) JSON(raw []byte) error {
	v, err := decode(raw)
	if err != nil {
		return err
	}
	walk(v, place{}, func(at place, s string) string { o.take(at, s); return s })
	return nil
}

func (o *Originals) take(at place, s string) {
	if at.holdsNames() {
		for part := range strings.SplitSeq(s, ",") {
			o.Name(part)
		}
	}
	scan(s, func(t token) string {
		switch t.sort {
		case isAddress:
			a := t.addr.WithZone("")
			if t.bits < 0 {
				if o.addresses[a] = true; toldByTranslator(a) {
					o.translated[netip.PrefixFrom(a, 96).Masked()] = true
				}
				break
			}
			p := netip.PrefixFrom(a, t.bits).Masked()
			if o.networks[p] = true; common(p) {
				break
			}
			o.addresses[a], o.addresses[p.Addr()] = true, true
		case isHardware:
			o.hardware[t.hardware] = true
		}
		return t.text
	})
}

// toldByTranslator reports an address that stands for ipv4only.arpa's, and so tells a translator's network (RFC 7050 §3).
func toldByTranslator(a netip.Addr) bool {
	raw := a.AsSlice()
	return a.Is6() && (bytes.Equal(raw[12:], []byte{192, 0, 0, 170}) || bytes.Equal(raw[12:], []byte{192, 0, 0, 171}))
}

// common reports a network that says nothing of a place: those that every host knows, and large parts of all there is.
func common(p netip.Prefix) bool { return p.Bits() < 8 || slices.Contains(apart, p) }

// Name takes note of a name.
func (o *Originals) Name(s string) {
	s = hostOf(strings.Trim(s, "."))
	if _, err := netip.ParsePrefix(s); err == nil || s == "" {
		return
	}
	if _, err := netip.ParseAddr(s); err == nil {
		return
	}
	lower := strings.ToLower(s)
	if strings.HasSuffix(lower, ".in-addr.arpa") || strings.HasSuffix(lower, ".ip6.arpa") {
		return
	}
	if instance, rest, ok := strings.Cut(s, "._"); ok && strings.ContainsFunc(instance, strange) { // an instance of a service
		o.phrases[instance] = true
		s = "_" + rest
	}
	if strings.ContainsFunc(s, strange) {
		o.phrases[s] = true
		return
	}
	for _, label := range labelsOf(s) {
		o.labels[label] = true
	}
}

// hostOf is what names a host in a URL (RFC 3986 §3.2.2), or beside a port, or in the common name of a certificate (RFC 4514 §3).
func hostOf(s string) string {
	if _, after, ok := strings.Cut(s, "://"); ok {
		s, _, _ = strings.Cut(after, "/")
	}
	s = strings.TrimPrefix(s, "CN=")
	if at := strings.LastIndexByte(s, ':'); at > 0 && isNumber(s[at+1:]) && (s[at-1] == ']' || strings.Count(s, ":") == 1) {
		s = s[:at]
	}
	return strings.Trim(s, "[]")
}

// strange reports what does not stand in the name of a host.
func strange(r rune) bool { return !inName(r) && r != '.' && r != '*' }

func inName(r rune) bool {
	return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '_'
}

func decode(raw []byte) (v any, err error) {
	d := json.NewDecoder(bytes.NewReader(raw))
	d.UseNumber()
	return v, d.Decode(&v)
}

func encode(v any) ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	err := e.Encode(v)
	return bytes.TrimRight(b.Bytes(), "\n"), err
}
