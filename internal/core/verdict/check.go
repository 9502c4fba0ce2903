package verdict

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/subnet"
)

// State is how a check came out.
type State uint8

// The states. Zero is unknown.
const (
	StateUnknown State = iota
	Holds
	Strained
	Broken
	Skipped
)

var stateNames = [...]string{"unknown", "holds", "strained", "broken", "skipped"}

func (s State) String() string { return stateNames[s] }

// MarshalText gives the contract's word.
func (s State) MarshalText() ([]byte, error) { return []byte(stateNames[s]), nil }

// Check is one thing that was looked at: what was asked, what came back, what it means.
type Check struct {
	ID     string
	Label  string // one or two words, for a list
	Zone   fault.Zone
	State  State
	Fact   string   // what is so, in one line
	Asked  string   // what was asked, of whom
	Heard  []string // what came back
	Means  string
	Clears []string // ids of the suspects that it clears
	Mend   []string
	Took   time.Duration
}

// checks builds the list in the order of the work: host, local subnet, beyond.
func checks(p *fault.Pass, suspects []Suspect, usable fault.Answer) []Check {
	if p.Endpoint == nil {
		return []Check{}
	}
	all := []Check{loopback(p), link(p), address(p), route(p), resolvers(p)}
	if _, ready := p.Ready(); ready {
		all = append(all, conflict(p), neighbours(p))
	}
	all = append(all, dhcp(p))
	if p.Gateway.IsValid() {
		all = append(all, gateway(p), forwarding(p))
	}
	if !p.Target.IsZero() {
		all = append(all, names(p), path(p), service(p))
		if p.Target.Port != 0 {
			all = append(all, echo(p))
		}
	} else if len(p.Resolvers) > 0 {
		all = append(all, names(p))
	}
	for i := range all {
		c := &all[i]
		for _, s := range suspects {
			if s.Fault.Check != c.ID {
				continue
			}
			switch {
			case s.Standing == fault.Cleared:
				c.Clears = append(c.Clears, s.Fault.ID)
			case s.Standing.Holds():
				c.State = Broken
				if s.finding.Aside || usable == fault.Yes {
					c.State = Strained
				}
				c.Means = s.Fault.Explanation()
				c.Mend = append(c.Mend, s.finding.Next...)
				c.Heard = append(c.Heard, s.For...)
				c.Heard = dedupe(c.Heard)
			}
		}
		if c.State == Broken {
			c.Clears = ruledOut(*c, suspects)
		}
	}
	return all
}

// ruledOut lists what is cleared in the zones up to a broken check's own: what the next team need not look at.
func ruledOut(c Check, suspects []Suspect) (out []string) {
	for _, s := range suspects {
		if s.Standing == fault.Cleared && s.Zone <= c.Zone {
			out = append(out, s.Fault.ID)
		}
	}
	return out
}

func dedupe(in []string) (out []string) {
	for _, s := range in {
		if !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}

// came sorts a reply into a state and words.
func came(r evidence.Reply) (State, string) {
	switch r.Outcome {
	case evidence.Answered:
		return Holds, "answered in " + fault.Millis(r.RTT)
	case evidence.Refused:
		return Broken, fmt.Sprintf("refused by %v in %s", r.From, fault.Millis(r.RTT))
	case evidence.Unreachable:
		return Broken, fmt.Sprintf("%v says: %v (ICMP type %d, code %d)", r.From, r.Why, r.ICMPType, r.ICMPCode)
	case evidence.Expired:
		return Broken, fmt.Sprintf("ended at %v", r.From)
	case evidence.Silent:
		return Broken, "no answer within " + fault.Millis(r.Waited)
	case evidence.LocalError, evidence.Nonsense:
		return Broken, "not sent: " + r.Reason
	}
	return StateUnknown, "no answer yet"
}

func loopback(p *fault.Pass) Check {
	c := Check{ID: "loopback", Label: "loopback", Zone: fault.Host, Asked: "echo of this machine's own 127.0.0.1", Fact: "not asked yet", Means: "the machine's own network stack works"}
	for _, e := range p.Loopback {
		c.State, c.Fact = came(e.Reply)
		c.Took = e.RTT
		c.Heard = []string{fmt.Sprintf("%v %s", e.Asked, c.Fact)}
	}
	return c
}

func link(p *fault.Pass) Check {
	c := Check{ID: "link", Label: "port", Zone: fault.Host, Asked: "the system, about its network port", Means: "the cable has a signal and the port is in use"}
	i := p.Iface
	if i == nil {
		c.State, c.Fact = Broken, "no network port besides loopback"
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

func address(p *fault.Pass) Check {
	c := Check{ID: "address", Label: "address", Zone: fault.Host, Asked: "the system, about the port's addresses", Means: "the machine can speak on its segment under an address of its own"}
	if p.Iface == nil {
		c.State, c.Fact = Skipped, "no port"
		return c
	}
	usable := append(p.Iface.Usable(false), p.Iface.Usable(true)...)
	for _, a := range p.Iface.Addresses {
		c.Heard = append(c.Heard, fmt.Sprintf("%v, %v, set %v", a.Prefix, subnet.KindOf(a.Prefix.Addr()), a.Origin))
	}
	switch {
	case !p.Iface.Up:
		c.State, c.Fact = Skipped, "the port is off"
	case len(usable) > 0:
		c.State, c.Fact = Holds, fmt.Sprintf("%v, set %v", usable[0].Prefix, usable[0].Origin)
		if a := usable[0]; a.Prefix.Addr().Is4() {
			c.Heard = append(c.Heard, fmt.Sprintf("mask %s: %v to %v", subnet.Mask(a.Prefix), a.Prefix.Masked().Addr(), subnet.Last(a.Prefix)))
		}
	default:
		c.State, c.Fact = Broken, "no usable address"
		if own, self := p.Iface.SelfAssigned(); self {
			c.Fact = fmt.Sprintf("only %v, which the machine gave itself", own.Prefix.Addr())
		}
	}
	return c
}

func route(p *fault.Pass) Check {
	c := Check{ID: "route", Label: "gateway set", Zone: fault.Host, Asked: "the system: how would you reach the target?", Means: "the machine knows whom to hand traffic for elsewhere"}
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
	switch {
	case p.Iface == nil || !p.Iface.Up:
		c.State, c.Fact = Skipped, "the port is off"
	case p.Gateway.IsValid() && (p.OnLink(p.Gateway) || p.Gateway.IsLinkLocalUnicast()):
		c.State, c.Fact = Holds, fmt.Sprintf("%v lies inside the mask", p.Gateway)
	case p.Gateway.IsValid():
		c.State, c.Fact = Strained, fmt.Sprintf("%v lies outside the mask", p.Gateway)
	case p.TargetOnLink():
		c.State, c.Fact = Holds, "none needed: the target is on the segment"
	default:
		c.State, c.Fact = Broken, "no gateway is set"
	}
	return c
}

func resolvers(p *fault.Pass) Check {
	c := Check{ID: "resolvers", Label: "resolvers set", Zone: fault.Host, State: Holds, Asked: "the system's settings", Means: "the machine knows whom to ask for names"}
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
	c.Fact = fault.List(list)
	if len(p.Endpoint.Search) > 0 {
		c.Heard = append(c.Heard, "short names are completed with "+strings.Join(p.Endpoint.Search, ", "))
	}
	if len(list) == 0 {
		c.State, c.Fact = Strained, "no name server is set"
	}
	return c
}

func conflict(p *fault.Pass) Check {
	c := Check{ID: "conflict", Label: "address alone", Zone: fault.LocalSubnet, Asked: "the segment: does anybody else have this machine's address?", Means: "nobody else uses this machine's address", Fact: "not asked yet"}
	if p.IsWithheld(evidence.AddressConflict) {
		c.State, c.Fact = Skipped, "could not be asked"
	}
	for _, k := range p.Conflicts {
		switch k.Outcome {
		case evidence.Silent:
			c.State, c.Fact, c.Took = Holds, "nobody else answers for "+k.Address.String(), k.Waited
		case evidence.Answered:
			c.State, c.Fact = Broken, fmt.Sprintf("%v answers for %v too", k.Hardware, k.Address)
		case evidence.LocalError:
			c.State, c.Fact = Skipped, k.Reason
		}
	}
	return c
}

func neighbours(p *fault.Pass) Check {
	c := Check{ID: "neighbours", Label: "neighbours", Zone: fault.LocalSubnet, Asked: "addresses on the segment: who is there?", Means: "this machine's port, cable and address work on the segment"}
	for _, n := range p.Neighbours {
		if n.Outcome == evidence.Answered && n.Asked != p.Gateway && len(c.Heard) < 8 {
			c.Heard = append(c.Heard, fmt.Sprintf("%v is %s, in %s", n.Asked, hardware(n.Hardware), fault.Millis(n.RTT)))
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
		if p.Alive == fault.Yes {
			c.State, c.Fact = Holds, "the gateway alone"
		}
	case p.Alive == fault.Yes:
		c.State, c.Fact = Holds, "the gateway answers; nobody else was asked"
	default:
		c.Fact = "nobody has answered yet"
	}
	return c
}

func hardware(list []endpoint.HardwareAddr) string {
	var parts []string
	for _, h := range list {
		parts = append(parts, h.String())
	}
	return strings.Join(parts, " and ")
}

func dhcp(p *fault.Pass) Check {
	c := Check{ID: "dhcp", Label: "DHCP", Zone: fault.LocalSubnet, Asked: "DHCP servers: what would you offer? (no lease is taken)", Means: "an address is to be had on this segment", Fact: "not asked"}
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
		c.Heard = append(c.Heard, fmt.Sprintf("%v offers %v, router %s, resolvers %s, in %s", o.Server, o.Address, fault.List(o.Routers), fault.List(o.Resolvers), fault.Millis(o.RTT)))
	}
	switch {
	case len(d.Offers) > 0:
		c.State, c.Fact = Holds, fmt.Sprintf("%v offers %v", d.Offers[0].Server, d.Offers[0].Address)
		if p.Iface != nil && slices.ContainsFunc(p.Iface.Addresses, func(a endpoint.Address) bool { return a.Prefix == d.Offers[0].Address }) {
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

func gateway(p *fault.Pass) Check {
	c := Check{ID: "gateway", Label: "gateway", Zone: fault.LocalSubnet, Asked: fmt.Sprintf("who has %v?", p.Gateway), Means: "the way out of the segment is there", Fact: "has not answered yet"}
	n, asked := p.Neighbour(p.Gateway)
	if asked {
		c.Took = max(n.RTT, n.Waited)
		if n.Asks > 1 {
			c.Asked += fmt.Sprintf(" %d times within %s", n.Asks, fault.Millis(c.Took))
		}
	}
	switch {
	case asked && n.Outcome == evidence.Answered:
		c.State, c.Fact = Holds, fmt.Sprintf("%v answers in %s", p.Gateway, fault.Millis(n.RTT))
		c.Heard = append(c.Heard, fmt.Sprintf("%v is %s", p.Gateway, hardware(n.Hardware)))
	case p.Alive == fault.Yes:
		c.State, c.Fact = Holds, fmt.Sprintf("%v answers", p.Gateway)
	case p.Alive == fault.No:
		c.State, c.Fact = Broken, fmt.Sprintf("%v is silent", p.Gateway)
	}
	if line := echoes(p, p.Gateway); line != "" {
		c.Heard = append(c.Heard, "echo: "+line)
	}
	return c
}

// echoes sums up the echoes of one address in a line; "" if none has ended.
func echoes(p *fault.Pass, of netip.Addr) string {
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

func forwarding(p *fault.Pass) Check {
	c := Check{ID: "forwarding", Label: "uplink", Zone: fault.Beyond, Asked: "the gateway, with packets for elsewhere", Means: "the gateway passes traffic on and something answers behind it", Fact: "not known yet"}
	switch {
	case len(p.Outside) > 0:
		c.State, c.Fact = Holds, fmt.Sprintf("%d answer behind the gateway", len(p.Outside))
		c.Heard = append(c.Heard, "answered: "+fault.List(p.Outside))
	case p.Alive == fault.No:
		c.State, c.Fact = Skipped, "the gateway is not reached"
	case p.Forwards == fault.No:
		c.State, c.Fact = Broken, "nothing comes back through the gateway"
	case p.Forwards == fault.Yes && !p.IsOpen(evidence.PathTrace):
		c.State, c.Fact = Broken, "nothing behind the gateway answers"
	}
	return c
}

func names(p *fault.Pass) Check {
	c := Check{ID: "names", Label: "names", Zone: fault.Beyond, Means: "the name leads to an address", Fact: "no answer yet"}
	if p.Target.IsZero() {
		c.Means = "the name servers answer"
		c.Asked = "each name server, for the name of this machine's own address"
	} else if !p.NeedsName() {
		c.Asked = "nobody"
		c.State, c.Fact = Skipped, "no look-up needed"
		if p.Source == "hosts file" {
			c.Fact = fmt.Sprintf("the hosts file says %s", fault.List(p.Addresses))
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
			line += "has the address, " + fault.Millis(r.RTT)
		case r.Missing && p.NeedsName():
			line += "no such name or no address, " + fault.Millis(r.RTT)
		case r.RCode != "":
			line += "fails (" + r.RCode + ")"
		case r.Speaks == fault.Yes:
			line += "answers, " + fault.Millis(r.RTT)
		case r.Closed:
			line += "port 53 is closed"
		case r.Speaks == fault.No:
			line += "silent"
		case r.NotSent != "":
			line += "not asked: " + r.NotSent
		default:
			line += "no answer yet"
		}
		c.Heard = append(c.Heard, line)
		c.Took = max(c.Took, r.RTT)
		if r.Speaks == fault.Yes && p.Target.IsZero() {
			c.State, c.Fact = Holds, "answered in "+fault.Millis(c.Took)
		}
	}
	switch {
	case !p.NeedsName():
	case len(p.Addresses) > 0:
		c.State, c.Fact = Holds, fmt.Sprintf("%s is %s", p.Target.Name, fault.List(p.Addresses))
	case len(p.Resolvers) == 0:
		c.State, c.Fact = Broken, "nobody to ask"
	case p.NameFailed():
		c.State, c.Fact = Broken, "no address for "+p.Target.Name
	}
	return c
}

func path(p *fault.Pass) Check {
	c := Check{ID: "path", Label: "path", Zone: fault.Beyond, Asked: "routers on the way, by packets whose hop limit runs out there", Means: "routers pass the traffic on towards the target", Fact: "not asked yet"}
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
			if !p.IsOpen(evidence.PathTrace) && p.Usable() == fault.No {
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
	return c
}

func service(p *fault.Pass) Check {
	c := Check{ID: "service", Label: "service", Zone: fault.Beyond, Means: "what was asked for can be used", Fact: "not reached"}
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
		if w.Outcome != evidence.Answered {
			_, line = came(w.Reply)
		}
		c.Heard = append(c.Heard, line)
		c.Took = max(c.Took, w.RTT)
	}
	switch p.Usable() {
	case fault.Yes:
		c.State, c.Fact = Holds, "reached in "+fault.Millis(c.Took)
		if c.Took == 0 {
			c.Fact = "reached"
		}
	case fault.No:
		c.State = Broken
		if len(c.Heard) > 0 {
			c.Fact = c.Heard[0]
		}
	}
	if len(p.Addresses) == 0 && c.State != Holds {
		c.State = Skipped
	}
	return c
}

func echo(p *fault.Pass) Check {
	c := Check{ID: "echo", Label: "echo", Zone: fault.Beyond, Asked: "the target, for an echo", Means: "a second witness beside the service; silence alone proves nothing", Fact: "not asked"}
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
	case c.State == Broken && p.Usable() == fault.Yes:
		c.State, c.Fact = Skipped, c.Fact+"; the service works all the same"
	}
	return c
}
