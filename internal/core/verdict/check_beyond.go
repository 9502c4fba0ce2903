package verdict

import (
	"fmt"
	"slices"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

func forwarding(p *facts.Facts) Check {
	c := Check{ID: "forwarding", Label: "uplink", Zone: zone.Beyond, Asked: "the gateway, with packets for elsewhere",
		Means: "the gateway passes traffic on and something answers behind it", Fact: "not known yet"}
	switch {
	case len(p.Outside) > 0:
		c.State, c.Fact = Holds, fmt.Sprintf("%d answer behind the gateway", len(p.Outside))
		c.Heard = append(c.Heard, "answered: "+wording.List(p.Outside))
	case p.Alive == facts.No:
		c.State, c.Fact = Skipped, "the gateway is not reached"
	case p.Forwards == facts.No:
		c.State, c.Fact = Broken, "nothing comes back through the gateway"
	case p.Forwards == facts.Yes && !p.IsOpen(evidence.PathTrace):
		c.State, c.Fact = Broken, "nothing behind the gateway answers"
	}
	return c
}

func names(p *facts.Facts) Check {
	c := Check{ID: "names", Label: "names", Zone: zone.Beyond, Means: "the name leads to an address", Fact: "no answer yet"}
	if p.Target.IsZero() {
		c.Means = "the name servers answer"
		c.Asked = "each name server, for the name of this machine's own address"
	} else if !p.NeedsName() {
		c.Asked = "nobody"
		c.State, c.Fact = Skipped, "no look-up needed"
		if p.Source == "hosts file" {
			c.Fact = fmt.Sprintf("the hosts file says %s", wording.List(p.Addresses))
		}
		if len(p.Lookups) == 0 {
			return c
		}
	} else {
		c.Asked = "each name server, for " + p.Target.Name
	}
	for _, r := range p.Resolvers {
		line := r.Address.String() + ": "
		switch {
		case r.Has:
			line += "has the address, " + wording.Millis(r.RTT)
		case r.Missing && p.NeedsName():
			line += "no such name or no address, " + wording.Millis(r.RTT)
		case r.RCode != "":
			line += "fails (" + r.RCode + ")"
		case r.Mute:
			line += "lives, and gives no answer about the name"
		case r.Speaks == facts.Yes:
			line += "answers, " + wording.Millis(r.RTT)
		case r.Closed:
			line += "port 53 is closed"
		case r.Speaks == facts.No:
			line += "silent"
		case r.NotSent != "":
			line += "not asked: " + r.NotSent
		default:
			line += "no answer yet"
		}
		c.Heard = append(c.Heard, line)
		c.Took = max(c.Took, r.RTT)
		if r.Speaks == facts.Yes && p.Target.IsZero() {
			c.State, c.Fact = Holds, "answered in "+wording.Millis(c.Took)
		}
	}
	switch {
	case !p.NeedsName():
	case len(p.Addresses) > 0:
		c.State, c.Fact = Holds, fmt.Sprintf("%s is %s", p.Target.Name, wording.List(p.Addresses))
	case len(p.Resolvers) == 0:
		c.State, c.Fact = Broken, "nobody to ask"
	case p.NameFailed():
		c.State, c.Fact = Broken, "no address for "+p.Target.Name
	}
	return c
}

func path(p *facts.Facts) Check {
	c := Check{ID: "path", Label: "path", Zone: zone.Beyond, Asked: "routers on the way, by packets whose hop limit runs out there",
		Means: "routers pass the traffic on towards the target", Fact: "not asked yet"}
	for _, t := range p.Trails {
		last, ok := t.Last()
		line := fmt.Sprintf("towards %v: nothing answers", t.To)
		if ok {
			line = fmt.Sprintf("towards %v: %d hops seen, the last is %v", t.To, last.HopLimit, last.From)
			if t.Reached {
				line = fmt.Sprintf("towards %v: reached at hop %d", t.To, last.HopLimit)
			}
		}
		c.Heard = append(c.Heard, line)
		wanted := slices.Contains(p.Addresses, t.To)
		switch {
		case wanted && t.Reached:
			c.State, c.Fact = Holds, fmt.Sprintf("%d hops to %v", last.HopLimit, t.To)
		case wanted && ok && c.State == StateUnknown:
			c.Fact = fmt.Sprintf("seen as far as %v, hop %d", last.From, last.HopLimit)
			if !p.IsOpen(evidence.PathTrace) && p.Usable() == facts.No {
				c.State = Strained
			}
		}
	}
	if !slices.ContainsFunc(p.Trails, func(t evidence.Trail) bool { _, any := t.Last(); return any }) && !p.IsOpen(evidence.PathTrace) {
		c.State, c.Fact = Skipped, "not reached"
		if p.TargetOnLink() {
			c.Fact = "none: the target is on the segment"
		}
	}
	if len(p.Addresses) == 0 && !p.IsOpen(evidence.PathTrace) {
		c.State, c.Fact = Skipped, "not asked: no address of the target is known"
	}
	return c
}

func service(p *facts.Facts) Check {
	c := Check{ID: "service", Label: "service", Zone: zone.Beyond, Means: "what was asked for can be used", Fact: "not reached"}
	what := "anything to come back from " + p.Target.Host()
	if p.Target.Port != 0 {
		what = fmt.Sprintf("%s to open a connection on port %d", p.Target.Host(), p.Target.Port)
	}
	if p.Target.URL != "" {
		what = p.Target.Host() + " to answer a request for " + p.Target.URL
	}
	c.Asked = what
	for _, k := range p.Connects {
		_, words := came(k.Reply)
		c.Heard = append(c.Heard, fmt.Sprintf("%v: %s", k.To, words))
		c.Took = max(c.Took, k.RTT)
	}
	for _, w := range p.Webs {
		line := fmt.Sprintf("%v: status %d", w.To, w.Status)
		if w.Location != "" {
			line += ", sends to " + w.Location
		}
		switch {
		case w.Flaw != evidence.NoFlaw:
			line = fmt.Sprintf("%v: a secure connection was tried: %v", w.To, w.Flaw)
		case w.Spoke != "":
			line = fmt.Sprintf("%v begins with: %s", w.To, w.Spoke)
		case w.Outcome != evidence.Answered:
			_, line = came(w.Reply)
		}
		if w.Via != "" {
			line = fmt.Sprintf("through the proxy %s: it %s", w.Via, fault.ProxyWords(w))
		}
		c.Heard = append(c.Heard, line)
		c.Took = max(c.Took, w.RTT)
	}
	switch p.Usable() {
	case facts.Yes:
		c.State, c.Fact = Holds, "reached in "+wording.Millis(c.Took)
		if c.Took == 0 {
			c.Fact = "reached"
		}
	case facts.No:
		c.State = Broken
		if len(c.Heard) > 0 {
			c.Fact = c.Heard[0]
		}
		if why, is := p.Stranger(); is {
			c.Fact = "somebody in between answers in its place"
			c.Heard = append(c.Heard, why)
		}
		if proxy, set := p.Proxy(); set {
			c.Fact = "not reached through the proxy " + proxy
		}
	}
	if len(p.Addresses) == 0 && c.State != Holds {
		c.State = Skipped
	}
	return c
}

func echo(p *facts.Facts) Check {
	c := Check{ID: "echo", Label: "echo", Zone: zone.Beyond, Asked: "the target, for an echo",
		Means: "a second witness beside the service; silence alone proves nothing", Fact: "not asked"}
	asked := false
	for _, e := range p.Echoes {
		if !slices.Contains(p.Addresses, e.Asked) {
			continue
		}
		asked = true
		state, words := came(e.Reply)
		if state == Holds || c.State != Holds {
			c.State, c.Fact, c.Took = state, words, e.RTT
		}
	}
	for _, a := range p.Addresses {
		if line := echoes(p, a); line != "" {
			c.Heard = append(c.Heard, fmt.Sprintf("%v: %s", a, line))
		}
	}
	switch {
	case !asked:
		c.State = Skipped
	case c.State == Broken && p.Usable() == facts.Yes:
		c.State, c.Fact = Skipped, c.Fact+"; the service works all the same"
	}
	return c
}
