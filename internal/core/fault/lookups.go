package fault

import (
	"fmt"
	"slices"
	"strings"

	"passepartout/internal/core/change"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

var lookupsFaults = []*Fault{LookupsSwitchedOff, LocalStubBroken}

// LookupsSwitchedOff: programs on this machine do not ask DNS at all.
var LookupsSwitchedOff = &Fault{
	ID: "lookups-switched-off", Zone: zone.Host, Place: 172, Scope: OfMachine, Matters: WhenNamesFail, Check: "resolvers",
	Needs: []evidence.Kind{evidence.Settings},
	Explains: []ID{"resolver-not-set", "resolver-wrong", "local-stub-broken", "resolver-silent-local", "resolver-silent", "name-not-found",
		"name-server-failing", "name-answers-differ", "name-filtered"},
	Doc: `This machine is set not to ask DNS
The settings that say where programs look for hosts (nsswitch.conf) leave DNS out, or end the search before it. Name servers answer, tools
that ask them show the right address, and no program on this machine reaches anything by name. Put dns back on the hosts line.`,
	Judge: func(p *facts.Facts) Finding {
		switch {
		case p.Endpoint == nil:
			return possible("the machine's settings have not been read")
		case !p.NeedsName():
			return cleared("the target needs no look-up")
		case slices.Contains(p.Endpoint.NameWays(), endpoint.ByDNS):
			return cleared("programs here ask DNS")
		}
		var line []string
		for _, s := range p.Endpoint.Switching {
			line = append(line, s.Service)
			if s.EndsNotFound {
				line = append(line, "(no further when it does not know)")
			}
		}
		f := found(Confirmed, fmt.Sprintf("Programs on this machine do not ask DNS, so that %s leads nowhere.", p.Target.Name),
			fmt.Sprintf("%s has hosts looked for in: %s", endpoint.SwitchFile, strings.Join(line, ", ")))
		if others := p.OtherAddresses(); len(others) > 0 {
			f.For = append(f.For, fmt.Sprintf("%v, asked all the same, says %s", giver(p, others), wording.List(others)))
		}
		return f.next(fmt.Sprintf("Set the hosts line of %s to: files dns; then run again.", endpoint.SwitchFile)).
			mends("Have programs here ask DNS", "", change.Change{Steps: []change.Op{{Do: change.SetSources, Name: "files dns"}}})
	},
}

// LocalStubBroken: the name service on this machine itself does not serve.
var LocalStubBroken = &Fault{
	ID: "local-stub-broken", Zone: zone.Host, Place: 175, Scope: OfMachine, Matters: WhenNamesFail, Check: "resolvers",
	Needs: []evidence.Kind{evidence.Settings, evidence.NameLookup}, Explains: []ID{"name-server-failing"},
	Doc: `The name service on this machine itself does not serve
Programs here ask a name service on the machine itself, which passes questions on; it is not running, or hangs, while the name servers
behind it are well. Addresses work and names do not, on this machine alone. It is taken for a dead name server. Start it again.`,
	Judge: func(p *facts.Facts) Finding {
		var behind []string // those that it is known to ask, and that answer
		var past settings
		knows, anyServes, own := false, false, 0
		for _, r := range p.Resolvers {
			if r.Behind && r.Speaks == facts.Yes {
				behind = append(behind, fmt.Sprintf("%v, which it asks, answers", r.Address))
				past.resolvers = append(past.resolvers, r.Address)
				knows = knows || r.Has
			}
			anyServes = anyServes || r.Serves()
		}
		for _, r := range p.Resolvers {
			if r.Behind || !r.Address.IsLoopback() && !p.Owns(r.Address) {
				continue
			}
			own++
			what, standing := "", Supported
			switch {
			case r.Closed:
				what, standing = "is not running: nobody serves there", Confirmed
			case r.Speaks == facts.No && len(behind) > 0:
				what, standing = "does not answer", Confirmed
			case r.Speaks == facts.No:
				what = "does not answer"
			case (r.RCode != "" || r.Mute) && knows && !p.IsOpen(evidence.NameLookup):
				what = "fails, and whom it asks does not"
			default:
				continue
			}
			f := found(standing, fmt.Sprintf("The name service on this machine itself, %v, %s.", r.Address, what),
				append([]string{fmt.Sprintf("%v %s", r.Address, what)}, behind...)...).
				aside(anyServes || p.Usable() == facts.Yes || !p.NeedsName() && !p.Target.IsZero()).
				next("Restart the name service of this machine (systemd-resolved, or whatever listens there), then run again.")
			if len(past.resolvers) > 0 {
				past.who = "the service itself asks"
				f = f.next("Until then programs can ask "+wording.List(past.resolvers)+" themselves.").
					together(p, past.resolvers[0].Is6(), past)
			}
			return f
		}
		switch {
		case own == 0:
			return cleared("programs here ask no name service on this machine itself")
		case p.IsOpen(evidence.NameLookup):
			return possible("the name service on this machine has not answered yet")
		}
		return cleared("the name service on this machine answers")
	},
}
