package facts

import (
	"net/netip"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/zone"
)

// NeedsName reports whether the target can only be reached after a look-up.
func (f *Facts) NeedsName() bool {
	return f.Target.Name != "" && f.Source != "hosts file" && f.Source != evidence.OwnName
}

// NameFailed reports whether all look-ups are over and gave no address.
func (f *Facts) NameFailed() bool {
	return f.NeedsName() && len(f.Addresses) == 0 && !f.IsOpen(evidence.NameLookup, evidence.Settings)
}

// Acid is the contract's test of one address: a connection opens, a request is answered, or, when neither was asked for, anything comes
// back.
func (f *Facts) Acid(a netip.Addr) Answer {
	if f.NobodysAddress(a) { // who answers there is this machine itself
		return No
	}
	if f.Target.URL != "" {
		for _, w := range f.Webs {
			if w.To.Addr() == a && w.Outcome != evidence.NotKnown { // a proxy's answer says nothing of the way to the service
				if w.Via != "" {
					continue
				}
				_, _, stranger := f.Between(w) // any status is an answer, unless somebody in between gave it
				return Known(w.Outcome == evidence.Answered && !stranger)
			}
		}
		for _, c := range f.Connects {
			if c.To.Addr() == a && c.Outcome != evidence.NotKnown && c.Outcome != evidence.Answered {
				return No
			}
		}
		return Unknown
	}
	result := Unknown
	if _, nearer := f.Nearer(a); nearer { // it stands in the way only if what was asked for does not come through
		switch through := f.Through(a); {
		case through == No:
			return No
		case through == Unknown && f.IsOpen(evidence.WebAnswer):
			return Unknown
		}
	} else if f.nearerPerhaps(a) {
		return Unknown
	}
	for _, c := range f.Connects {
		if c.To.Addr() != a {
			continue
		}
		if f.Target.Port == 0 {
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
	if f.Target.Port != 0 {
		return result
	}
	for _, e := range f.Echoes {
		if e.Asked == a && e.Came() && e.From == a {
			return Yes
		}
	}
	if len(f.Connects) > 0 && !f.IsOpen(evidence.TargetEcho, evidence.ServiceConnect) {
		return No
	}
	return Unknown
}

// Usable reports whether the target can be used: every family that its name publishes, and for which this machine has a route, passes the
// acid test. Without a target: whether gateway and a resolver answer, and somebody past the gateway.
func (f *Facts) Usable() Answer { return f.usable.of(f.reckonUsable) }

func (f *Facts) reckonUsable() Answer {
	if f.Target.IsZero() {
		return f.usableLocally()
	}
	if x, is := f.Proxied(); is { // the acid test is sent the way that programs send it
		switch {
		case x.Asked:
			return Known(PassedOn(x.Web))
		case f.IsOpen(evidence.WebAnswer):
			return Unknown
		}
	}
	if len(f.Addresses) == 0 {
		if f.NameFailed() || f.Target.Name != "" && f.Source == "hosts file" {
			return No
		}
		return Unknown
	}
	result, routed := Yes, false
	for _, v6 := range []bool{false, true} {
		family, any := No, false
		for _, a := range f.Addresses {
			if a.Is6() != v6 {
				continue
			}
			r, known := f.RouteTo(a)
			if known && r.Verdict != endpoint.Forward && r.Verdict != endpoint.LocalRoute {
				continue
			}
			any = true
			switch acid := f.Acid(a); {
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

func (f *Facts) usableLocally() Answer {
	if f.Iface == nil || !f.Gateway.IsValid() || len(f.Resolvers) == 0 {
		return Known(false)
	}
	speaks, open := false, false
	for _, r := range f.Resolvers {
		speaks = speaks || r.Speaks == Yes
		open = open || r.Speaks == Unknown && r.NotSent == ""
	}
	_, beyond := f.AnswersBeyond()
	switch {
	case f.Alive == Yes && speaks && beyond:
		return Yes
	case f.Alive == No, !speaks && !open, !beyond && !f.IsOpen(evidence.PathTrace, evidence.NameLookup):
		return No
	}
	return Unknown
}

// Stands is where an address stands by itself: on this machine, on the segment, or beyond.
func (f *Facts) Stands(a netip.Addr) zone.Zone {
	switch {
	case f.Owns(a):
		return zone.Host
	case f.OnLink(a):
		return zone.LocalSubnet
	}
	return zone.Beyond
}

// TargetZone is where the target stands: on this machine, on its segment, or beyond. A fault of the target itself cannot lie farther away.
// It is Unknown while no address is known; where they stand at different places, the farthest counts.
func (f *Facts) TargetZone() (z zone.Zone) {
	for _, a := range f.Addresses {
		switch route, known := f.RouteTo(a); {
		case a.IsLoopback() || f.Owns(a) || known && route.Verdict == endpoint.LocalRoute:
			z = max(z, zone.Host)
		case f.OnLink(a) && !(known && route.Via.IsValid()):
			z = max(z, zone.LocalSubnet)
		default:
			z = max(z, zone.Beyond)
		}
	}
	return z
}

// AnswersBeyond is somebody past the gateway who has answered: an end host, or, where none is known there, a router on the way out.
func (f *Facts) AnswersBeyond() (netip.Addr, bool) {
	for _, a := range f.Witnesses() {
		if f.Endpoint == nil || !f.Endpoint.OnLink(a) {
			return a, true
		}
	}
	for _, a := range f.Outside {
		if len(f.OffLinkTrails()) == 0 && !f.Endpoint.OnLink(a) {
			return a, true
		}
	}
	return netip.Addr{}, false
}

// TargetOnLink reports whether the target needs no gateway.
func (f *Facts) TargetOnLink() bool {
	for _, a := range f.Addresses {
		r, ok := f.RouteTo(a)
		if !ok {
			continue
		}
		if port, known := f.Endpoint.Interface(r.Interface); known && port.Kind == endpoint.Tunnel {
			continue // whom a tunnel's end reaches directly is no neighbour
		}
		if r.Verdict == endpoint.Forward && !r.Via.IsValid() || r.Verdict == endpoint.LocalRoute {
			return true
		}
	}
	return false
}
