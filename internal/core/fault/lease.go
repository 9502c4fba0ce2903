package fault

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/lease"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

var leaseFaults = []*Fault{AddressExpired, MaskTooWide, DHCPRefuses, DHCPRogue, DHCPWrongOptions}

// overdue reports whether the lease has run out, or its T2 is past so that by now any server should have renewed it.
func overdue(p *facts.Facts) (l lease.Lease, ended, late bool) {
	l, ok := p.Lease()
	if !ok || l.Client == "" {
		return l, false, false
	}
	state := l.At(p.Endpoint.At)
	return l, state == lease.Expired, state == lease.Rebinding
}

// MaskTooWide: the mask takes in what lies beyond the gateway.
var MaskTooWide = &Fault{
	ID: "mask-too-wide", Zone: zone.Host, Place: 80, Scope: OfMachine, Matters: WhenTakenForANeighbour, Check: "address",
	Needs: []evidence.Kind{evidence.Settings, evidence.DHCPOffer, evidence.OtherNeighbours, evidence.Handoffs},
	Doc: `The mask is too wide
The mask of this machine's address takes in addresses that lie beyond the gateway. The machine asks for them on its own segment, where
nobody answers, and never hands them to the gateway, so that some places work and others do not. It is taken for a fault of the far
machine. Set address, mask, gateway and resolvers together, as a working neighbour has them.`,
	Judge: func(p *facts.Facts) Finding {
		a, ok := p.Address4()
		if !ok {
			return possible("there is no address whose mask could be judged")
		}
		if a.Prefix.Bits() >= 31 {
			return cleared("a mask of /%d takes in nobody but the peer", a.Prefix.Bits())
		}
		narrow, offered := longerOffer(p, a)
		wanted := p.WantedOnLink()
		var silent, unknown []netip.Addr
		for _, w := range wanted {
			switch n, asked := p.Neighbour(w); {
			case asked && n.Outcome == evidence.Silent:
				silent = append(silent, w)
			case !asked && p.Usable() != facts.Yes && slices.Contains(p.Addresses, w):
				unknown = append(unknown, w)
			}
		}
		if p.Leased() && offered && leaseHasMask(p, a.Prefix.Bits()) {
			offered = false // the lease's own mask, and another server's word: two servers that disagree
		}
		for _, w := range silent {
			by, through := p.ReachedThrough(w)
			beyond := offered && !narrow.Address.Masked().Contains(w)
			if !through && !beyond {
				continue
			}
			if wideByDHCP(p, a) {
				return cleared("the mask came with the lease: it is not this machine's own")
			}
			reasons := []string{
				fmt.Sprintf("%v lies within %v by the mask, and nobody on the segment answers for it", w, a.Prefix.Masked())}
			if through {
				reasons = append(reasons, fmt.Sprintf("handed to the gateway %v, a packet for %v is answered", by, w))
			}
			standing := Supported
			right := 0
			if offered {
				right = narrow.Address.Bits()
				reasons = append(reasons, fmt.Sprintf("%s %v", narrow.Who, narrow.Address))
			}
			if through || offered {
				standing = Confirmed
			}
			f := found(standing, fmt.Sprintf("The mask of %v is too wide: it takes in %v, which lies beyond the gateway.", a.Prefix, w),
				reasons...)
			if right > 0 {
				set := netip.PrefixFrom(a.Prefix.Addr(), right)
				return f.inFull(p, false, settings{address: set, gateways: narrow.Routers, resolvers: narrow.Resolvers, who: narrow.Who})
			}
			return f.next(fmt.Sprintf("Ask for the segment's real mask, or read it off a working neighbour; then set %v with that mask, "+
				"gateway %v and resolvers together.", a.Prefix.Addr(), by))
		}
		switch {
		case offered && len(silent) == 0 && p.Usable() == facts.Yes && !wideByDHCP(p, a):
			return found(Supported, fmt.Sprintf("The mask of %v is wider than it should be: %s %v.", a.Prefix, narrow.Who, narrow.Address)).
				aside(true).
				inFull(p, false,
					settings{address: netip.PrefixFrom(a.Prefix.Addr(), narrow.Address.Bits()), gateways: narrow.Routers,
						resolvers: narrow.Resolvers, who: narrow.Who})
		case len(unknown) > 0:
			return possible("whether %v is on this segment, as the mask says, has not been asked", unknown[0])
		case len(silent) == 0 && !p.IsOpen(evidence.OtherNeighbours):
			return cleared("nothing that was wanted lies within %v and keeps silent", a.Prefix.Masked())
		case len(silent) > 0 && p.IsWithheld(evidence.SegmentFrames):
			return possible("%v lies within %v by the mask and keeps silent; whether it lies beyond the gateway could not be asked",
				silent[0], a.Prefix.Masked())
		case len(silent) > 0 && !p.IsOpen(evidence.Handoffs, evidence.DHCPOffer):
			return cleared("%v is not reached through the gateway either", silent[0])
		}
		return possible("whether the mask takes in what lies beyond the gateway is not known yet")
	},
}

// longerOffer is an offer that shows the mask of a to be too short: its prefix is the narrower one, and holds a.
func longerOffer(p *facts.Facts, a endpoint.Address) (said, bool) {
	for _, o := range saidOf(p, a) {
		if o.Address.Bits() > a.Prefix.Bits() && o.Address.Bits() < 32 && o.Address.Masked().Contains(a.Prefix.Addr()) {
			return o, true
		}
	}
	return said{}, false
}

func leaseHasMask(p *facts.Facts, bits int) bool {
	l, ok := p.Lease()
	return ok && l.Terms.PrefixLength == bits
}

// wideByDHCP reports whether the mask of a leased address is the one that DHCP gives.
func wideByDHCP(p *facts.Facts, a endpoint.Address) bool {
	if !p.Leased() {
		return false
	}
	if l, ok := p.Lease(); ok && l.Terms.PrefixLength != 0 {
		return l.Terms.PrefixLength == a.Prefix.Bits()
	}
	offers, _ := p.OffersSeen()
	return len(offers) > 0 && !slices.ContainsFunc(offers, func(o evidence.Offer) bool { return o.Address.Bits() != a.Prefix.Bits() })
}

// AddressExpired: the lease is over, and the address still in use.
var AddressExpired = &Fault{
	ID: "address-expired", Zone: zone.Host, Place: 50, Scope: OfMachine, Matters: ByReach, Check: "address",
	Needs: []evidence.Kind{evidence.Settings, evidence.DHCPOffer, evidence.AddressConflict, evidence.GatewayNeighbour},
	Doc: `The lease has run out, and its address is still in use
The machine uses an address whose lease has run out, or that should have been renewed by any server by now, though a DHCP server answers.
Its DHCP client has died or hangs. What the lease said may no longer hold: the address may have been given to another, and the gateway may
have changed. Have the client ask again; restarting the port does it.`,
	Judge: func(p *facts.Facts) Finding {
		l, ended, late := overdue(p)
		offers, over := p.OffersSeen()
		switch {
		case !ended && !late:
			if _, ok := p.Lease(); ok {
				return cleared("the lease is %s", l.At(p.Endpoint.At))
			}
			return cleared("no lease is in force that could have run out")
		case len(offers) == 0 && p.IsWithheld(evidence.DHCPOffer):
			return possible("the lease of %v is over, and whether a DHCP server answers could not be asked", l.Terms.Address)
		case len(offers) == 0 && over:
			return cleared("no DHCP server answers that could have renewed the lease")
		case len(offers) == 0:
			return possible("the lease of %v is over, and no DHCP server has answered yet", l.Terms.Address)
		}
		o := offers[0]
		what := fmt.Sprintf("ran out at %s", l.Expires.Local().Format("2006-01-02 15:04"))
		if !ended {
			what = fmt.Sprintf("should have been renewed by any server since T2, at %s", wording.Clock(l.T2.Local()))
		}
		reasons := []string{fmt.Sprintf("%s's lease of %v %s", l.Client, l.Terms.Address, what),
			fmt.Sprintf("%v answers now and offers %v, router %s", o.Server, o.Address, wording.List(o.Routers))}
		explains := false
		for _, c := range p.Conflicts {
			if c.Outcome == evidence.Answered && c.Address == l.Terms.Address {
				explains = true
				reasons = append(reasons, fmt.Sprintf("another machine, %v, has the address now", c.Hardware))
			}
		}
		if p.Gateway.Is4() && p.GatewayFromDHCP() &&
			!slices.ContainsFunc(offers, func(o evidence.Offer) bool { return slices.Contains(o.Routers, p.Gateway) }) {
			explains = true
			reasons = append(reasons, fmt.Sprintf("the gateway %v is from that lease; it is %s now", p.Gateway, wording.List(o.Routers)))
		}
		if !slices.ContainsFunc(offers, func(o evidence.Offer) bool { return o.Address.Masked().Contains(l.Terms.Address) }) {
			explains = true
			reasons = append(reasons, fmt.Sprintf("the segment is %v now", o.Address.Masked()))
		}
		standing := Confirmed
		if !ended {
			standing = Supported
		}
		return found(standing, fmt.Sprintf("The lease of %v %s, and the address is still in use.", l.Terms.Address, what), reasons...).
			leases(p, o).
			aside(!explains).
			next(fmt.Sprintf(
				"Have the DHCP client of %s (%s) ask again, or restart the interface: it should get %v with gateway %s and resolvers %s.",
				p.Iface.Name, l.Client, o.Address, wording.List(o.Routers), wording.List(o.Resolvers)))
	},
}

// DHCPRefuses: a server is there, and gives this machine nothing.
var DHCPRefuses = &Fault{
	ID: "dhcp-refuses", Zone: zone.LocalSubnet, Place: 50, Scope: OfPlace, Matters: WhileThereIsNoAddress, Check: "dhcp",
	Needs: []evidence.Kind{evidence.Settings, evidence.DHCPOffer},
	Doc: `The DHCP server refuses this machine
A DHCP server is there and gives this machine no address: it answers its request with a refusal, or serves others and keeps silent for
this one. Its range is used up, it knows this machine and denies it, or the machine asks for an address of another network. It is taken
for a broken cable. Look into the server's log and range.`,
	Judge: func(p *facts.Facts) Finding {
		if why, ok := linked(p); !ok {
			return possible("%s", why)
		}
		_, ended, late := overdue(p)
		if hasRoutable4(p) && !ended && !late {
			return cleared("%s does not depend on it: it has an address", p.Iface.Name)
		}
		offers, over := p.OffersSeen()
		d := p.Discovery
		switch {
		case len(offers) > 0:
			return cleared("%v offers %v", offers[0].Server, offers[0].Address)
		case p.IsWithheld(evidence.DHCPOffer):
			return possible("DHCP servers could not be asked")
		case d == nil || !over:
			return possible("no DHCP server has answered yet")
		}
		state := without(p)
		asked := fmt.Sprintf("%d discovers within %s, no offer", d.Discovers, wording.Millis(d.Waited))
		const look = "Look into the DHCP server's log for this machine's hardware address %v: is its range used up, is the machine " +
			"denied, or does it ask for an address of elsewhere?"
		switch {
		case len(d.Refusals) > 0:
			return found(Confirmed,
				fmt.Sprintf("The DHCP server %s refuses this machine, and %s %s.", wording.List(d.Refusals), p.Iface.Name, state),
				fmt.Sprintf("%s answered this machine's request with a refusal (NAK)", wording.List(d.Refusals)), asked).
				aside(p.Usable() == facts.Yes).
				next(fmt.Sprintf(look, p.Iface.Hardware),
					fmt.Sprintf("Delete the old lease on this machine, so that %s asks from the beginning.", p.Iface.Name))
		case len(d.Serving) > 0:
			return found(Supported,
				fmt.Sprintf("The DHCP server %s serves others and gives this machine nothing; %s %s.", wording.List(d.Serving),
					p.Iface.Name,
					state),
				fmt.Sprintf("%s was heard giving an address to another machine", wording.List(d.Serving)), asked).
				aside(p.Usable() == facts.Yes).
				next(fmt.Sprintf(look, p.Iface.Hardware))
		}
		return cleared("no DHCP server was heard at all")
	},
}

// without says what a port without a valid lease has.
func without(p *facts.Facts) string {
	if l, ended, late := overdue(p); ended {
		return fmt.Sprintf("has an address, %v, whose lease has run out", l.Terms.Address)
	} else if late {
		return fmt.Sprintf("has an address, %v, whose renewal is overdue", l.Terms.Address)
	}
	if own, self := p.Iface.SelfAssigned(); self {
		return fmt.Sprintf("has only the address %v that it gave itself", own.Prefix.Addr())
	}
	if len(p.Iface.Usable(true)) == 0 {
		return "has no address"
	}
	if lacksIPv4(p) {
		return fmt.Sprintf("has IPv6 alone, while %s has IPv4 addresses alone", p.Target.Host())
	}
	return "has no IPv4 address"
}

// lacksIPv4 reports that the target has IPv4 addresses alone, and this machine IPv6 alone.
func lacksIPv4(p *facts.Facts) bool {
	return p.Iface != nil && !hasRoutable4(p) && len(p.Iface.Usable(true)) > 0 && len(p.Addresses) > 0 &&
		!slices.ContainsFunc(p.Addresses, netip.Addr.Is6) && !slices.ContainsFunc(p.Routes, func(r endpoint.RouteAnswer) bool {
		return r.Verdict == endpoint.Forward || r.Verdict == endpoint.LocalRoute
	})
}

// disagreeing are two offers that part in what a machine needs, and in what.
func disagreeing(p *facts.Facts) (a, b evidence.Offer, parts []string) {
	if p.Discovery == nil {
		return a, b, nil
	}
	for _, x := range p.Discovery.Disagreements() {
		if parts = slices.DeleteFunc(x.Parts, func(s string) bool { return s == "domain" }); len(parts) > 0 {
			return x.A, x.B, parts
		}
	}
	return a, b, nil
}

// misled tells what of that which came by DHCP, and is in force here, leads nowhere, while a neighbour or another server shows the right
// way: what is wrong, and what the server should say instead.
func misled(p *facts.Facts) (fact, mend string, reasons []string, ok bool) {
	if p.GatewayFails() && p.Gateway.Is4() && p.GatewayFromDHCP() {
		if by, found := p.Forwarder(); found {
			how := "passes nothing on"
			if p.Alive == facts.No {
				how = "does not answer"
			}
			return fmt.Sprintf("the gateway %v, which came by DHCP, %s, while %v passes traffic on", p.Gateway, how, by),
				fmt.Sprintf("router %v in place of %v", by, p.Gateway),
				[]string{fmt.Sprintf("%v %s", p.Gateway, how), fmt.Sprintf("a packet handed to %v is passed on", by)}, true
		}
	}
	if bad, good, found := wrongResolvers(p); found {
		return fmt.Sprintf("the name servers that came by DHCP, %s, are none, while %v answers", wording.List(bad), good),
			fmt.Sprintf("name server %v in place of %s", good, wording.List(bad)),
			[]string{fmt.Sprintf("%s: questions unanswered", wording.List(bad)), fmt.Sprintf("%v answers for the name", good)}, true
	}
	if a, ok := p.Address4(); ok && wideByDHCP(p, a) {
		for _, w := range p.WantedOnLink() {
			n, asked := p.Neighbour(w)
			if by, through := p.ReachedThrough(w); through && asked && n.Outcome == evidence.Silent {
				return fmt.Sprintf("the mask of %v, which came by DHCP, takes in %v, which lies beyond the gateway", a.Prefix, w),
					fmt.Sprintf("a mask longer than /%d, which leaves out %v", a.Prefix.Bits(), w),
					[]string{fmt.Sprintf("nobody on the segment answers for %v", w),
						fmt.Sprintf("handed to the gateway %v, a packet for it is answered", by)}, true
			}
		}
	}
	return "", "", nil, false
}

// wrongResolvers are name servers that came by DHCP and do not serve, all of those that are set, while one that nobody set answers for the
// name.
func wrongResolvers(p *facts.Facts) (bad []netip.Addr, good netip.Addr, ok bool) {
	if len(p.Resolvers) == 0 || !p.NeedsName() {
		return nil, good, false
	}
	offers, _ := p.OffersSeen()
	l, leased := p.Lease()
	for _, r := range p.Resolvers {
		named := leased && slices.Contains(l.Terms.Resolvers, r.Address) ||
			slices.ContainsFunc(offers, func(o evidence.Offer) bool { return slices.Contains(o.Resolvers, r.Address) })
		gone := r.Closed
		if n, asked := p.Neighbour(r.Address); asked && n.Outcome == evidence.Silent {
			gone = true
		}
		if !r.OnLink && r.Speaks == facts.No && r.Pings != facts.Yes {
			gone = true
		}
		if r.Speaks == facts.Yes || !named || !gone {
			return nil, good, false
		}
		bad = append(bad, r.Address)
	}
	for _, q := range p.Elsewhere {
		named := slices.ContainsFunc(p.Routers6, func(r evidence.Advertisement) bool { return slices.Contains(r.Resolvers, q.Server) }) ||
			leased && slices.Contains(l.Terms.Resolvers, q.Server) ||
			slices.ContainsFunc(offers, func(o evidence.Offer) bool { return slices.Contains(o.Resolvers, q.Server) })
		if !named && !slices.Contains(bad, q.Server) && q.AboutTarget() && len(q.Addresses) > 0 {
			return bad, q.Server, true
		}
	}
	return nil, good, false
}

// astray reports whether the settings that came by DHCP lead astray, so that the gateway or the name servers that they name are not at
// fault themselves.
func astray(p *facts.Facts) (string, bool) {
	if p.Leased() {
		if fact, _, _, ok := misled(p); ok {
			return fact, true
		}
	}
	if _, _, reasons := misguided(p); len(reasons) > 0 {
		return reasons[0], true
	}
	return "", false
}

// misguided tells whose settings this machine follows of two servers that disagree, and in what they lead it nowhere; no reasons if they do
// not.
func misguided(p *facts.Facts) (follows, stands evidence.Offer, reasons []string) {
	a, b, parts := disagreeing(p)
	if len(parts) == 0 || p.Usable() == facts.Yes {
		return follows, stands, nil
	}
	if follows, stands = followed(p, a, b); !follows.Server.IsValid() {
		return follows, stands, nil
	}
	if p.GatewayFails() && slices.Contains(follows.Routers, p.Gateway) && !slices.Contains(stands.Routers, p.Gateway) &&
		mayLead(p, stands.Routers) {
		reasons = append(reasons, fmt.Sprintf("this machine has the gateway %v from %v, and it leads nowhere", p.Gateway, follows.Server))
	}
	if p.NameFailed() && slices.ContainsFunc(p.Resolvers, func(r facts.ResolverFact) bool {
		return r.Speaks == facts.No && slices.Contains(follows.Resolvers, r.Address) && !slices.Contains(stands.Resolvers, r.Address)
	}) {
		reasons = append(reasons, fmt.Sprintf("this machine has its name servers from %v, and they do not answer", follows.Server))
	}
	if own, ok := p.Address4(); ok && len(p.Outside) == 0 && follows.Address.Masked() == own.Prefix.Masked() &&
		stands.Address.Masked() != own.Prefix.Masked() {
		reasons = append(reasons, fmt.Sprintf("this machine's network %v is the one of %v", own.Prefix.Masked(), follows.Server))
	}
	return follows, stands, reasons
}

// mayLead reports whether one of some routers passes traffic on, as far as was seen: that it does not is not known, nor still to be asked.
func mayLead(p *facts.Facts, routers []netip.Addr) bool {
	return slices.ContainsFunc(routers, func(r netip.Addr) bool {
		asked, passed := false, false
		for _, h := range p.Handoffs {
			if h.By == r && h.Outcome != evidence.NotKnown {
				asked, passed = true, passed || h.Passed()
			}
		}
		n, known := p.Neighbour(r)
		return passed || !asked && !(known && n.Outcome == evidence.Silent) && !p.IsOpen(evidence.Handoffs)
	})
}

// DHCPRogue: two servers that disagree.
var DHCPRogue = &Fault{
	ID: "dhcp-rogue", Zone: zone.LocalSubnet, Place: 60, Scope: OfPlace, Matters: ByReach, Check: "dhcp",
	Needs: []evidence.Kind{evidence.Settings, evidence.DHCPOffer, evidence.GatewayNeighbour, evidence.PathTrace, evidence.NameLookup,
		evidence.Handoffs},
	Doc: `Two DHCP servers disagree
Two DHCP servers answer on this segment and offer settings that disagree: one of them does not belong here. Often it is a small router
from home, plugged in the wrong way round. Who gets an address from it is led astray, today this machine and tomorrow that. Find it by its
hardware address and unplug it; then have the machines ask again.`,
	Judge: func(p *facts.Facts) Finding {
		a, b, parts := disagreeing(p)
		offers, over := p.OffersSeen()
		if home, ok := p.Here(); ok && len(home.DHCP) > 0 && len(parts) == 0 {
			for _, o := range offers {
				if !slices.Contains(home.DHCP, o.Server) {
					l, held := p.Lease()
					follows := held && l.Terms.Server == o.Server && p.Usable() != facts.Yes
					return found(Confirmed,
						fmt.Sprintf("The DHCP server %v answers on this segment, and the site sheet does not know it; it has %s.", o.Server,
							wording.List(home.DHCP)), OfferWords(o)).aside(!follows).
						next(fmt.Sprintf("Find %v by its hardware address %v, and unplug it if it does not belong here: the switch's "+
							"address table tells its port.", o.Server, o.Hardware))
				}
			}
		}
		switch {
		case len(parts) == 0 && p.IsWithheld(evidence.DHCPOffer):
			return possible("DHCP servers could not be asked")
		case len(parts) == 0 && over:
			return cleared("no two servers disagree")
		case len(parts) == 0:
			return possible("not every DHCP server has answered yet")
		}
		reasons := []string{OfferWords(a), OfferWords(b)}
		sentence := fmt.Sprintf("Two DHCP servers answer on this segment and disagree: %v and %v (%s).", a.Server, b.Server,
			strings.Join(parts, ", "))
		next := []string{fmt.Sprintf("Find out which of the two does not belong here: %v has the hardware address %v, %v has %v. The "+
			"switch's address table tells their ports.", a.Server, a.Hardware, b.Server, b.Hardware)}
		follows, stands, astray := misguided(p)
		if len(astray) > 0 {
			reasons = append(reasons, astray...)
			sentence = fmt.Sprintf(
				"Two DHCP servers on this segment disagree, and this machine follows %v, which leads it astray; %v offers router %s.",
				follows.Server, stands.Server, wording.List(stands.Routers))
			next = append([]string{fmt.Sprintf("Unplug %v (hardware address %v) if it does not belong here, then have %s ask for a "+
				"lease again: it should get router %s and resolvers %s from %v.",
				follows.Server, follows.Hardware, p.Iface.Name, wording.List(stands.Routers), wording.List(stands.Resolvers),
				stands.Server)}, next...)
		}
		return found(Confirmed, sentence, reasons...).aside(len(astray) == 0).next(next...)
	},
}

// followed tells which of two offers this machine's settings are from, and the other one: by the lease's server, else by gateway and name
// servers.
func followed(p *facts.Facts, a, b evidence.Offer) (follows, stands evidence.Offer) {
	if l, ok := p.Lease(); ok {
		switch l.Terms.Server {
		case a.Server:
			return a, b
		case b.Server:
			return b, a
		}
	}
	match := func(o evidence.Offer) (n int) {
		if slices.Contains(o.Routers, p.Gateway) {
			n += 2
		}
		for _, r := range p.Resolvers {
			if slices.Contains(o.Resolvers, r.Address) {
				n++
			}
		}
		return n
	}
	switch x, y := match(a), match(b); {
	case x > y:
		return a, b
	case y > x:
		return b, a
	}
	return follows, stands
}

// OfferWords say what a server offers.
func OfferWords(o evidence.Offer) string {
	return fmt.Sprintf("%v offers %v, router %s, resolvers %s", o.Server, o.Address, wording.List(o.Routers), wording.List(o.Resolvers))
}

// DHCPWrongOptions: the one server gives wrong settings.
var DHCPWrongOptions = &Fault{
	ID: "dhcp-wrong-options", Zone: zone.LocalSubnet, Place: 70, Scope: OfEverybody, Matters: WhenSettingsWereOffered, Check: "dhcp",
	Needs: []evidence.Kind{evidence.Settings, evidence.DHCPOffer, evidence.GatewayNeighbour, evidence.PathTrace, evidence.NameLookup,
		evidence.Handoffs}, OnSilence: true,
	Doc: `The DHCP server gives wrong settings
This machine has exactly what the DHCP server gave it, and that is wrong: the gateway is no router, the mask is not the segment's, or the
name server is none. Everybody who gets a lease there has the same trouble, and machines set by hand have not. Correct the server's
settings, then have the machines ask again.`,
	Judge: func(p *facts.Facts) Finding {
		if why, ok := p.Ready(); !ok {
			return possible("%s", why)
		}
		if !p.Leased() {
			return cleared("the settings did not come by DHCP")
		}
		fact, mend, reasons, ok := misled(p)
		if !ok {
			switch {
			case p.Usable() == facts.Yes, p.Forwards == facts.Yes && (!p.NameFailed() || !p.IsOpen(evidence.NameLookup)) &&
				len(p.WantedOnLink()) == 0:
				return cleared("what the lease says leads on")
			case p.IsWithheld(evidence.SegmentFrames):
				return possible("whether another way leads on could not be asked")
			case p.IsOpen(evidence.Handoffs, evidence.NameLookup, evidence.GatewayNeighbour) || p.Alive != facts.No &&
				p.IsOpen(evidence.PathTrace):
				return possible("other ways are still being asked")
			}
			return cleared("no neighbour, and no other name server, does better than what the lease names")
		}
		if _, _, parts := disagreeing(p); len(parts) > 0 {
			return possible("%s; but two servers disagree", fact)
		}
		server := "the DHCP server"
		if l, held := p.Lease(); held && l.Terms.Server.IsValid() {
			server = fmt.Sprintf("the DHCP server %v", l.Terms.Server)
			reasons = append(reasons,
				fmt.Sprintf("the lease in force is from %v: router %s, resolvers %s", l.Terms.Server, wording.List(l.Terms.Routers),
					wording.List(l.Terms.Resolvers)))
		}
		offers, _ := p.OffersSeen()
		for _, o := range offers {
			reasons = append(reasons, OfferWords(o))
			server = fmt.Sprintf("the DHCP server %v", o.Server)
		}
		standing := Confirmed
		if _, held := p.Lease(); !held && len(offers) == 0 {
			standing = Supported // only the kernel's marks say that it came by DHCP
		}
		return found(standing, fmt.Sprintf("%s gives out wrong settings: %s.", upper(server), fact), reasons...).
			aside(p.Usable() == facts.Yes).
			next(fmt.Sprintf("Correct the settings of %s: %s. Then have %s ask for a lease again.", server, mend, p.Iface.Name),
				"Until then, the right value can be set here by hand: together with address, mask, gateway and resolvers.")
	},
}

// upper makes a sentence of words that begin with a small letter.
func upper(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

// leaseDoubt is why settings from DHCP may not be taken at their word: the lease is over and no server confirms them.
func leaseDoubt(p *facts.Facts) (string, bool) {
	l, ended, _ := overdue(p)
	if !ended || !slices.Contains(l.Terms.Routers, p.Gateway) {
		return "", false
	}
	offers, over := p.OffersSeen()
	for _, o := range offers {
		if slices.Contains(o.Routers, p.Gateway) {
			return "", false
		}
	}
	if len(offers) == 0 && over {
		return "", false
	}
	return fmt.Sprintf("the lease that names %v has run out: it may no longer be the gateway", p.Gateway), true
}
