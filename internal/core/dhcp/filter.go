package dhcp

import (
	"net/netip"
	"strings"
)

// Filter picks exchanges. Zero fields match anything.
type Filter struct {
	Client  Hardware
	Host    string     // a part of the host name, in any case
	Address netip.Addr // asked for, offered, given or in use
	Relay   netip.Addr
	XID     uint32
	HasXID  bool // XID counts, even if it is 0
}

// IsZero reports whether it matches everything.
func (f Filter) IsZero() bool { return f == Filter{} }

// Matches reports whether an exchange is one of those that are looked for.
func (f Filter) Matches(e *Exchange) bool {
	switch {
	case f.Client != (Hardware{}) && f.Client != e.Client,
		f.Host != "" && !strings.Contains(strings.ToLower(e.Hostname), strings.ToLower(f.Host)),
		f.Relay.IsValid() && !e.through(f.Relay),
		f.HasXID && !e.hasXID(f.XID),
		f.Address.IsValid() && !e.concerns(f.Address):
		return false
	}
	return true
}

func (e *Exchange) through(relay netip.Addr) bool {
	for i := range e.Steps {
		if e.Steps[i].Message.Relay == relay {
			return true
		}
	}
	return false
}

func (e *Exchange) concerns(a netip.Addr) bool {
	if e.Terms.Address == a || e.Requested == a {
		return true
	}
	for i := range e.Steps {
		if m := &e.Steps[i].Message; m.Own == a || m.Your == a || m.Requested() == a {
			return true
		}
	}
	return false
}

// ParseFilter reads words such as "02:00:00:00:10:17", "ticket-03", "172.27.40.23", "relay 172.27.50.1" or "0x3903f326"; false with the
// word that says nothing.
func ParseFilter(s string) (f Filter, bad string) {
	words := strings.Fields(s)
	for i := 0; i < len(words); i++ {
		w := words[i]
		if w == "relay" && i+1 < len(words) {
			a, err := netip.ParseAddr(words[i+1])
			if err != nil {
				return f, words[i+1]
			}
			f.Relay, i = a, i+1
			continue
		}
		if a, err := netip.ParseAddr(w); err == nil {
			f.Address = a
		} else if h, ok := ParseHardware(w); ok && strings.ContainsAny(w, ":-") && len(h.Bytes()) >= 6 {
			f.Client = h
		} else if x, ok := ParseXID(w); ok {
			f.XID, f.HasXID = x, true
		} else {
			f.Host = w
		}
	}
	return f, ""
}

// ParseXID reads a transaction id: hexadecimal after 0x.
func ParseXID(s string) (uint32, bool) {
	digits, ok := strings.CutPrefix(strings.ToLower(s), "0x")
	if !ok || digits == "" || len(digits) > 8 {
		return 0, false
	}
	var v uint32
	for _, c := range digits {
		d := strings.IndexRune("0123456789abcdef", c)
		if d < 0 {
			return 0, false
		}
		v = v<<4 | uint32(d)
	}
	return v, true
}
