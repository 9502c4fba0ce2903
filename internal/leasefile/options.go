package leasefile

import (
	"encoding/binary"
	"encoding/hex"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/subnet"
	"passepartout/internal/core/wiretext"
)

// named are the names under which clients write options into text files, with hyphens.
var named = map[string]uint8{
	"subnet-mask": 1, "time-offset": 2, "routers": 3, "time-servers": 4, "domain-name-servers": 6, "log-servers": 7, "host-name": 12,
	"domain-name": 15, "root-path": 17,
	"interface-mtu": 26, "broadcast-address": 28, "static-routes": 33, "nis-domain": 40, "nis-servers": 41, "ntp-servers": 42,
	"vendor-encapsulated-options": 43,
	"netbios-name-servers":        44, "netbios-dd-server": 45, "netbios-node-type": 46, "netbios-scope": 47, "dhcp-requested-address": 50,
	"dhcp-lease-time": 51, "dhcp-message-type": 53,
	"dhcp-server-identifier": 54, "dhcp-parameter-request-list": 55, "dhcp-message": 56, "dhcp-renewal-time": 58, "dhcp-rebinding-time": 59,
	"vendor-class-identifier": 60,
	"dhcp-client-identifier":  61, "tftp-server-name": 66, "bootfile-name": 67, "fqdn": 81, "v6-only-preferred": 108, "captive-portal": 114,
	"domain-search":           119,
	"classless-static-routes": 121, "rfc3442-classless-static-routes": 121, "ms-classless-static-routes": 249, "wpad": 252,
}

// code finds an option by the name that a client's file uses.
func code(name string) (uint8, bool) {
	name = strings.ReplaceAll(strings.ToLower(name), "_", "-")
	if c, ok := named[name]; ok {
		return c, true
	}
	digits, ok := strings.CutPrefix(name, "unknown-")
	if !ok {
		digits, ok = strings.CutPrefix(name, "option-")
	}
	if n, err := strconv.ParseUint(digits, 10, 8); ok && err == nil {
		return uint8(n), true
	}
	return 0, false
}

// put takes one option as text into the terms, and into the list in words. Values that make no sense are kept in the list alone.
func put(t *dhcp.Terms, list *[]dhcp.Described, c uint8, value string) {
	value = strings.TrimSpace(value)
	d := dhcp.Described{Code: c, Name: dhcp.Name(c), Value: wiretext.Clean(value)}
	words := func() []string {
		return strings.FieldsFunc(value, func(r rune) bool { return r == ' ' || r == ',' || r == '\t' })
	}
	addrs := func() (out []netip.Addr) {
		for _, w := range words() {
			if a, err := netip.ParseAddr(w); err == nil && a.Is4() && !a.IsUnspecified() {
				out = append(out, a)
			}
		}
		return out
	}
	one := func() netip.Addr {
		if list := addrs(); len(list) > 0 {
			return list[0]
		}
		return netip.Addr{}
	}
	number := func() (uint64, bool) {
		if value == "infinity" || value == "infinite" {
			return 0xffffffff, true
		}
		n, err := strconv.ParseUint(value, 10, 32)
		return n, err == nil
	}
	bytes := func(b []byte) { d = dhcp.Describe(dhcp.Option{Code: c, Data: b}) }
	switch c {
	case dhcp.OptMask:
		if a := one(); a.IsValid() {
			t.PrefixLength, _ = subnet.LengthOf(a)
			bytes(a.AsSlice())
		}
	case dhcp.OptRouters:
		if len(t.Routes) == 0 {
			t.Routers = addrs()
		}
	case dhcp.OptResolvers:
		t.Resolvers = addrs()
	case dhcp.OptTimeServers:
		t.TimeServers = addrs()
	case dhcp.OptServer:
		t.Server = one()
	case dhcp.OptDomain:
		t.Domain = wiretext.Clean(unquote(value))
		d.Value = t.Domain
	case dhcp.OptSearch:
		t.Search = nil
		for _, w := range words() {
			if w = wiretext.Clean(strings.TrimSuffix(unquote(w), ".")); w != "" {
				t.Search = append(t.Search, w)
			}
		}
		d.Value = strings.Join(t.Search, ", ")
	case dhcp.OptLease, dhcp.OptT1, dhcp.OptT2:
		n, ok := number()
		if !ok {
			break
		}
		bytes(binary.BigEndian.AppendUint32(nil, uint32(n)))
		length := time.Duration(n) * time.Second
		switch c {
		case dhcp.OptLease:
			t.Lease = length
		case dhcp.OptT1:
			t.T1, t.OwnT1 = length, true
		case dhcp.OptT2:
			t.T2, t.OwnT2 = length, true
		}
	case dhcp.OptMTU:
		if n, ok := number(); ok {
			t.MTU = int(n)
		}
	case dhcp.OptType:
		if n, ok := number(); ok && n < 256 {
			bytes([]byte{byte(n)})
		}
	case dhcp.OptClasslessRoutes:
		if raw, ok := octetList(value); ok {
			m := dhcp.Message{Options: []dhcp.Option{{Code: c, Data: raw}}}
			setRoutes(t, m.Terms().Routes)
			bytes(raw)
		} else {
			setRoutes(t, textRoutes(words()))
		}
	case dhcp.OptCaptivePortal, dhcp.OptProxyConfig:
		text := unquote(value)
		if raw, err := hex.DecodeString(strings.ReplaceAll(text, ":", "")); err == nil && len(raw) > 0 {
			text = string(raw)
		}
		d.Value = wiretext.Clean(strings.TrimRight(text, "\x00"))
		if c == dhcp.OptCaptivePortal {
			t.CaptivePortal = d.Value
		} else {
			t.ProxyConfig = d.Value
		}
	default:
		d.Value = wiretext.Clean(unquote(value))
	}
	*list = append(*list, d)
}

// setRoutes puts classless routes in force: their default routes are the routers, and option 3 counts no more (RFC 3442).
func setRoutes(t *dhcp.Terms, routes []dhcp.Route) {
	if len(routes) == 0 {
		return
	}
	t.Routes, t.Routers = routes, nil
	for _, r := range routes {
		if r.To.Bits() == 0 && r.Via.IsValid() {
			t.Routers = append(t.Routers, r.Via)
		}
	}
}

// octetList reads "24,172,27,50,172,27,40,1" or the same with spaces.
func octetList(s string) ([]byte, bool) {
	var out []byte
	for _, w := range strings.FieldsFunc(s, func(r rune) bool { return r == ',' || r == ' ' }) {
		n, err := strconv.ParseUint(w, 10, 8)
		if err != nil {
			return nil, false
		}
		out = append(out, byte(n))
	}
	return out, len(out) > 0
}

// textRoutes reads routes as text: "172.27.50.0/24,172.27.40.1" taken apart into words, destination and router by turns.
func textRoutes(words []string) (out []dhcp.Route) {
	for i := 0; i+1 < len(words); i += 2 {
		to, err := netip.ParsePrefix(words[i])
		if err != nil {
			return out
		}
		via, err := netip.ParseAddr(words[i+1])
		if err != nil {
			return out
		}
		if via.IsUnspecified() {
			via = netip.Addr{}
		}
		out = append(out, dhcp.Route{To: to, Via: via})
	}
	return out
}

// unquote takes the quotes off a text and undoes its escapes: \" and \\ and three octal digits.
func unquote(s string) string {
	if len(s) < 2 || s[0] != '"' || s[len(s)-1] != '"' {
		return s
	}
	s = s[1 : len(s)-1]
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '\\' || i+1 == len(s) {
			b.WriteByte(s[i])
			continue
		}
		if i+3 < len(s) {
			if n, err := strconv.ParseUint(s[i+1:i+4], 8, 8); err == nil {
				b.WriteByte(byte(n))
				i += 3
				continue
			}
		}
		i++
		b.WriteByte(s[i])
	}
	return b.String()
}
