// Package site is the site sheet: the documented network with which a machine and its segment are compared. What a sheet does not say is
// not judged.
package site

import (
	"net/netip"
	"slices"
	"strings"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/target"
)

// Sheet is what is documented of a site. It is a value to be looked at, not changed.
type Sheet struct {
	Name     string
	Source   string // the file it came from
	Networks []Network
	Services []Service
}

// Network is one documented segment. Zero fields are not documented.
type Network struct {
	Name      string
	Prefixes  []netip.Prefix // masked; one of each family is usual
	Gateways  []netip.Addr
	Routers   []endpoint.HardwareAddr // the hardware addresses under which the gateways are known to answer
	DHCP      []netip.Addr
	Resolvers []netip.Addr
	Domain    string
	Ranges    []Range
	Fixed     []Fixed
	SpeedMbit int // of a port on this segment
	Duplex    endpoint.Duplex
	Switch    string // where its cables lead, as the switch calls itself
	VLAN      int
}

// Range is a stretch of addresses and its use.
type Range struct {
	From, To netip.Addr
	Use      string
}

// Contains reports whether a lies in the range.
func (r Range) Contains(a netip.Addr) bool { return r.From.Compare(a) <= 0 && a.Compare(r.To) <= 0 }

// Fixed is an address that belongs to one machine.
type Fixed struct {
	Address  netip.Addr
	Name     string
	Hardware endpoint.HardwareAddr
}

// Service is something that the site's users should reach.
type Service struct {
	Target target.Target
	Delay  time.Duration // the longest usual time to open a connection; 0: not documented
}

// Home is the documented network to which a machine belongs: the one that lists it by hardware address or name, else the only one there is.
func (s *Sheet) Home(host string, hardware endpoint.HardwareAddr) (Network, bool) {
	if s == nil {
		return Network{}, false
	}
	for _, n := range s.Networks {
		if _, ok := n.Machine(host, hardware); ok {
			return n, true
		}
	}
	if len(s.Networks) == 1 {
		return s.Networks[0], true
	}
	return Network{}, false
}

// At is the documented network that holds an address, the narrowest of several.
func (s *Sheet) At(a netip.Addr) (best Network, ok bool) {
	if s == nil {
		return best, false
	}
	bits := -1
	for _, n := range s.Networks {
		for _, p := range n.Prefixes {
			if p.Contains(a.WithZone("")) && p.Bits() > bits {
				best, ok, bits = n, true, p.Bits()
			}
		}
	}
	return best, ok
}

// Machine finds a machine's fixed address on the network: by its hardware address, else by its name, with or without the domain.
func (n Network) Machine(host string, hardware endpoint.HardwareAddr) (Fixed, bool) {
	for _, f := range n.Fixed {
		if !f.Hardware.IsZero() && f.Hardware == hardware {
			return f, true
		}
	}
	for _, f := range n.Fixed {
		if f.Name != "" && host != "" && strings.EqualFold(short(f.Name), short(host)) {
			return f, true
		}
	}
	return Fixed{}, false
}

func short(name string) string {
	name, _, _ = strings.Cut(name, ".")
	return name
}

// Holder is what is documented of an address on the network; false if it belongs to nobody.
func (n Network) Holder(a netip.Addr) (Fixed, bool) {
	for _, f := range n.Fixed {
		if f.Address == a {
			return f, true
		}
	}
	return Fixed{}, false
}

// Use says what an address of the network is for: whose it is, which part of the network it is, or the range in which it lies; "" if the
// sheet does not know.
func (n Network) Use(a netip.Addr) string {
	if f, ok := n.Holder(a); ok && f.Name != "" {
		return f.Name
	}
	switch {
	case slices.Contains(n.Gateways, a):
		return "gateway"
	case slices.Contains(n.DHCP, a):
		return "DHCP server"
	case slices.Contains(n.Resolvers, a):
		return "name server"
	}
	for _, r := range n.Ranges {
		if r.Contains(a) {
			return r.Use
		}
	}
	return ""
}

// Prefix is the network's prefix of a family; false if none is documented.
func (n Network) Prefix(v6 bool) (netip.Prefix, bool) {
	for _, p := range n.Prefixes {
		if p.Addr().Is6() == v6 {
			return p, true
		}
	}
	return netip.Prefix{}, false
}

// Gateway is the network's gateway of a family; false if none is documented.
func (n Network) Gateway(v6 bool) (netip.Addr, bool) {
	for _, g := range n.Gateways {
		if g.Is6() == v6 {
			return g, true
		}
	}
	return netip.Addr{}, false
}

// Contains reports whether an address lies in one of the network's prefixes.
func (n Network) Contains(a netip.Addr) bool {
	return slices.ContainsFunc(n.Prefixes, func(p netip.Prefix) bool { return p.Contains(a.WithZone("")) })
}

// Overlaps reports whether a prefix shares addresses with the network.
func (n Network) Overlaps(p netip.Prefix) bool {
	return slices.ContainsFunc(n.Prefixes, func(own netip.Prefix) bool { return own.Overlaps(p) })
}

// Allowed is the longest usual time to open a connection to a target; false if the sheet does not say.
func (s *Sheet) Allowed(t target.Target) (time.Duration, bool) {
	if s == nil {
		return 0, false
	}
	for _, x := range s.Services {
		if x.Delay > 0 && x.Target.Host() == t.Host() && (x.Target.Port == 0 || x.Target.Port == t.Port) {
			return x.Delay, true
		}
	}
	return 0, false
}
