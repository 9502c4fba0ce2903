package site

import (
	"cmp"
	"net/netip"
	"slices"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/target"
)

// Learnt is what was seen of a healthy machine's network.
type Learnt struct {
	Site      string
	Endpoint  *endpoint.Endpoint
	Interface string
	DHCP      []netip.Addr // servers that offered
	Routers   []endpoint.HardwareAddr
	Met       []Fixed // machines that were seen on the segment
	Switch    string
	VLAN      int
	Services  []target.Target
}

// Learn writes down what a healthy machine's network is like. Addresses that come by DHCP from a range are not known to be anybody's for
// good: only routers, servers and machines with a name are listed.
func Learn(l Learnt) *Sheet {
	e := l.Endpoint
	n := Network{DHCP: l.DHCP, Routers: l.Routers, Switch: l.Switch, VLAN: l.VLAN}
	i, ok := e.Interface(l.Interface)
	if !ok {
		return &Sheet{Name: l.Site}
	}
	n.SpeedMbit, n.Duplex = i.SpeedMbit, i.Duplex
	for _, v6 := range []bool{false, true} {
		for _, a := range i.Usable(v6) {
			if p := a.Prefix.Masked(); !slices.Contains(n.Prefixes, p) {
				n.Prefixes = append(n.Prefixes, p)
			}
		}
		if gw, ok := e.Gateway(i.Name, v6); ok && (n.Contains(gw) || gw.IsLinkLocalUnicast()) {
			n.Gateways = append(n.Gateways, gw)
		}
	}
	for _, r := range e.AskedResolvers() {
		if !r.IsLoopback() {
			n.Resolvers = append(n.Resolvers, r)
		}
	}
	if lease, ok := e.Lease(i.Name); ok {
		n.Domain = lease.Terms.Domain
	}
	if n.Domain == "" && len(e.Search) > 0 {
		n.Domain = e.Search[0]
	}
	if n.Domain != "" {
		n.Name = short(n.Domain)
	}
	if own := i.Usable(false); len(own) > 0 {
		n.Fixed = append(n.Fixed, Fixed{Address: own[0].Prefix.Addr(), Name: e.Host, Hardware: i.Hardware})
	}
	for _, m := range l.Met {
		special := slices.Contains(n.Gateways, m.Address) || slices.Contains(n.DHCP, m.Address) || slices.Contains(n.Resolvers, m.Address)
		if _, taken := n.Holder(m.Address); taken || !n.Contains(m.Address) || m.Name == "" && !special {
			continue
		}
		n.Fixed = append(n.Fixed, m)
	}
	slices.SortFunc(n.Fixed, func(a, b Fixed) int { return cmp.Or(a.Address.Compare(b.Address), cmp.Compare(a.Name, b.Name)) })
	s := &Sheet{Name: l.Site, Networks: []Network{n}}
	for _, t := range l.Services {
		if !t.IsZero() {
			s.Services = append(s.Services, Service{Target: t})
		}
	}
	return s
}
