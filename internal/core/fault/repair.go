package fault

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"passepartout/internal/core/change"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/subnet"
	"passepartout/internal/core/wording"
)

// settings are the whole of what a machine needs on its segment. They are set together, since on many systems changing one of them alone
// loses the others.
type settings struct {
	address   netip.Prefix
	gateways  []netip.Addr
	resolvers []netip.Addr
	who       string // who says so and the verb, of what is not as it is set now: "172.27.40.2 offers"
}

// inFull advises to set all of a family together, and offers to do it.
func (f Finding) inFull(p *facts.Facts, v6 bool, want settings) Finding {
	want = completed(p, v6, want)
	return f.next(want.text(v6)+".").together(p, v6, want)
}

// together offers to set all of a family together.
func (f Finding) together(p *facts.Facts, v6 bool, want settings) Finding {
	want = completed(p, v6, want)
	if p.Iface == nil || !want.address.IsValid() {
		return f
	}
	set, now := change.Static{Interface: p.Iface.Name, Address: want.address}, settingsNow(p, v6)
	var parts []string
	if set.Address != now.address {
		parts = append(parts, "address "+set.Address.String())
	}
	if len(want.gateways) > 0 {
		if set.Gateway = want.gateways[0]; !slices.Contains(now.gateways, set.Gateway) {
			parts = append(parts, fmt.Sprintf("gateway %v", set.Gateway.WithZone("")))
		}
	}
	if len(want.resolvers) > 0 && !slices.Equal(now.resolvers, want.resolvers) {
		set.Resolvers = append(slices.Clone(want.resolvers), ofFamily(p.Endpoint.AskedResolvers(), !v6)...)
		parts = append(parts, "name servers "+wording.List(set.Resolvers))
	}
	does := "Set " + p.Iface.Name
	if !p.Iface.Up {
		does = "Switch " + p.Iface.Name + " on"
	}
	title := does + ": " + strings.Join(parts, ", ")
	if len(parts) == 0 {
		title = does
	}
	from := want.who
	if from != "" {
		from += " it"
	}
	return f.mends(title, from, change.Change{Set: &set})
}

// leases offers to take the lease that a server offers, where no client of DHCP manages the interface.
func (f Finding) leases(p *facts.Facts, o evidence.Offer) Finding {
	if p.Iface == nil {
		return f
	}
	if lease, ok := LeaseOf(p.Endpoint, p.Iface, o); ok {
		f.Mends = append(f.Mends, lease)
	}
	return f
}

// LeaseOf is the lease that a server offers, as a change of an interface that no client of DHCP manages; false for any other, and for an
// offer that cannot be used.
func LeaseOf(e *endpoint.Endpoint, i *endpoint.Interface, o evidence.Offer) (p change.Proposal, ok bool) {
	if i.Manager != "" || !o.Server.IsValid() || o.Terms.PrefixLength == 0 {
		return p, false
	}
	return change.Proposal{Title: fmt.Sprintf("Take the lease of %v on %s, and renew it while the program runs", o.Address.Addr(), i.Name),
		From: fmt.Sprintf("%v offers it", o.Server), Change: change.Lease(i.Name, o.Terms, change.Of(e))}, true
}

// completed gives all settings of a family as they should be: what the finding wants first, then what the site sheet, an offer, the lease
// or a router says, and what is set now where nobody says anything else.
func completed(p *facts.Facts, v6 bool, want settings) settings {
	has := func(list []netip.Addr) bool { return len(list) > 0 }
	take := func(s settings) {
		used := false
		if !want.address.IsValid() && s.address.IsValid() {
			want.address, used = s.address, true
		}
		if !has(want.gateways) && has(s.gateways) {
			want.gateways, used = s.gateways, true
		}
		if !has(want.resolvers) && has(s.resolvers) {
			want.resolvers, used = s.resolvers, true
		}
		if used && want.who == "" {
			want.who = s.who
		}
	}
	for _, s := range sayings(p, v6) {
		take(s)
	}
	take(settingsNow(p, v6))
	return want
}

// text says all of them.
func (want settings) text(v6 bool) string {
	has := func(list []netip.Addr) bool { return len(list) > 0 }
	parts := []string{}
	if want.address.IsValid() {
		parts = append(parts, want.address.String())
		if !v6 {
			parts = append(parts, "mask "+subnet.Mask(want.address))
		}
	}
	if has(want.gateways) {
		parts = append(parts, "gateway "+wording.List(want.gateways))
	}
	if has(want.resolvers) {
		parts = append(parts, "resolvers "+wording.List(want.resolvers))
	}
	text := "Set all of it together: " + strings.Join(parts, ", ")
	if want.who != "" {
		text += ", as " + want.who + " it"
	}
	return text
}

// sayings are what others say the settings should be, who counts most first.
func sayings(p *facts.Facts, v6 bool) (out []settings) {
	if home, ok := p.Here(); ok {
		s := settings{who: "the site sheet has", resolvers: ofFamily(home.Resolvers, v6)}
		if gw, ok := home.Gateway(v6); ok {
			s.gateways = []netip.Addr{gw}
		}
		out = append(out, s)
	}
	if v6 {
		for _, r := range p.Routers6 {
			if r.Lifetime > 0 {
				out = append(out,
					settings{gateways: []netip.Addr{r.Router}, resolvers: r.Resolvers, who: fmt.Sprintf("%v advertises", r.Router)})
			}
		}
		return out
	}
	offers, _ := p.OffersSeen()
	for _, o := range offers {
		s := settings{gateways: o.Routers, resolvers: o.Resolvers, who: fmt.Sprintf("%v offers", o.Server)}
		if a, ok := p.Address4(); !ok || !o.Address.Masked().Contains(a.Prefix.Addr()) {
			s.address = o.Address
		} else {
			s.address = netip.PrefixFrom(a.Prefix.Addr(), o.Address.Bits()) // the address stays: it lies in the offered network
		}
		out = append(out, s)
	}
	if l, ok := p.Lease(); ok {
		out = append(out,
			settings{address: l.Terms.Prefix(), gateways: l.Terms.Routers, resolvers: l.Terms.Resolvers, who: "the lease has"})
	}
	return out
}

// settingsNow is what is set now.
func settingsNow(p *facts.Facts, v6 bool) (s settings) {
	if p.Endpoint == nil || p.Iface == nil {
		return s
	}
	if own := p.Iface.Usable(v6); len(own) > 0 {
		s.address = own[0].Prefix
	}
	if gw, ok := p.Endpoint.Gateway(p.Iface.Name, v6); ok {
		s.gateways = []netip.Addr{gw}
	}
	s.resolvers = ofFamily(p.Endpoint.AskedResolvers(), v6)
	return s
}

func ofFamily(list []netip.Addr, v6 bool) (out []netip.Addr) {
	for _, a := range list {
		if a.Is6() == v6 {
			out = append(out, a)
		}
	}
	return out
}
