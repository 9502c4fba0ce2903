package fault

import (
	"fmt"
	"net/netip"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
)

// NeedsName reports whether the target can only be reached after a look-up.
func (p *Pass) NeedsName() bool {
	return p.Target.Name != "" && p.Source != "hosts file"
}

// NameFailed reports whether all look-ups are over and gave no address.
func (p *Pass) NameFailed() bool {
	return p.NeedsName() && len(p.Addresses) == 0 && !p.IsOpen(evidence.NameLookup, evidence.Settings)
}

// Acid is the contract's test of one address: a connection opens, a request is answered, or, when neither was asked for, anything comes
// back.
func (p *Pass) Acid(a netip.Addr) Answer {
	if p.Target.URL != "" {
		for _, w := range p.Webs {
			if w.To.Addr() == a && w.Outcome != evidence.NotKnown { // a proxy's answer says nothing of the way to the service
				if w.Via != "" {
					continue
				}
				_, _, stranger := p.between(w) // any status is an answer, unless somebody in between gave it
				return answer(w.Outcome == evidence.Answered && !stranger)
			}
		}
		for _, c := range p.Connects {
			if c.To.Addr() == a && c.Outcome != evidence.NotKnown && c.Outcome != evidence.Answered {
				return No
			}
		}
		return Unknown
	}
	result := Unknown
	if _, stranger := p.nearer(a); stranger {
		return No
	}
	for _, c := range p.Connects {
		if c.To.Addr() != a {
			continue
		}
		if p.Target.Port == 0 {
			if c.Came() && c.From == a {
				return Yes
			}
			continue
		}
		if c.Outcome == evidence.Answered {
			return Yes
		}
		if c.Outcome != evidence.NotKnown {
			result = No
		}
	}
	if p.Target.Port != 0 {
		return result
	}
	for _, e := range p.Echoes {
		if e.Asked == a && e.Came() && e.From == a {
			return Yes
		}
	}
	if len(p.Connects) > 0 && !p.IsOpen(evidence.TargetEcho, evidence.ServiceConnect) {
		return No
	}
	return Unknown
}

// Usable reports whether the target can be used: every family that its name publishes, and for which this machine has a route, passes the
// acid test. Without a target: whether gateway and a resolver answer.
func (p *Pass) Usable() Answer {
	if p.Target.IsZero() {
		return p.usableLocally()
	}
	if x, is := p.proxied(); is { // the acid test is sent the way that programs send it
		switch {
		case x.asked:
			return answer(passedOn(x.web))
		case p.IsOpen(evidence.WebAnswer):
			return Unknown
		}
	}
	if len(p.Addresses) == 0 {
		if p.NameFailed() || p.Target.Name != "" && p.Source == "hosts file" {
			return No
		}
		return Unknown
	}
	result, routed := Yes, false
	for _, v6 := range []bool{false, true} {
		family, any := No, false
		for _, a := range p.Addresses {
			if a.Is6() != v6 {
				continue
			}
			r, known := p.RouteTo(a)
			if known && r.Verdict != endpoint.Forward && r.Verdict != endpoint.LocalRoute {
				continue
			}
			any = true
			switch acid := p.Acid(a); {
			case acid == Yes:
				family = Yes
			case acid == Unknown && family == No:
				family = Unknown
			}
		}
		if !any {
			continue
		}
		routed = true
		if family == No || family == Unknown && result == Yes {
			result = family
		}
	}
	if !routed {
		return No
	}
	return result
}

func (p *Pass) usableLocally() Answer {
	if p.Iface == nil || !p.Gateway.IsValid() || len(p.Resolvers) == 0 {
		return answer(false)
	}
	speaks, open := false, false
	for _, r := range p.Resolvers {
		speaks = speaks || r.Speaks == Yes
		open = open || r.Speaks == Unknown && r.NotSent == ""
	}
	switch {
	case p.Alive == Yes && speaks:
		return Yes
	case p.Alive == No, !speaks && !open:
		return No
	}
	return Unknown
}

// TargetOnLink reports whether the target needs no gateway.
func (p *Pass) TargetOnLink() bool {
	for _, a := range p.Addresses {
		r, ok := p.RouteTo(a)
		if !ok {
			continue
		}
		if port, known := p.Endpoint.Interface(r.Interface); known && port.Kind == endpoint.Tunnel {
			continue // whom a tunnel's end reaches directly is no neighbour
		}
		if r.Verdict == endpoint.Forward && !r.Via.IsValid() || r.Verdict == endpoint.LocalRoute {
			return true
		}
	}
	return false
}

// spared gives the reason why nothing that stands between this machine and the target can be the cause: the target itself has spoken, or
// its name led nowhere while name servers answered, so that it was never asked.
func (p *Pass) spared() (string, bool) {
	if p.NameFailed() {
		for _, r := range p.Resolvers {
			if r.Speaks == Yes {
				return "the target was not asked: its name leads nowhere", true
			}
		}
	}
	for _, a := range p.Addresses {
		spoke := false
		p.eachReply(func(_ netip.Addr, r evidence.Reply, _ int) { spoke = spoke || r.Came() && r.From == a })
		if spoke {
			return fmt.Sprintf("%v itself has answered", a), true
		}
	}
	return "", false
}
