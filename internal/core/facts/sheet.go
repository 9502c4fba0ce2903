package facts

import (
	"net/netip"
	"slices"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/site"
)

// Home is the documented network to which this machine belongs; false where no sheet says.
func (f *Facts) Home() (site.Network, bool) {
	x := f.home.of(func() (x found[site.Network]) {
		x.thing, x.there = f.reckonHome()
		return x
	})
	return x.thing, x.there
}

func (f *Facts) reckonHome() (site.Network, bool) {
	if f.Endpoint == nil || f.Sheet == nil {
		return site.Network{}, false
	}
	var hw endpoint.HardwareAddr
	if f.Iface != nil {
		hw = f.Iface.Hardware
	}
	return f.Sheet.Home(f.Endpoint.Host, hw)
}

// Here is the documented network on which this machine stands by its address, which must be the one to which it belongs: what it says holds
// for this segment.
func (f *Facts) Here() (site.Network, bool) {
	home, ok := f.Home()
	if !ok || f.Iface == nil ||
		!slices.ContainsFunc(f.Iface.Addresses, func(a endpoint.Address) bool { return home.Contains(a.Prefix.Addr()) }) {
		return site.Network{}, false
	}
	return home, true
}

// ResolversNamed are the name servers that somebody names for this segment, set here or not, each with who says so: the lease, offers,
// routers, the site sheet.
func (f *Facts) ResolversNamed() (list []netip.Addr, by map[netip.Addr]string) {
	by = map[netip.Addr]string{}
	add := func(who string, addrs ...netip.Addr) {
		for _, a := range addrs {
			if by[a] == "" {
				by[a] = who
				list = append(list, a)
			}
		}
	}
	if l, ok := f.Lease(); ok {
		add("the lease", l.Terms.Resolvers...)
	}
	offers, _ := f.OffersSeen()
	for _, o := range offers {
		add(o.Server.String()+"'s offer", o.Resolvers...)
	}
	for _, r := range f.Routers6 {
		add(r.Router.String()+"'s advertisement", r.Resolvers...)
	}
	if home, ok := f.Home(); ok {
		add("the site sheet", home.Resolvers...)
	}
	return list, by
}
