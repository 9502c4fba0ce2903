package change

import (
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/target"
	"passepartout/internal/core/wiretext"
)

// What a person writes of a change, on the command line and on the screen: read here, and refused in one line that says how to mend it.

// ParsePrefix reads an address with its prefix length.
func ParsePrefix(text string) (netip.Prefix, error) {
	p, err := netip.ParsePrefix(text)
	if err != nil {
		return p, fmt.Errorf("%q: give an address with its prefix length, such as 172.27.40.23/24", wiretext.Clip(text))
	}
	return p, nil
}

// ParseAddr reads an address.
func ParseAddr(text string) (netip.Addr, error) {
	a, err := netip.ParseAddr(text)
	if err != nil {
		return a, fmt.Errorf("%q is no address; give one such as 172.27.40.1", wiretext.Clip(text))
	}
	return a, nil
}

// ParseDevice reads the address of a device, in a /24 where no other length is given.
func ParseDevice(text string) (netip.Prefix, error) {
	if !strings.Contains(text, "/") {
		text += "/24"
	}
	p, err := netip.ParsePrefix(text)
	if err != nil {
		return p, fmt.Errorf("%q: give the device's address, such as 192.168.1.1 or 192.168.1.1/24", wiretext.Clip(text))
	}
	return p, nil
}

// ParseDestination reads where a route leads; default is everywhere, in the family of the router.
func ParseDestination(text string, via netip.Addr) (netip.Prefix, error) {
	switch {
	case text == "default" && via.Is6():
		return netip.PrefixFrom(netip.IPv6Unspecified(), 0), nil
	case text == "default":
		return netip.PrefixFrom(netip.IPv4Unspecified(), 0), nil
	}
	return ParsePrefix(text)
}

// ParseMTU reads a number of octets.
func ParseMTU(text string) (int, error) {
	n, err := strconv.Atoi(text)
	if err != nil {
		return 0, fmt.Errorf("%q is no number of octets; give one such as 1500", wiretext.Clip(text))
	}
	return n, nil
}

// ParseStatic reads an interface's settings: address with length, then gateway and name servers where those are to be others.
func ParseStatic(words []string, iface string) (*Static, error) {
	s := &Static{Interface: iface}
	var err error
	if len(words) == 0 {
		return nil, errors.New("give an address with its prefix length, such as 172.27.40.23/24")
	}
	if s.Address, err = ParsePrefix(words[0]); err != nil {
		return nil, err
	}
	for i, w := range words[1:] {
		a, err := ParseAddr(w)
		switch {
		case err != nil:
			return nil, err
		case i == 0:
			s.Gateway = a
		default:
			s.Resolvers = append(s.Resolvers, a)
		}
	}
	return s, nil
}

// ParseRoute reads a route: where it leads, then the router and the metric where those are to be given.
func ParseRoute(words []string, iface string) (o Op, err error) {
	o = Op{Do: AddRoute, Interface: iface}
	if len(words) == 0 || len(words) > 3 {
		return o, errors.New("give where it leads, and by which router: 203.0.113.0/24 172.27.40.1, or default 172.27.40.1")
	}
	if len(words) > 1 {
		if o.Via, err = ParseAddr(words[1]); err != nil {
			return o, err
		}
	}
	if len(words) > 2 {
		if o.Metric, err = strconv.Atoi(words[2]); err != nil || o.Metric < 0 {
			return o, fmt.Errorf("%q is no metric; give a number such as 100, the least is taken first", wiretext.Clip(words[2]))
		}
	}
	o.Prefix, err = ParseDestination(words[0], o.Via)
	return o, err
}

// ParseNeighbour reads an entry of the neighbour table: an address, and at which hardware address it is.
func ParseNeighbour(words []string, iface string) (o Op, err error) {
	o = Op{Do: AddNeighbour, Interface: iface}
	if len(words) != 2 {
		return o, errors.New("give an address and its hardware address: 172.27.40.1 02:00:00:00:28:01")
	}
	if o.Address, err = ParseAddr(words[0]); err != nil {
		return o, err
	}
	o.Hardware, err = endpoint.ParseHardware(words[1])
	return o, err
}

// ParseSearch reads the domains with which short names are completed; the name servers stay.
func ParseSearch(words []string, iface string, resolvers []netip.Addr) (o Op, err error) {
	for _, w := range words {
		if t, err := target.Parse(w); err != nil || t.Name == "" || t.Port != 0 || t.URL != "" {
			return o, fmt.Errorf("%q is no domain; give one such as kittiwake.example", wiretext.Clip(w))
		}
	}
	return Op{Do: SetResolvers, Interface: iface, Resolvers: resolvers, Search: words}, nil
}

// Removals are what can be taken away of an interface, and of what counts for all of them.
func (s *Settings) Removals(iface string) (out []Op) {
	for _, a := range s.Addresses {
		if a.Interface == iface {
			out = append(out, addressOp(RemoveAddress, a))
		}
	}
	for _, r := range s.Routes {
		if r.Interface == iface {
			out = append(out, routeOp(RemoveRoute, r))
		}
	}
	for _, n := range s.Neighbours {
		if n.Interface == iface {
			out = append(out, neighbourOp(RemoveNeighbour, n))
		}
	}
	for _, r := range s.Rules {
		if !r.everybodys() {
			out = append(out, ruleOp(RemoveRule, r))
		}
	}
	for _, h := range s.Hosts {
		if !h.Address.IsLoopback() && !h.Address.IsMulticast() {
			out = append(out, hostOp(RemoveHost, h))
		}
	}
	return out
}

// everybodys reports whether it is one of those with which every machine begins (rules 0, 32766, 32767: ip-rule(8)).
func (r Rule) everybodys() bool {
	return !r.From.IsValid() && !r.To.IsValid() && (r.Priority == 0 || r.Priority >= 32766)
}
