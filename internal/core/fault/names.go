package fault

import (
	"fmt"
	"net/netip"
	"strings"

	"passepartout/internal/core/evidence"
)

// judgeSilentResolver is the common half of the two faults in which a set name server does not serve: on the segment, or beyond.
func (p *Pass) judgeSilentResolver(local bool) Finding {
	if why, ok := p.Ready(); !ok {
		return possible("%s", why)
	}
	var silent []ResolverFact
	anyServes, mine := false, 0
	for _, r := range p.Resolvers {
		anyServes = anyServes || r.Serves()
		if r.OnLink == local {
			mine++
			if r.Speaks == No {
				silent = append(silent, r)
			}
		}
	}
	switch {
	case mine == 0 && local:
		return cleared("no name server on this segment is set")
	case mine == 0:
		return cleared("no name server beyond the gateway is set")
	case p.IsOpen(evidence.NameLookup) && len(silent) == 0 && !anyServes:
		return possible("the name servers have not answered yet")
	case len(silent) == 0:
		for _, r := range p.Resolvers {
			if r.OnLink == local && r.Speaks == Yes {
				return cleared("%v answers in %s", r.Address, Millis(r.RTT))
			}
		}
		return possible("the name servers could not be asked: %s", p.Resolvers[0].NotSent)
	}
	if from, _, lost := p.swallowed(); lost {
		return possible("answers of %v arrive at the port, and this machine loses them", from)
	}
	if p.leased() && p.NeedsName() && p.IsOpen(evidence.Handoffs) && !anyServes {
		return possible("whether others on the segment serve names is still being asked")
	}
	if fact, is := p.astray(); is {
		return cleared("it is not the name server that is at fault: %s", fact)
	}
	r := silent[0]
	reason := fmt.Sprintf("%v: questions unanswered", r.Address)
	if r.Closed {
		reason = fmt.Sprintf("%v: port 53 is closed", r.Address)
	}
	aside := anyServes || p.Usable() == Yes || !p.NeedsName() && !p.Target.IsZero()
	what := "does not answer"
	if r.Closed {
		what = "is there, and no name service runs on it"
	}
	if local {
		n, asked := p.Neighbour(r.Address)
		if r.Address.IsLoopback() {
			return found(Confirmed, fmt.Sprintf("The name service on this machine itself, %v, %s.", r.Address, what), reason).aside(aside).in(Host).
				next("Restart the name service of this machine (systemd-resolved, or whatever listens there), then run again.")
		}
		switch {
		case r.Pings == Yes || r.Closed:
			if !anyServes && len(p.Outside) == 0 && !r.Closed && p.Alive == Yes && p.Forwards == Yes {
				return possible("%v is there; it may be waiting for answers from outside, where nothing answers", r.Address)
			}
		case asked && n.Outcome == evidence.Silent && (p.Alive == Yes || len(p.Others) > 0):
			reason += ", nor ARP"
		default:
			return possible("%v is silent, and so is the segment around it", r.Address)
		}
		return found(Confirmed, fmt.Sprintf("The name server %v on this segment %s.", r.Address, what), reason).aside(aside).
			next(fmt.Sprintf("See that the machine %v is on and its name service runs.", r.Address))
	}
	next := fmt.Sprintf("Ask whoever runs %v whether its name service is up; set another name server meanwhile.", r.Address)
	sentence := fmt.Sprintf("The name server %v beyond the gateway %s.", r.Address, what)
	if r.Pings == Yes || r.Closed {
		return found(Confirmed, sentence, reason, fmt.Sprintf("%v itself is reached", r.Address)).aside(aside).next(next)
	}
	if w := p.witnessesBut(r.Address); len(w) > 0 {
		return found(Confirmed, sentence, reason, fmt.Sprintf("others beyond the gateway answer: %s", List(w))).aside(aside).next(next)
	}
	if _, n, ok := p.commonEnd(); ok && n > 1 {
		return possible("%v is silent, and so is all else that lies behind the same router", r.Address)
	}
	if _, _, circling := p.loop(); circling {
		return possible("%v is silent, and packets towards it circle", r.Address)
	}
	if len(p.Outside) > 0 {
		return found(Supported, sentence, reason, fmt.Sprintf("routers on the way to it answer: %s", List(p.Outside))).aside(aside).next(next)
	}
	return possible("%v is silent, and nothing else beyond the gateway answers either", r.Address)
}

func (p *Pass) witnessesBut(a netip.Addr) (out []netip.Addr) {
	for _, w := range p.Witnesses() {
		if w != a {
			out = append(out, w)
		}
	}
	return out
}

// ResolverSilent: a name server beyond that does not serve.
var ResolverSilent = &Fault{
	ID: "resolver-silent", Zone: Beyond, Check: "names", Needs: []evidence.Kind{evidence.NameLookup, evidence.PathTrace}, OnSilence: true,
	Doc: `The name server beyond the gateway does not answer
The DNS server that this machine asks lies beyond the gateway and does not answer, while others there do. Addresses work, names do not, and "the Internet is down". Set another name server, or wait
for this one.`,
	Judge: func(p *Pass) Finding { return p.judgeSilentResolver(false) },
}

// NameNotFound: the name does not exist.
var NameNotFound = &Fault{
	ID: "name-not-found", Zone: Beyond, Check: "names", Needs: []evidence.Kind{evidence.NameLookup},
	Doc: `The name does not exist
Every name server that answers says that there is no such name, or no address for it: it is misspelt, was never entered, or has been taken out. The network is in order. Compare the name letter by
letter with the one that others use.`,
	Judge: func(p *Pass) Finding {
		if !p.NeedsName() {
			return cleared("the target needs no look-up")
		}
		if len(p.Addresses) > 0 {
			return cleared("%s is %s", p.Target.Name, List(p.Addresses))
		}
		var say, silent []string
		for _, r := range p.Resolvers {
			switch {
			case r.Has:
				return cleared("%v has an address for it", r.Address)
			case r.Missing:
				say = append(say, r.Address.String())
			case r.Speaks != Yes || r.Mute:
				silent = append(silent, r.Address.String())
			}
		}
		switch {
		case p.IsOpen(evidence.NameLookup):
			return possible("not every name server has answered yet")
		case len(say) == 0:
			return possible("no name server has spoken about the name")
		}
		standing, reason := Confirmed, "every name server says so: "+strings.Join(say, ", ")
		if len(silent) > 0 {
			standing, reason = Supported, strings.Join(say, ", ")+" say so, "+strings.Join(silent, ", ")+" did not answer"
		}
		return found(standing, fmt.Sprintf("The name %s does not exist, or has no address.", p.Target.Name), reason).
			next("Compare the name letter by letter with the one that works for others.", "Ask whoever looks after the domain whether it was taken out.")
	},
}

// NameServerFailing: the name servers answer that they cannot.
var NameServerFailing = &Fault{
	ID: "name-server-failing", Zone: Beyond, Check: "names", Needs: []evidence.Kind{evidence.NameLookup, evidence.PathTrace}, OnSilence: true,
	Doc: `The name servers fail
The name servers answer, and say that they cannot or will not look the name up (SERVFAIL, REFUSED): the domain's own servers are out of order, its signatures do not fit, or the resolver
is not meant for this network. Try another resolver; if it fails as well, it is the domain.`,
	Judge: func(p *Pass) Finding {
		if !p.NeedsName() {
			return cleared("the target needs no look-up")
		}
		if len(p.Addresses) > 0 {
			return cleared("%s is %s", p.Target.Name, List(p.Addresses))
		}
		var failing []string
		for _, r := range p.Resolvers {
			if r.Has || r.Missing {
				return cleared("%v answers for the name", r.Address)
			}
			if r.Behind && r.Speaks == No {
				return possible("%v, which the name service of this machine asks, keeps silent: that explains it", r.Address)
			}
			switch {
			case r.RCode != "":
				failing = append(failing, fmt.Sprintf("%v says %s", r.Address, r.RCode))
			case r.Mute:
				failing = append(failing, fmt.Sprintf("%v lives, and gives no answer about the name", r.Address))
			}
		}
		switch {
		case len(failing) == 0 || p.IsOpen(evidence.NameLookup):
			return possible("no name server has said that it fails")
		case len(p.Outside) == 0 && p.IsOpen(evidence.PathTrace):
			return possible("whether the name servers themselves are cut off is not known yet")
		case len(p.Outside) == 0 && p.Alive != No:
			return possible("the name servers fail, and nothing beyond the gateway answers: they may be cut off as well")
		}
		return found(Confirmed, fmt.Sprintf("The name servers answer, and fail to look %s up.", p.Target.Name), failing...).
			next("Ask another resolver for the name; if it fails as well, tell whoever looks after the domain.")
	},
}
