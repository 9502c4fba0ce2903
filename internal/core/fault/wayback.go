package fault

import (
	"fmt"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/zone"
)

var waybackFaults = []*Fault{ReturnPathMissing}

// ReturnPathMissing: what is sent arrives, and nothing finds the way back.
var ReturnPathMissing = &Fault{
	ID: "return-path-missing", Zone: zone.Beyond, Place: 130, Scope: OfPlace, Matters: ByReach, Check: "service",
	Needs: []evidence.Kind{evidence.Responder, evidence.ServiceConnect},
	Explains: []ID{"uplink-down", "path-stops", "destination-silent", "destination-unreachable", "service-filtered", "resolver-silent",
		"one-family-broken", "routing-loop", "prohibited-by-policy"},
	Doc: `There is no way back from the far end
What this machine sends arrives at the far end, and the answers do not come back: a router there has no route to this network, or sends
the answers another way, where a filter drops them. From here it looks like a silent host. It shows only when somebody counts at the far
end: run passepartout answer there. Give the far network's team both ends' addresses and have them look for the route back.`,
	Judge: func(p *facts.Facts) Finding {
		if why, ok := p.Ready(); !ok {
			return possible("%s", why)
		}
		for _, f := range p.FarEnds {
			switch {
			case f.Answered > 0:
				continue
			case f.Told && f.Arrived > 0:
				return found(Confirmed,
					fmt.Sprintf("What this machine sends arrives at %v, and nothing comes back: the way back is missing.", f.To.Addr()),
					fmt.Sprintf("%d of %d datagrams arrived there, as the responder says by way of %v", f.Arrived, f.Sent, f.ToldBy),
					"none was answered by the way that it took").
					next(fmt.Sprintf(
						"Have whoever runs the network of %v look for its route back to this site, with the addresses of both ends.",
						f.To.Addr()), "Have them look at which way answers leave there: a filter may see only one direction and drop them.")
			}
		}
		switch {
		case p.Usable() == facts.Yes:
			return cleared("the target's answers come back")
		case p.Target.IsZero():
			return possible("nothing beyond the gateway was asked for")
		case len(p.FarEnds) == 0 && p.IsOpen(evidence.Responder):
			return possible("the far end is still being asked what arrives there").awaiting(evidence.Responder)
		case len(p.FarEnds) == 0:
			return possible("nobody counts at the far end: run passepartout answer there, and check with --responder here")
		}
		for _, f := range p.FarEnds {
			switch {
			case f.Answered > 0:
				return cleared("%v answers: %d of %d datagrams came back", f.To, f.Answered, f.Sent)
			case f.Told:
				return cleared("nothing arrives at %v: it is lost on the way there", f.To.Addr())
			}
		}
		return possible("the responder at the far end could not be asked by any way")
	},
}
