package verdict

import (
	"fmt"
	"net/netip"
	"slices"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

func conflict(p *facts.Facts) Check {
	c := Check{ID: "conflict", Label: "conflict", Zone: zone.LocalSubnet,
		Asked: "the segment: does anybody else have this machine's address?", Means: "nobody else uses this machine's address",
		Fact: "not asked yet"}
	if p.IsWithheld(evidence.AddressConflict) {
		c.State, c.Fact = Skipped, "could not be asked"
	}
	var alone []netip.Addr
	for _, k := range p.Conflicts {
		switch k.Outcome {
		case evidence.Silent:
			alone = append(alone, k.Address)
			c.State, c.Fact, c.Took = Holds, "nobody else answers for "+wording.List(alone), k.Waited
		case evidence.Answered:
			c.State, c.Fact = Broken, fmt.Sprintf("%v answers for %v too", k.Hardware, k.Address)
		case evidence.LocalError:
			c.State, c.Fact = Skipped, k.Reason
		}
	}
	return c
}

func neighbours(p *facts.Facts) Check {
	c := Check{ID: "neighbours", Label: "neighbours", Zone: zone.LocalSubnet, Asked: "addresses on the segment: who is there?",
		Means: "this machine's interface, cable and address work on the segment"}
	for _, n := range p.Neighbours {
		if n.Outcome == evidence.Answered && n.Asked != p.Gateway && len(c.Heard) < 8 {
			c.Heard = append(c.Heard, fmt.Sprintf("%v is %s, in %s", n.Asked, fault.HardwareList(n.Hardware), wording.Millis(n.RTT)))
		}
	}
	slices.Sort(c.Heard)
	if p.Swept > 0 {
		c.Asked = fmt.Sprintf("%d addresses on the segment: who is there?", p.Swept)
	}
	switch n := len(p.Others); {
	case n > 0:
		c.State, c.Fact = Holds, fmt.Sprintf("%d answer or are heard", n)
		if n == 1 {
			c.Fact = p.Others[0].String() + " answers"
		}
	case p.SweepDone:
		c.State, c.Fact = Broken, "nobody answers"
		if p.Alive == facts.Yes {
			c.State, c.Fact = Holds, "the gateway alone"
		}
	case p.Alive == facts.Yes:
		c.State, c.Fact = Holds, "the gateway answers; nobody else was asked"
	default:
		c.Fact = "nobody has answered yet"
	}
	return c
}

func dhcp(p *facts.Facts) Check {
	c := Check{ID: "dhcp", Label: "DHCP", Zone: zone.LocalSubnet, Asked: "DHCP servers: what would you offer? (no lease is taken)",
		Means: "an address is to be had on this segment", Fact: "not asked"}
	if p.IsWithheld(evidence.DHCPOffer) {
		c.State, c.Fact = Skipped, "could not be asked"
		return c
	}
	d := p.Discovery
	if d == nil {
		if !p.IsOpen(evidence.DHCPOffer) {
			c.State = Skipped
		}
		return c
	}
	c.Took = d.Waited
	for _, o := range d.Offers {
		c.Heard = append(c.Heard, fault.OfferWords(o))
	}
	for _, s := range d.Refusals {
		c.Heard = append(c.Heard, fmt.Sprintf("%v refused this machine (NAK)", s))
	}
	for _, s := range d.Serving {
		c.Heard = append(c.Heard, fmt.Sprintf("%v gave an address to another machine", s))
	}
	switch {
	case len(d.Offers) > 1:
		var servers []netip.Addr
		for _, o := range d.Offers {
			servers = append(servers, o.Server)
		}
		c.State, c.Fact = Holds, fmt.Sprintf("%d servers offer: %s", len(d.Offers), wording.List(servers))
	case len(d.Offers) > 0:
		c.State, c.Fact = Holds, fmt.Sprintf("%v offers %v", d.Offers[0].Server, d.Offers[0].Address)
		if p.Iface != nil &&
			slices.ContainsFunc(p.Iface.Addresses, func(a endpoint.Address) bool { return a.Prefix == d.Offers[0].Address }) {
			c.Fact = fmt.Sprintf("%v confirms %v", d.Offers[0].Server, d.Offers[0].Address.Addr())
		}
	case d.Complete:
		c.Fact = "no server answers"
		if _, ready := p.Ready(); ready {
			c.State = Skipped
			c.Fact = "no server answers; none is needed now"
		}
	default:
		c.Fact = fmt.Sprintf("waiting for offers, %d asked", d.Discovers)
	}
	return c
}

func gateway(p *facts.Facts) Check {
	c := Check{ID: "gateway", Label: "gateway", Zone: zone.LocalSubnet, Asked: fmt.Sprintf("who has %v?", p.Gateway),
		Means: "the way out of the segment is there", Fact: "has not answered yet"}
	n, asked := p.Neighbour(p.Gateway)
	if asked {
		c.Took = max(n.RTT, n.Waited)
		if n.Asks > 1 {
			c.Asked += fmt.Sprintf(" %d times within %s", n.Asks, wording.Millis(c.Took))
		}
	}
	switch {
	case asked && n.Outcome == evidence.Answered:
		c.State, c.Fact = Holds, fmt.Sprintf("%v answers in %s", p.Gateway, wording.Millis(n.RTT))
		c.Heard = append(c.Heard, fmt.Sprintf("%v is %s", p.Gateway, fault.HardwareList(n.Hardware)))
	case p.Alive == facts.Yes:
		c.State, c.Fact = Holds, fmt.Sprintf("%v answers", p.Gateway)
	case p.Alive == facts.No:
		c.State, c.Fact = Broken, fmt.Sprintf("%v is silent", p.Gateway)
	}
	if line := echoes(p, p.Gateway); line != "" {
		c.Heard = append(c.Heard, "echo: "+line)
	}
	return c
}

// echoes sums up the echoes of one address in a line; "" if none has ended.
func echoes(p *facts.Facts, of netip.Addr) string {
	last, n := "", 0
	for _, e := range p.Echoes {
		if e.Asked != of || e.Outcome == evidence.NotKnown {
			continue
		}
		n++
		state, words := came(e.Reply)
		if last = words; state == Holds {
			return words
		}
	}
	if n > 1 {
		return fmt.Sprintf("%s, nor to %s before", last, map[bool]string{true: "the one", false: fmt.Sprintf("%d", n-1)}[n == 2])
	}
	return last
}
