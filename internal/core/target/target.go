// Package target reads what should be reachable: the question against which everything is judged.
package target

import (
	"fmt"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"unicode/utf8"

	"golang.org/x/net/idna"
)

// Target is what should be reachable. The zero Target asks for the gateway, the name servers, and whether anybody past them answers.
type Target struct {
	text string
	Name string     // the host name, lower case and without a final dot, or ""
	Addr netip.Addr // the address, when one was given in place of a name
	Port uint16     // 0: anything at all coming back is enough
	URL  string     // the whole URL, when the service must answer a request
	TLS  bool       // the URL is https
}

// IsZero reports whether nothing was asked for.
func (t Target) IsZero() bool { return t == Target{} }

// String gives the target as it was typed, without surrounding space.
func (t Target) String() string { return t.text }

// Host gives the name or the address without the port.
func (t Target) Host() string {
	if t.Name != "" {
		return t.Name
	}
	if t.Addr.IsValid() {
		return t.Addr.String()
	}
	return ""
}

// WithAddr is the same service at a given address; the port is that of the target, or the one that its URL implies.
func (t Target) WithAddr(a netip.Addr) netip.AddrPort { return netip.AddrPortFrom(a, t.Port) }

type parseError struct{ in, msg string }

func (e parseError) Error() string {
	return fmt.Sprintf("target %s: %s; give a name, an address, name:port, [v6]:port or an http(s):// URL", strconv.Quote(clip(e.in)),
		e.msg)
}

func clip(s string) string {
	if len(s) > 80 {
		return s[:77] + "..."
	}
	return s
}

// Parse reads `name`, `address`, `name:port`, `address:port`, `[v6]:port` or an http(s) URL. Empty input gives the zero Target.
func Parse(in string) (Target, error) {
	text := strings.TrimSpace(in)
	if text == "" {
		return Target{}, nil
	}
	t := Target{text: text}
	if strings.Contains(text, "://") {
		return t.fromURL(text)
	}
	host, port := text, ""
	if addr, err := netip.ParseAddr(text); err == nil {
		return t.withAddr(addr)
	}
	if inside, rest, bracketed := strings.Cut(strings.TrimPrefix(text, "["), "]"); strings.HasPrefix(text, "[") {
		if addr, err := netip.ParseAddr(inside); err != nil || !addr.Is6() || !bracketed {
			return Target{}, parseError{in, "no IPv6 address between the brackets"}
		}
		host = inside
		if rest != "" {
			if !strings.HasPrefix(rest, ":") {
				return Target{}, parseError{in, "only a colon and a port may follow the brackets"}
			}
			if port = rest[1:]; port == "" {
				return Target{}, parseError{in, "nothing follows the colon"}
			}
		}
	} else if before, after, colon := strings.Cut(text, ":"); colon {
		if strings.Contains(after, ":") {
			return Target{}, parseError{in, "neither an address nor name:port"}
		}
		if host, port = before, after; port == "" {
			return Target{}, parseError{in, "nothing follows the colon"}
		}
	}
	if port != "" {
		n, err := strconv.ParseUint(port, 10, 16)
		if err != nil || n == 0 {
			return Target{}, parseError{in, "a port is a number from 1 to 65535"}
		}
		t.Port = uint16(n)
	}
	return t.withHost(host, in)
}

func (t Target) fromURL(text string) (Target, error) {
	u, err := url.Parse(text)
	if err != nil {
		return Target{}, parseError{text, "not a URL"}
	}
	switch u.Scheme {
	case "http":
		t.Port = 80
	case "https":
		t.Port, t.TLS = 443, true
	default:
		return Target{}, parseError{text, "only http and https URLs can be asked for"}
	}
	if p := u.Port(); p != "" {
		n, err := strconv.ParseUint(p, 10, 16)
		if err != nil || n == 0 {
			return Target{}, parseError{text, "a port is a number from 1 to 65535"}
		}
		t.Port = uint16(n)
	}
	if u.User != nil {
		return Target{}, parseError{text, "leave user name and password out"}
	}
	if ascii, err := inASCII(u.Hostname()); err == nil && ascii != u.Hostname() {
		u.Host = strings.Replace(u.Host, u.Hostname(), ascii, 1)
	}
	t.URL = u.String()
	return t.withHost(u.Hostname(), text)
}

func (t Target) withHost(host, in string) (Target, error) {
	if addr, err := netip.ParseAddr(host); err == nil {
		return t.withAddr(addr)
	}
	name, err := inASCII(strings.ToLower(strings.TrimSuffix(host, ".")))
	if err != nil {
		return Target{}, parseError{in, "this is no name in any script (RFC 5891)"}
	}
	if why := nameFlaw(name); why != "" {
		return Target{}, parseError{in, why}
	}
	t.Name = name
	return t, nil
}

// inASCII is a name as DNS has it: what is written in other scripts goes by its A-labels (RFC 5890 §2.3.2.1).
func inASCII(name string) (string, error) {
	if !strings.ContainsFunc(name, func(r rune) bool { return r >= utf8.RuneSelf }) {
		return name, nil
	}
	return idna.Lookup.ToASCII(name)
}

func (t Target) withAddr(addr netip.Addr) (Target, error) {
	t.Addr = addr.Unmap()
	switch {
	case t.Addr.IsUnspecified():
		return Target{}, parseError{t.text, "this address means no host"}
	case t.Addr.IsMulticast(), t.Addr == netip.AddrFrom4([4]byte{255, 255, 255, 255}):
		return Target{}, parseError{t.text, "this address means a group of hosts, not one"}
	}
	return t, nil
}

// nameFlaw says what keeps name from being a host name (RFC 1123 §2.1, with the underscore that is met in practice), or "".
func nameFlaw(name string) string {
	switch {
	case name == "":
		return "the name is empty"
	case len(name) > 253:
		return "a name has at most 253 characters (RFC 1035)"
	}
	labels := strings.Split(name, ".")
	for _, label := range labels {
		switch {
		case label == "":
			return "two dots in a row"
		case len(label) > 63:
			return "a part between dots has at most 63 characters (RFC 1035)"
		case strings.HasPrefix(label, "-") || strings.HasSuffix(label, "-"):
			return "a part between dots neither begins nor ends with a hyphen"
		}
		for _, r := range label {
			if (r < 'a' || r > 'z') && (r < '0' || r > '9') && r != '-' && r != '_' {
				return fmt.Sprintf("%q cannot stand in a name", r)
			}
		}
	}
	if last := labels[len(labels)-1]; strings.Trim(last, "0123456789") == "" {
		// a top-level domain is never all digits (RFC 3696 §2)
		return "this looks like an IPv4 address and is none: four numbers from 0 to 255"
	}
	return ""
}

// MarshalText gives the target as it was typed.
func (t Target) MarshalText() ([]byte, error) { return []byte(t.text), nil }

// UnmarshalText reads a target as Parse does.
func (t *Target) UnmarshalText(text []byte) (err error) {
	*t, err = Parse(string(text))
	return err
}
