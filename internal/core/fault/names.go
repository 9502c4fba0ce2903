package fault

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"passepartout/internal/core/change"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/library"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

var namesFaults = []*Fault{ResolverWrong, HostsFileOverride, ResolverSilent, NameNotFound, NameServerFailing, NameAnswersDiffer,
	NameFiltered}

// judgeSilentResolver is the common half of the two faults in which a set name server does not serve: on the segment, or beyond.
func judgeSilentResolver(p *facts.Facts, local bool) Finding {
	if why, ok := p.Ready(); !ok {
		return possible("%s", why)
	}
	var silent []facts.ResolverFact
	anyServes, mine := false, 0
	for _, r := range p.Resolvers {
		anyServes = anyServes || r.Serves()
		if r.OnLink == local && !p.Owns(r.Address) && !r.Address.IsLoopback() {
			mine++
			if r.Speaks == facts.No {
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
			if r.OnLink == local && r.Speaks == facts.Yes {
				return cleared("%v answers in %s", r.Address, wording.Millis(r.RTT))
			}
		}
		return possible("the name servers could not be asked: %s", p.Resolvers[0].NotSent)
	}
	if from, _, lost := swallowed(p); lost {
		return possible("answers of %v arrive at the interface, and this machine loses them", from)
	}
	if bad, good, _, wrong := setWrongly(p); wrong {
		return cleared("it is not the name server that is at fault: %s was set by hand, and %v serves", wording.List(bad), good)
	}
	if p.Leased() && p.NeedsName() && p.IsOpen(evidence.Handoffs) && !anyServes {
		return possible("whether others on the segment serve names is still being asked")
	}
	if fact, is := astray(p); is {
		return cleared("it is not the name server that is at fault: %s", fact)
	}
	r := silent[0]
	if _, named := p.ResolversNamed(); named[r.Address] == "" && p.IsWithheld(evidence.DHCPOffer) && !anyServes &&
		p.NeedsName() && !r.Address.IsLoopback() {
		return possible("%v was perhaps set by hand: whether the network names another name server could not be asked", r.Address)
	}
	reason := fmt.Sprintf("%v: questions unanswered", r.Address)
	if r.Closed {
		reason = fmt.Sprintf("%v: port 53 is closed", r.Address)
	}
	// A server that is there and silent may be slow: the system gives it longer (resolv.conf(5): timeout, attempts) than the tests here do.
	standing := Supported
	timeout, attempts := p.Endpoint.Asking.Patience()
	if n, asked := p.Neighbour(r.Address); r.Closed || asked && n.Outcome == evidence.Silent ||
		r.Waited >= timeout*time.Duration(attempts) {
		standing = Confirmed
	} else {
		reason += fmt.Sprintf(" (a program here waits %s, %s)", wording.Millis(timeout), wording.Plural(attempts, "time", "times"))
	}
	if got := p.SystemLookup(); got.Status == library.Found && got.Took > time.Second {
		reason += fmt.Sprintf("; a program on this machine has the address after %s", wording.Millis(got.Took))
	}
	aside := anyServes || p.Usable() == facts.Yes || !p.NeedsName() && !p.Target.IsZero()
	what := "does not answer"
	if r.Closed {
		what = "is there, and no name service runs on it"
	}
	if local {
		n, asked := p.Neighbour(r.Address)
		switch {
		case r.Pings == facts.Yes || r.Closed:
			if !anyServes && len(p.Outside) == 0 && !r.Closed && p.Alive == facts.Yes && p.Forwards == facts.Yes {
				return possible("%v is there; it may be waiting for answers from outside, where nothing answers", r.Address)
			}
		case asked && n.Outcome == evidence.Silent && (p.Alive == facts.Yes || len(p.Others) > 0):
			reason += ", nor ARP"
		default:
			return possible("%v is silent, and so is the segment around it", r.Address)
		}
		return found(standing, fmt.Sprintf("The name server %v on this segment %s.", r.Address, what), reason).aside(aside).
			next(fmt.Sprintf("See that the machine %v is on and its name service runs.", r.Address))
	}
	next := fmt.Sprintf("Ask whoever runs %v whether its name service is up; set another name server meanwhile.", r.Address)
	sentence := fmt.Sprintf("The name server %v beyond the gateway %s.", r.Address, what)
	if r.Pings == facts.Yes || r.Closed {
		return found(standing, sentence, reason, fmt.Sprintf("%v itself is reached", r.Address)).aside(aside).next(next)
	}
	if w := witnessesBut(p, r.Address); len(w) > 0 {
		return found(standing, sentence, reason, fmt.Sprintf("others beyond the gateway answer: %s", wording.List(w))).aside(aside).
			next(next)
	}
	if _, n, ok := p.CommonEnd(); ok && n > 1 {
		return possible("%v is silent, and so is all else that lies behind the same router", r.Address)
	}
	if _, _, circling := p.Loop(); circling {
		return possible("%v is silent, and packets towards it circle", r.Address)
	}
	if len(p.Outside) > 0 {
		return found(Supported, sentence, reason, fmt.Sprintf("routers on the way to it answer: %s", wording.List(p.Outside))).aside(aside).
			next(next)
	}
	return possible("%v is silent, and nothing else beyond the gateway answers either", r.Address)
}

func witnessesBut(p *facts.Facts, a netip.Addr) (out []netip.Addr) {
	for _, w := range p.Witnesses() {
		if w != a {
			out = append(out, w)
		}
	}
	return out
}

// ResolverSilent: a name server beyond that does not serve.
var ResolverSilent = &Fault{
	ID: "resolver-silent", Zone: zone.Beyond, Place: 80, Scope: OfEverybody, Matters: ByReach, Check: "names",
	Needs: []evidence.Kind{evidence.NameLookup, evidence.PathTrace}, OnSilence: true,
	Doc: `The name server beyond the gateway does not answer
The DNS server that this machine asks lies beyond the gateway and does not answer, while others there do. Addresses work, names do not,
and "the Internet is down". Set another name server, or wait for this one.`,
	Judge: func(p *facts.Facts) Finding { return formerly(p, judgeSilentResolver(p, false)) },
}

// NameNotFound: the name does not exist.
var NameNotFound = &Fault{
	ID: "name-not-found", Zone: zone.Beyond, Place: 90, Scope: OfEverybody | OfTarget, Matters: ByReach, Check: "names",
	Needs: []evidence.Kind{evidence.NameLookup},
	Doc: `The name does not exist
Every name server that answers says that there is no such name, or no address for it: it is misspelt, was never entered, or has been taken
out. The network is in order. Compare the name letter by letter with the one that others use.`,
	Judge: func(p *facts.Facts) Finding {
		if !p.NeedsName() {
			return cleared("the target needs no look-up")
		}
		if len(p.Addresses) > 0 {
			return cleared("%s is %s", p.Target.Name, wording.List(p.Addresses))
		}
		var say, silent []string
		for _, r := range p.Resolvers {
			switch {
			case r.Has:
				return cleared("%v has an address for it", r.Address)
			case r.Cut:
				return cleared("%v has an answer, which does not come through as a whole", r.Address)
			case r.Missing:
				say = append(say, r.Address.String())
			case r.Speaks != facts.Yes || r.Mute:
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
		if n := forged(p); n > 0 {
			standing = Supported
			reason += fmt.Sprintf("; %s no answer to what was asked: somebody else may be answering",
				wording.Plural(n, "message was", "messages were"))
		}
		return found(standing, fmt.Sprintf("The name %s does not exist, or has no address.", p.Target.Name), reason).
			next("Compare the name letter by letter with the one that works for others.",
				"Ask whoever looks after the domain whether it was taken out.")
	},
}

// NameServerFailing: the name servers answer that they cannot.
var NameServerFailing = &Fault{
	ID: "name-server-failing", Zone: zone.Beyond, Place: 100, Scope: OfEverybody, Matters: ByReach, Check: "names",
	Needs: []evidence.Kind{evidence.NameLookup, evidence.PathTrace}, OnSilence: true,
	Doc: `The name servers fail
The name servers answer, and say that they cannot or will not look the name up (SERVFAIL, REFUSED): the domain's own servers are out of
order, its signatures do not fit, or the resolver is not meant for this network. Try another resolver; if it fails as well, it is the
domain.`,
	Judge: func(p *facts.Facts) Finding {
		if !p.NeedsName() {
			return cleared("the target needs no look-up")
		}
		if len(p.Addresses) > 0 {
			return cleared("%s is %s", p.Target.Name, wording.List(p.Addresses))
		}
		var failing []string
		var cut facts.ResolverFact
		for _, r := range p.Resolvers {
			if (r.Has || r.Missing) && !p.IsOpen(evidence.NameLookup) {
				return cleared("%v answers for the name", r.Address)
			}
			if r.Behind && r.Speaks == facts.No {
				return possible("%v, which the name service of this machine asks, keeps silent: that explains it", r.Address)
			}
			switch {
			case r.Cut:
				cut = r
				failing = append(failing,
					fmt.Sprintf("%v answers with a part, and gives the whole by TCP alone, which does not come through",
						r.Address))
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
		case len(p.Outside) == 0 && p.Alive != facts.No:
			return possible("the name servers fail, and nothing beyond the gateway answers: they may be cut off as well")
		}
		if cut.Address.IsValid() && len(failing) == 1 {
			return found(Confirmed,
				fmt.Sprintf("The answer of %v for %s needs TCP, and no connection to its port 53 comes about.", cut.Address,
					p.Target.Name), failing...).in(p.Stands(cut.Address)).
				next(fmt.Sprintf("Let TCP through to port 53 of %v, or set it to serve there (RFC 7766 §5).", cut.Address))
		}
		standing := Supported
		if w := p.Witnesses(); len(w) > 0 { // they may be cut off from the domain's own servers, as all here may be
			standing = Confirmed
			failing = append(failing, fmt.Sprintf("the way out is in order: %v answers", w[0]))
		}
		return formerly(p, found(standing, fmt.Sprintf("The name servers answer, and fail to look %s up.", p.Target.Name), failing...).
			next("Ask another resolver for the name; if it fails as well, tell whoever looks after the domain."))
	},
}

// formerly adds to a finding about a name that fails whether the target answers at an address that the name had before.
func formerly(p *facts.Facts, f Finding) Finding {
	if !f.Standing.Holds() || !p.NameFailed() {
		return f
	}
	for _, a := range p.Seen.Before {
		for _, c := range p.Connects {
			if c.To.Addr() != a {
				continue
			}
			switch {
			case c.Came() && c.From == a:
				f.For = append(f.For, fmt.Sprintf("%v, the address that %s had before, answers: the name alone is missing", a, p.Target.Name))
				return f
			case c.Outcome == evidence.Silent:
				f.For = append(f.For, fmt.Sprintf("%v, the address that %s had before, keeps silent as well", a, p.Target.Name))
				return f
			}
		}
	}
	return f
}

// forged counts the messages that came to questions of names and answered none of them.
func forged(p *facts.Facts) (n int) {
	for _, l := range p.Lookups {
		n += l.Ignored
	}
	return n
}

// NameAnswersDiffer: the name servers disagree, and the one in use is wrong.
var NameAnswersDiffer = &Fault{
	ID: "name-answers-differ", Zone: zone.Beyond, Place: 110, Scope: OfPlace, Matters: ByReach, Check: "names",
	Needs: []evidence.Kind{evidence.NameLookup, evidence.ServiceConnect},
	Explains: []ID{"destination-silent", "service-refused", "service-filtered", "destination-unreachable", "prohibited-by-policy",
		"name-not-found", "path-stops", "routing-loop"},
	Doc: `The name servers disagree
Two name servers give different answers for the name, and the answer of the one that programs use leads nowhere, while the other's works:
a record was changed in one place and not in the other, or one of them keeps what is long out of date. It is taken for a dead service.
Compare them in view 5; have the record corrected where it is wrong.`,
	Judge: func(p *facts.Facts) Finding {
		if !p.NeedsName() {
			return cleared("the target needs no look-up")
		}
		var used facts.ResolverFact
		for _, r := range p.Resolvers {
			if !r.Behind && (r.Has || r.Missing) {
				used = r
				break
			}
		}
		if !used.Address.IsValid() {
			return possible("no name server has spoken about the name")
		}
		others := p.OtherAddresses()
		if len(others) == 0 {
			if p.IsOpen(evidence.NameLookup) {
				return possible("not every name server has answered yet")
			}
			return cleared("no two name servers disagree about %s", p.Target.Name)
		}
		if p.Usable() == facts.Yes {
			return cleared("%v's answer leads to the target, whatever others say", used.Address)
		}
		said := "says that there is no such name"
		if len(p.Addresses) > 0 {
			said = "says " + wording.List(p.Addresses) + ", which leads nowhere"
		}
		server := giver(p, others)
		if server == used.Address {
			return cleared("%v gives %s under a completion of the name to which programs here do not come", server, wording.List(others))
		}
		reasons := []string{fmt.Sprintf("%v, which programs use, %s", used.Address, said),
			fmt.Sprintf("%v says %s", server, wording.List(others))}
		for _, a := range others {
			switch p.Opens(a) {
			case facts.Yes:
				return found(Confirmed,
					fmt.Sprintf("The name servers disagree on %s: %v %s, and %v says %v, which works.", p.Target.Name, used.Address, said,
						server, a),
					append(reasons, fmt.Sprintf("%v accepts connections", a))...).in(p.Stands(used.Address)).
					next(fmt.Sprintf("Tell whoever runs the name server %v that its answer for %s is out of date or wrong; %v has %v.",
						used.Address, p.Target.Name, server, a),
						fmt.Sprintf("Until then, a machine that asks %v reaches it.", server))
			case facts.Unknown:
				return possible("whether %v, which %v names, works has not been seen yet", a, server)
			}
		}
		return cleared("%s, which %v names, does not work either", wording.List(others), server)
	},
}

// NameFiltered: a name server blocks the name.
var NameFiltered = &Fault{
	ID: "name-filtered", Zone: zone.Beyond, Place: 105, Scope: OfPlace, Matters: IfItShows, Check: "names",
	Needs: []evidence.Kind{evidence.NameLookup},
	Explains: []ID{"name-answers-differ", "destination-silent", "service-refused", "service-filtered", "destination-unreachable",
		"path-stops"},
	Doc: `A name server blocks the name
The name server answers with an address that no host has, as filters for advertising, for children or against malware do: programs turn to
this machine itself, and find nobody or the wrong one. The network is in order. It is taken for a service that refuses. Ask whoever runs the
name server to let the name through, or ask another one.`,
	Judge: func(p *facts.Facts) Finding {
		if !p.NeedsName() {
			return cleared("the target needs no look-up")
		}
		if len(p.Addresses) == 0 {
			return possible("no name server has given an address")
		}
		for _, a := range p.Addresses {
			if !p.NobodysAddress(a) {
				return cleared("%v is an address that a host can have", a)
			}
		}
		server := giver(p, p.Addresses)
		standing := Confirmed
		if p.Addresses[0].IsLoopback() {
			standing = Supported
		}
		f := found(standing,
			fmt.Sprintf("The name server %v blocks %s: it answers with %s, which is no host's address.", server, p.Target.Name,
				wording.List(p.Addresses)), fmt.Sprintf("%v says %s", server, wording.List(p.Addresses))).in(p.Stands(server))
		if others := p.OtherAddresses(); len(others) > 0 {
			f.For = append(f.For, fmt.Sprintf("%v says %s", giver(p, others), wording.List(others)))
		}
		return f.next(fmt.Sprintf("Ask whoever runs the name server %v to let %s through, or whether it is blocked on purpose.", server,
			p.Target.Name))
	},
}

// giver is the name server that gave one of the addresses, the first in the order in which they are set.
func giver(p *facts.Facts, addrs []netip.Addr) (server netip.Addr) {
	for _, list := range [][]evidence.Lookup{p.Lookups, p.Elsewhere} {
		for _, r := range append(p.Endpoint.AskedResolvers(), netip.Addr{}) {
			for _, l := range list {
				if (l.Server == r || !r.IsValid()) && l.AboutTarget() &&
					slices.ContainsFunc(l.Addresses, func(a netip.Addr) bool { return slices.Contains(addrs, a) }) {
					return l.Server
				}
			}
		}
	}
	return server
}

// HostsFileOverride: the machine's own hosts file says something else than DNS.
var HostsFileOverride = &Fault{
	ID: "hosts-file-override", Zone: zone.Host, Place: 190, Scope: OfMachine, Matters: ByReach, Check: "resolvers",
	Needs: []evidence.Kind{evidence.Settings, evidence.NameLookup, evidence.ServiceConnect},
	Explains: []ID{"destination-silent", "service-refused", "service-filtered", "destination-unreachable", "prohibited-by-policy",
		"path-stops", "routing-loop", "gateway-silent", "uplink-down", "mask-too-wide"},
	Doc: `The hosts file has an old address
This machine's hosts file answers the name, before any name server is asked, and with an address that leads nowhere; the one that DNS
gives works. Somebody entered it once for a test or a move. Other machines work, and look-up tools that ask DNS show the right address.
Delete the line.`,
	Judge: func(p *facts.Facts) Finding {
		if p.Target.Name == "" || p.Source != "hosts file" {
			return cleared("the hosts file does not answer for the target")
		}
		if len(p.Addresses) > 0 && !slices.ContainsFunc(p.Addresses, func(a netip.Addr) bool { return !p.NobodysAddress(a) }) {
			return found(Confirmed,
				fmt.Sprintf("This machine's hosts file blocks %s: it leads to %s, which is nobody's address.", p.Target.Name,
					wording.List(p.Addresses))).
				next(fmt.Sprintf("Delete the line for %s from /etc/hosts if it should be reached; then run again.", p.Target.Name)).
				withoutHosts(p)
		}
		others := p.OtherAddresses()
		switch {
		case len(others) == 0 && p.IsOpen(evidence.NameLookup):
			return possible("what DNS says of the name is not known yet")
		case len(others) == 0:
			return cleared("no name server says anything else of %s", p.Target.Name)
		case p.Usable() == facts.Yes:
			return cleared("%s, from the hosts file, works", wording.List(p.Addresses))
		}
		line := fmt.Sprintf("the hosts file has %s for %s", wording.List(p.Addresses), p.Target.Name)
		mend := fmt.Sprintf("Delete the line for %s from /etc/hosts, or give it the address %s; then run again.", p.Target.Name,
			wording.List(others))
		for _, a := range others {
			switch p.Opens(a) {
			case facts.Yes:
				return found(Confirmed,
					fmt.Sprintf("This machine's hosts file sends %s to %s, which leads nowhere; DNS says %v, which works.", p.Target.Name,
						wording.List(p.Addresses), a),
					line, fmt.Sprintf("%v says %s", giver(p, others), wording.List(others)), fmt.Sprintf("%v accepts connections", a)).
					next(mend).withoutHosts(p)
			case facts.Unknown:
				return possible("whether %v, which DNS names, works has not been seen yet", a)
			}
		}
		return cleared("%s, which DNS names, does not work either", wording.List(others))
	},
}

// withoutHosts offers to take the target's name out of the hosts file.
func (f Finding) withoutHosts(p *facts.Facts) Finding {
	var c change.Change
	for _, h := range change.Of(p.Endpoint).Hosts {
		if strings.EqualFold(h.Name, p.Target.Name) {
			c.Steps = append(c.Steps, change.Op{Do: change.RemoveHost, Address: h.Address, Name: h.Name})
		}
	}
	if len(c.Steps) == 0 {
		return f
	}
	return f.mends("Take "+p.Target.Name+" out of the hosts file", "", c)
}

// setWrongly gives the name servers that were set by hand and do not serve, where all that are set fail, and one that serves, named by
// somebody.
func setWrongly(p *facts.Facts) (bad []netip.Addr, good netip.Addr, who string, ok bool) {
	if !p.NeedsName() || len(p.Resolvers) == 0 {
		return nil, good, "", false
	}
	_, named := p.ResolversNamed()
	for _, r := range p.Resolvers {
		switch {
		case r.Behind:
		case r.Speaks != facts.No || named[r.Address] != "" || r.Address.IsLoopback() || p.Owns(r.Address):
			return nil, good, "", false
		default:
			bad = append(bad, r.Address)
		}
	}
	for _, q := range p.Elsewhere {
		if named[q.Server] != "" && q.Outcome == evidence.Answered && q.AboutTarget() && (q.RCode == "NOERROR" || q.RCode == "NXDOMAIN") {
			return bad, q.Server, named[q.Server], len(bad) > 0
		}
	}
	return nil, good, "", false
}

// ResolverWrong: the name server was set by hand, and is none.
var ResolverWrong = &Fault{
	ID: "resolver-wrong", Zone: zone.Host, Place: 180, Scope: OfMachine, Matters: WhenNamesFail, Check: "resolvers",
	Needs: []evidence.Kind{evidence.Settings, evidence.NameLookup, evidence.DHCPOffer, evidence.Handoffs}, OnSilence: true,
	Explains: []ID{"resolver-silent-local", "resolver-silent", "name-server-failing"},
	Doc: `The name server set on this machine serves no names
The DNS server was set by hand on this machine, and there is no name service at that address, or nobody at all; the one that the network
itself names answers. Addresses work and names do not, on this machine alone. It is taken for a dead name server. Set the one that the
network names, or set it back to automatic.`,
	Judge: func(p *facts.Facts) Finding {
		if len(p.Resolvers) == 0 {
			return cleared("no name server is set at all")
		}
		for _, r := range p.Resolvers {
			if r.Speaks == facts.Yes && (!r.Address.IsLoopback() || r.Has || r.Missing) { // a stub that lives says nothing of whom it asks
				return cleared("%v answers", r.Address)
			}
		}
		bad, good, who, wrong := setWrongly(p)
		if !wrong {
			_, named := p.ResolversNamed()
			for _, r := range p.Resolvers {
				if named[r.Address] != "" {
					return cleared("%v is named by %s: it was not set wrongly here", r.Address, named[r.Address])
				}
			}
			if !p.IsOpen(evidence.NameLookup, evidence.Handoffs, evidence.DHCPOffer) && len(named) == 0 &&
				!p.IsWithheld(evidence.DHCPOffer) {
				return cleared("nobody names another name server for this network")
			}
			return possible("whether another name server that the network names would answer is not known")
		}
		what := "does not answer"
		if slices.ContainsFunc(p.Resolvers, func(r facts.ResolverFact) bool { return r.Closed }) {
			what = "runs no name service"
		}
		return found(Confirmed,
			fmt.Sprintf("The name server set on this machine, %s, %s; %v answers, which %s names.", wording.List(bad), what, good, who),
			fmt.Sprintf("%s: %s", wording.List(bad), what), fmt.Sprintf("%s names %v, and it answers for %s", who, good, p.Target.Name)).
			aside(p.Usable() == facts.Yes).
			next(fmt.Sprintf("Set the name server to %v, or back to automatic.", good)).
			inFull(p, good.Is6(), settings{resolvers: []netip.Addr{good}})
	},
}
