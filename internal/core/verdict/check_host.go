package verdict

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/subnet"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

func loopback(p *facts.Facts) Check {
	c := Check{ID: "loopback", Label: "loopback", Zone: zone.Host, Asked: "echo of this machine's own 127.0.0.1", Fact: "not asked yet",
		Means: "the machine's own network stack works"}
	for _, e := range p.Loopback {
		c.State, c.Fact = came(e.Reply)
		c.Took = e.RTT
		c.Heard = []string{fmt.Sprintf("%v %s", e.Asked, c.Fact)}
	}
	return c
}

func link(p *facts.Facts) Check {
	c := Check{ID: "link", Label: "interface", Zone: zone.Host, Asked: "the system, about its network interface",
		Means: "the cable has a signal and the interface is in use"}
	i := p.Iface
	if i == nil {
		c.State, c.Fact = Broken, "no network interface besides loopback"
		return c
	}
	parts := []string{i.Name}
	switch {
	case !i.Up:
		c.State = Broken
		parts = append(parts, "is switched off")
	case i.Carrier == endpoint.CarrierAbsent:
		c.State = Broken
		parts = append(parts, "on, no signal")
	case i.Carrier == endpoint.CarrierPresent:
		c.State = Holds
		parts = append(parts, "on, signal")
	default:
		parts = append(parts, "on, signal not known")
	}
	if speed := Speed(*i); speed != "" && i.Up {
		parts = append(parts, speed)
	}
	c.Fact = strings.Join(parts, ", ")
	c.Fact = strings.Replace(c.Fact, i.Name+", ", i.Name+" ", 1)
	c.Heard = []string{fmt.Sprintf("%s %v, hardware address %v, MTU %d octets", i.Name, i.Kind, i.Hardware, i.MTU)}
	if i.Driver != "" {
		c.Heard = append(c.Heard, "driver "+i.Driver)
	}
	return c
}

// Speed writes a port's speed and duplex, "" if neither is known.
func Speed(i endpoint.Interface) string {
	var parts []string
	switch {
	case i.SpeedMbit >= 1000 && i.SpeedMbit%1000 == 0:
		parts = append(parts, fmt.Sprintf("%d Gbit/s", i.SpeedMbit/1000))
	case i.SpeedMbit > 0:
		parts = append(parts, fmt.Sprintf("%d Mbit/s", i.SpeedMbit))
	}
	if i.Duplex != endpoint.DuplexUnknown {
		parts = append(parts, i.Duplex.String()+" duplex")
	}
	return strings.Join(parts, " ")
}

func address(p *facts.Facts) Check {
	c := Check{ID: "address", Label: "address", Zone: zone.Host, Asked: "the system, about the interface's addresses",
		Means: "the machine can speak on its segment under an address of its own"}
	if p.Iface == nil {
		c.State, c.Fact = Skipped, "no interface"
		return c
	}
	usable := append(p.Iface.Usable(false), p.Iface.Usable(true)...)
	for _, a := range p.Iface.Addresses {
		c.Heard = append(c.Heard, fmt.Sprintf("%v, %v, %s", a.Prefix, subnet.KindOf(a.Prefix.Addr()), a.Origin.Words()))
	}
	c.Heard = append(c.Heard, documented(p, "address")...)
	if l, ok := p.Lease(); ok && l.Client != "" {
		line := fmt.Sprintf("lease of %v by %s, from %s: %s", l.Terms.Address, l.Client, wording.List([]netip.Addr{l.Terms.Server}),
			l.At(p.Endpoint.At))
		if !l.Expires.IsZero() {
			line += ", ends " + l.Expires.Local().Format("2006-01-02 15:04")
		}
		c.Heard = append(c.Heard, line)
	}
	switch {
	case !p.Iface.Up:
		c.State, c.Fact = Skipped, "the interface is off"
	case len(usable) > 0:
		c.State, c.Fact = Holds, fmt.Sprintf("%v, %s", usable[0].Prefix, usable[0].Origin.Words())
		if a := usable[0]; a.Prefix.Addr().Is4() {
			c.Heard = append(c.Heard,
				fmt.Sprintf("mask %s: %v to %v", subnet.Mask(a.Prefix), a.Prefix.Masked().Addr(), subnet.Last(a.Prefix)))
		}
	default:
		c.State, c.Fact = Broken, "no usable address"
		if own, self := p.Iface.SelfAssigned(); self {
			c.Fact = fmt.Sprintf("only %v, which the machine gave itself", own.Prefix.Addr())
		}
	}
	return c
}

// documented is what the site sheet says of one of this machine's settings.
func documented(p *facts.Facts, what string) []string {
	home, ok := p.Home()
	if !ok || p.Iface == nil {
		return nil
	}
	switch what {
	case "address":
		text := fmt.Sprintf("documented: %v", home.Prefixes)
		if f, own := home.Machine(p.Endpoint.Host, p.Iface.Hardware); own {
			text = fmt.Sprintf("documented: %v on %v", f.Address, home.Prefixes)
		}
		return []string{text}
	case "gateway":
		if len(home.Gateways) > 0 {
			return []string{"documented: " + wording.List(home.Gateways)}
		}
	case "resolvers":
		if len(home.Resolvers) > 0 {
			return []string{"documented: " + wording.List(home.Resolvers)}
		}
	}
	return nil
}

func route(p *facts.Facts) Check {
	c := Check{ID: "route", Label: "gateway set", Zone: zone.Host, Asked: "the system: how would you reach the target?",
		Means: "the machine knows whom to hand traffic for elsewhere"}
	for _, r := range p.Routes {
		line := fmt.Sprintf("to %v: %v", r.To, r.Verdict)
		if r.Verdict == endpoint.Forward {
			line = fmt.Sprintf("to %v: through %s", r.To, r.Interface)
			if r.Via.IsValid() {
				line += fmt.Sprintf(" by %v", r.Via)
			}
			if r.Source.IsValid() {
				line += fmt.Sprintf(", as %v", r.Source)
			}
		}
		c.Heard = append(c.Heard, line)
	}
	slices.Sort(c.Heard)
	c.Heard = append(c.Heard, documented(p, "gateway")...)
	switch {
	case p.Iface == nil || !p.Iface.Up:
		c.State, c.Fact = Skipped, "the interface is off"
	case p.Gateway.IsValid() && (p.OnLink(p.Gateway) || p.Gateway.IsLinkLocalUnicast()):
		c.State, c.Fact = Holds, fmt.Sprintf("%v lies inside the mask", p.Gateway)
	case p.Gateway.IsValid():
		c.State, c.Fact = Strained, fmt.Sprintf("%v lies outside the mask", p.Gateway)
	case p.TargetOnLink():
		c.State, c.Fact = Holds, "none needed: the target is on the segment"
	default:
		c.State, c.Fact = Broken, "no gateway is set"
	}
	for _, a := range p.Addresses {
		if rule, by, is := p.Endpoint.Ruled(a); is && by.Via.IsValid() && by.Via == p.Gateway {
			c.Fact = fmt.Sprintf("%v, chosen by rule %d", by.Via, rule.Priority)
		}
	}
	return c
}

func resolvers(p *facts.Facts) Check {
	c := Check{ID: "resolvers", Label: "name servers", Zone: zone.Host, State: Holds, Asked: "the system's settings",
		Means: "the machine knows whom to ask for names"}
	var list []netip.Addr
	for _, r := range p.Endpoint.Resolvers {
		line := fmt.Sprintf("%v, from %s", r.Address, r.Source)
		switch {
		case r.Stub:
			line += ", a forwarder on this machine"
		case r.Behind:
			line += ", asked by the local forwarder"
		}
		c.Heard = append(c.Heard, line)
	}
	for _, r := range p.Resolvers {
		list = append(list, r.Address)
	}
	c.Fact = wording.List(list)
	c.Heard = append(c.Heard, documented(p, "resolvers")...)
	if len(p.Endpoint.Search) > 0 {
		c.Heard = append(c.Heard, "short names are completed with "+strings.Join(p.Endpoint.Search, ", "))
	}
	if len(list) == 0 {
		c.State, c.Fact = Strained, "no name server is set"
	}
	return c
}
