package fault

import (
	"fmt"
	"slices"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

// EchoFiltered is no fault: the service works, its host ignores echo.
var EchoFiltered = &Fault{
	ID: "echo-filtered", Zone: zone.Beyond, Scope: OfPlace, Matters: ByReach, Check: "echo",
	Needs: []evidence.Kind{evidence.TargetEcho, evidence.ServiceConnect},
	Doc: `The target ignores echo, and works
No fault: the host does not answer echo requests, and its service is reached. Echo is often filtered; whether the service is reached is
what counts.`,
	Judge: func(p *facts.Facts) Finding {
		if p.Usable() != facts.Yes {
			return possible("the service has not been reached")
		}
		var silent *evidence.Echo
		for _, e := range p.Echoes {
			for _, a := range p.Addresses {
				if e.Asked == a && e.Came() && e.From == a {
					return cleared("%v answers echo", a)
				}
				if e.Asked == a && e.Outcome == evidence.Silent {
					silent = &e
				}
			}
		}
		if silent == nil {
			return possible("echo has not been asked to an end")
		}
		if slices.ContainsFunc(p.Bursts,
			func(b evidence.Burst) bool { return b.To == silent.Asked && b.Method == "icmp" && b.Received > 0 }) {
			return cleared("%v answers echo, though not always", silent.Asked)
		}
		return found(Confirmed, fmt.Sprintf("%v does not answer echo, and its service works: no fault.", silent.Asked),
			fmt.Sprintf("no echo reply within %s", wording.Millis(silent.Waited)))
	},
}

// HopSilent is no fault: a router keeps silent and lets all pass.
var HopSilent = &Fault{
	ID: "hop-silent", Zone: zone.Beyond, Scope: OfPlace, Matters: ByReach, Check: "path", Needs: []evidence.Kind{evidence.PathTrace},
	Doc: `A router on the way keeps silent
No fault: one station on the way does not say when a hop limit runs out, and later ones answer. Routers are free to keep silent.`,
	Judge: func(p *facts.Facts) Finding {
		if p.LossZone() != zone.Unknown {
			return possible("packets of all sorts are being lost")
		}
		for _, t := range p.Trails {
			for _, quiet := range t.Quiet() {
				if _, rations := elsewhere(p, t, quiet.HopLimit); rations {
					continue
				}
				last, _ := t.Last()
				return found(Confirmed,
					fmt.Sprintf("Hop %d towards %v keeps silent, and later ones answer: no fault.", quiet.HopLimit, t.To),
					fmt.Sprintf("hop %d, %v, answers behind it", last.HopLimit, last.From))
			}
		}
		return cleared("no silent station before one that answers")
	},
}

// GatewayIgnoresEcho is no fault: the gateway answers ARP and passes traffic.
var GatewayIgnoresEcho = &Fault{
	ID: "gateway-ignores-echo", Zone: zone.LocalSubnet, Scope: OfPlace, Matters: ByReach, Check: "gateway",
	Needs: []evidence.Kind{evidence.GatewayEcho, evidence.GatewayNeighbour},
	Doc: `The gateway ignores echo
No fault: the gateway does not answer echo requests, and it answers ARP and passes traffic.`,
	Judge: func(p *facts.Facts) Finding {
		silent, asked := false, false
		for _, e := range p.Echoes {
			if e.Asked != p.Gateway {
				continue
			}
			asked = true
			if e.Came() {
				return cleared("%v answers echo", p.Gateway)
			}
			silent = silent || e.Outcome == evidence.Silent
		}
		works := p.Alive == facts.Yes && p.Forwards == facts.Yes
		switch {
		case works && !asked: // the first silence is soon over
			return possible("being asked").awaiting(evidence.GatewayEcho)
		case !works || !silent:
			return possible("not seen")
		}
		return found(Confirmed, fmt.Sprintf("The gateway %v does not answer echo, and traffic passes it: no fault.", p.Gateway))
	},
}
