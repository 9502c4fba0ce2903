package fault

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/subnet"
)

// Answer is a yes or no that may be unknown: looked and seen, looked and not seen, not looked.
type Answer uint8

// The answers.
const (
	Unknown Answer = iota
	Yes
	No
)

func answer(yes bool) Answer {
	if yes {
		return Yes
	}
	return No
}

// Pass is the evidence as the judges see it, with the facts that several of them need derived once.
type Pass struct {
	*evidence.Set
	Iface     *endpoint.Interface // nil if there is none
	Gateway   netip.Addr          // the one in the target's way, else the default one; zero: none
	Addresses []netip.Addr        // of the target
	Source    string              // where they come from
	Resolvers []ResolverFact
	Alive     Answer // the gateway answers, in whatever way
	Forwards  Answer // the gateway passes traffic on, or says that it cannot
	Others    []netip.Addr
	Outside   []netip.Addr // addresses past the gateway from which anything came
	Trails    []evidence.Trail
}

// ResolverFact is what is known of one resolver.
type ResolverFact struct {
	Address netip.Addr
	OnLink  bool
	Asked   bool
	Speaks  Answer // any DNS message came back
	Closed  bool   // port unreachable: a host is there, no service
	RCode   string // the worst that it said
	Has     bool   // it gave addresses for the name
	Missing bool   // it says that the name does not exist, or has no address
	NotSent string // why this machine did not ask
	Pings   Answer // it answers echo
	RTT     time.Duration
}

// NewPass derives the facts.
func NewPass(s *evidence.Set) *Pass {
	p := &Pass{Set: canonical(s)}
	if s.Endpoint != nil {
		if i, ok := s.Endpoint.Interface(s.Interface); ok {
			p.Iface = i
		}
	}
	p.Addresses, p.Source = s.TargetAddresses()
	p.Gateway = p.gateway()
	p.Trails = p.trails()
	p.Outside = p.outside()
	p.Others = p.others()
	p.Alive, p.Forwards = p.gatewayState()
	p.Resolvers = p.resolvers()
	return p
}

// canonical gives the evidence in an order of its own, so that no judge can depend on the order of arrival, with each reply localized.
func canonical(s *evidence.Set) *evidence.Set {
	out := *s
	byReply := func(a, b evidence.Reply) int {
		return cmp.Or(cmp.Compare(a.Outcome, b.Outcome), cmp.Compare(a.RTT, b.RTT), a.From.Compare(b.From), cmp.Compare(a.Waited, b.Waited))
	}
	out.Routes = ordered(s.Routes, func(a, b endpoint.RouteAnswer) int { return a.To.Compare(b.To) })
	out.Neighbours = ordered(s.Neighbours, func(a, b evidence.Neighbour) int { return cmp.Or(a.Asked.Compare(b.Asked), byReply(a.Reply, b.Reply)) })
	out.Heard = ordered(s.Heard, func(a, b evidence.Heard) int { return a.Address.Compare(b.Address) })
	out.Arrivals = ordered(s.Arrivals, func(a, b evidence.Arrival) int {
		return cmp.Or(a.From.Compare(b.From), cmp.Compare(a.Proto, b.Proto), cmp.Compare(a.Port, b.Port))
	})
	out.Lookups = ordered(s.Lookups, func(a, b evidence.Lookup) int {
		return cmp.Or(a.Server.Compare(b.Server), cmp.Compare(a.Name, b.Name), cmp.Compare(a.Type, b.Type), byReply(a.Reply, b.Reply))
	})
	out.Echoes = ordered(s.Echoes, func(a, b evidence.Echo) int { return cmp.Or(a.Asked.Compare(b.Asked), byReply(a.Reply, b.Reply)) })
	out.Connects = ordered(s.Connects, func(a, b evidence.Connect) int { return cmp.Or(a.To.Compare(b.To), byReply(a.Reply, b.Reply)) })
	out.Hops = ordered(s.Hops, func(a, b evidence.Hop) int {
		return cmp.Or(a.To.Compare(b.To), cmp.Compare(a.HopLimit, b.HopLimit), byReply(a.Reply, b.Reply))
	})
	if s.Discovery != nil {
		d := *s.Discovery
		d.Offers = ordered(d.Offers, func(a, b evidence.Offer) int { return a.Server.Compare(b.Server) })
		out.Discovery = &d
	}
	for i := range out.Lookups {
		out.Lookups[i].Reply = localized(s.Endpoint, out.Lookups[i].Reply)
	}
	for i := range out.Echoes {
		out.Echoes[i].Reply = localized(s.Endpoint, out.Echoes[i].Reply)
	}
	for i := range out.Connects {
		out.Connects[i].Reply = localized(s.Endpoint, out.Connects[i].Reply)
	}
	for i := range out.Hops {
		out.Hops[i].Reply = localized(s.Endpoint, out.Hops[i].Reply)
	}
	return &out
}

func ordered[T any](list []T, by func(a, b T) int) []T {
	list = slices.Clone(list)
	slices.SortStableFunc(list, by)
	return list
}

// localized turns "host unreachable" that the machine's own kernel said into what it is: the packet was not sent, for want of the next
// hop's hardware address (RFC 1122 §2.3.2.2). Nobody out there has spoken.
func localized(e *endpoint.Endpoint, r evidence.Reply) evidence.Reply {
	if e != nil && r.Outcome == evidence.Unreachable && r.Why == evidence.NoHost && e.Owns(r.From) {
		return evidence.Reply{Outcome: evidence.LocalError, Reason: "the next hop's hardware address is not to be had", RTT: r.RTT}
	}
	return r
}

func (p *Pass) gateway() netip.Addr {
	for _, a := range p.Addresses {
		if r, ok := p.RouteTo(a); ok && r.Via.IsValid() && (p.Iface == nil || r.Interface == p.Iface.Name) {
			return r.Via
		}
	}
	if p.Endpoint == nil || p.Iface == nil {
		return netip.Addr{}
	}
	for _, v6 := range []bool{false, true} {
		if gw, ok := p.Endpoint.Gateway(p.Iface.Name, v6); ok && p.Families.Allows(gw) {
			return gw
		}
	}
	return netip.Addr{}
}

// RouteTo gives the system's answer for an address, if it was asked.
func (p *Pass) RouteTo(a netip.Addr) (endpoint.RouteAnswer, bool) {
	for _, r := range p.Routes {
		if r.To == a {
			return r, true
		}
	}
	return endpoint.RouteAnswer{}, false
}

// OnLink reports whether an address is on the segment by the interface's own prefixes.
func (p *Pass) OnLink(a netip.Addr) bool { return p.Iface != nil && p.Iface.OnLink(a) }

func (p *Pass) own(a netip.Addr) bool { return p.Endpoint != nil && p.Endpoint.Owns(a) }

func (p *Pass) trails() (out []evidence.Trail) {
	var to []netip.Addr
	for _, h := range p.Hops {
		if !slices.Contains(to, h.To) {
			to = append(to, h.To)
		}
	}
	slices.SortFunc(to, netip.Addr.Compare)
	for _, a := range to {
		if t, ok := p.TrailTo(a); ok {
			out = append(out, t)
		}
	}
	return out
}

// direct reports whether a packet came from a directly attached sender: a hop limit that nobody has lowered.
func direct(r evidence.Reply) bool {
	return r.HopLimitLeft == 64 || r.HopLimitLeft == 128 || r.HopLimitLeft == 255
}

// beyondGateway reports whether a reply shows life past the gateway: it comes from off the segment, and is not the gateway
// speaking with another of its addresses.
func (p *Pass) beyondGateway(r evidence.Reply, hop int) bool {
	if !r.Came() || !r.From.IsValid() || p.OnLink(r.From) || p.own(r.From) || r.From == p.Gateway || hop == 1 {
		return false
	}
	switch r.Outcome {
	case evidence.Unreachable:
		return !direct(r) && r.HopLimitLeft != 0
	case evidence.Expired:
		return true
	}
	return true
}

func (p *Pass) eachReply(f func(asked netip.Addr, r evidence.Reply, hop int)) {
	for _, x := range p.Echoes {
		f(x.Asked, x.Reply, 0)
	}
	for _, x := range p.Connects {
		f(x.To.Addr(), x.Reply, 0)
	}
	for _, x := range p.Lookups {
		f(x.Server, x.Reply, 0)
	}
	for _, x := range p.Webs {
		f(x.To.Addr(), x.Reply, 0)
	}
	for _, x := range p.Hops {
		f(x.To, x.Reply, x.HopLimit)
	}
}

func (p *Pass) outside() (out []netip.Addr) {
	p.eachReply(func(_ netip.Addr, r evidence.Reply, hop int) {
		if p.beyondGateway(r, hop) && !slices.Contains(out, r.From) {
			out = append(out, r.From)
		}
	})
	slices.SortFunc(out, netip.Addr.Compare)
	return out
}

// Witnesses are the end hosts past the gateway that answered by themselves: not routers on the way.
func (p *Pass) Witnesses() (out []netip.Addr) {
	p.eachReply(func(asked netip.Addr, r evidence.Reply, _ int) {
		if (r.Outcome == evidence.Answered || r.Outcome == evidence.Refused) && r.From == asked && !p.OnLink(asked) && !p.own(asked) && !slices.Contains(out, asked) {
			out = append(out, asked)
		}
	})
	return out
}

func (p *Pass) others() (out []netip.Addr) {
	gateways := []netip.Addr{p.Gateway}
	if p.Endpoint != nil {
		for _, v6 := range []bool{false, true} {
			for _, r := range p.Endpoint.DefaultRoutes(v6) {
				gateways = append(gateways, r.Via)
			}
		}
	}
	add := func(a netip.Addr) {
		if !slices.Contains(gateways, a) && !p.own(a) && !slices.Contains(out, a) {
			out = append(out, a)
		}
	}
	for _, n := range p.Neighbours {
		if n.Outcome == evidence.Answered {
			add(n.Asked)
		}
	}
	for _, h := range p.Heard {
		if p.OnLink(h.Address) && subnet.KindOf(h.Address) != subnet.LinkLocal {
			add(h.Address)
		}
	}
	for _, l := range p.Lookups {
		if l.Came() && p.OnLink(l.Server) && l.From == l.Server {
			add(l.Server)
		}
	}
	for _, e := range p.Echoes {
		if e.Came() && p.OnLink(e.From) {
			add(e.From)
		}
	}
	slices.SortFunc(out, netip.Addr.Compare)
	return out
}

// Neighbour gives the best answer to "which hardware address has a?".
func (p *Pass) Neighbour(a netip.Addr) (best evidence.Neighbour, asked bool) {
	for _, n := range p.Neighbours {
		if n.Asked == a.WithZone("") && (!asked || n.Outcome == evidence.Answered || best.Outcome == evidence.NotKnown) {
			best, asked = n, true
		}
	}
	return best, asked
}

func (p *Pass) gatewayState() (alive, forwards Answer) {
	if !p.Gateway.IsValid() {
		return Unknown, Unknown
	}
	n, asked := p.Neighbour(p.Gateway)
	switch {
	case asked && n.Outcome == evidence.Answered:
		alive = Yes
	case asked && n.Outcome == evidence.Silent:
		alive = No
	}
	if len(p.Outside) > 0 {
		return Yes, Yes
	}
	askedFirst, tries := false, 0
	p.eachReply(func(askedAddr netip.Addr, r evidence.Reply, hop int) {
		if r.Came() && r.From == p.Gateway.WithZone("") {
			alive = Yes
		}
		if hop == 1 && !p.OnLink(askedAddr) {
			askedFirst = true
			tries++
			if r.Outcome == evidence.Expired || r.Outcome == evidence.Unreachable && !p.own(r.From) {
				alive, forwards = Yes, Yes
			}
		}
		// An unreachable with an undiminished hop limit comes from the gateway, whichever of its addresses it speaks with.
		if r.Outcome == evidence.Unreachable && (r.From == p.Gateway || direct(r) && !p.own(r.From)) && !p.OnLink(askedAddr) {
			alive, forwards = Yes, Yes
		}
	})
	if forwards == Unknown && askedFirst && tries >= 2 && !p.IsOpen(evidence.PathTrace) {
		forwards = No
	}
	return alive, forwards
}

func (p *Pass) resolvers() (out []ResolverFact) {
	if p.Endpoint == nil {
		return nil
	}
	for _, a := range p.Endpoint.AskedResolvers() {
		f := ResolverFact{Address: a, OnLink: p.OnLink(a) || p.own(a)}
		silent := false
		for _, l := range p.Lookups {
			if l.Server != a {
				continue
			}
			f.Asked = true
			switch l.Outcome {
			case evidence.Answered:
				f.Speaks, f.RTT = Yes, l.RTT
				switch {
				case l.Type == "PTR": // asked for life or for a station's name, not for the target
				case len(l.Addresses) > 0:
					f.Has = true
				case l.RCode == "NXDOMAIN" || l.RCode == "NOERROR":
					f.Missing = true
				}
				if l.Type != "PTR" && l.RCode != "NOERROR" && l.RCode != "NXDOMAIN" {
					f.RCode = l.RCode
				}
			case evidence.Refused:
				f.Closed = true
			case evidence.Silent, evidence.Unreachable, evidence.Expired, evidence.Nonsense:
				silent = true
			case evidence.LocalError:
				f.NotSent = l.Reason
			}
		}
		f.Missing = f.Missing && !f.Has
		if f.Speaks == Unknown && (silent || f.Closed) {
			f.Speaks = No
		}
		p.eachReply(func(asked netip.Addr, r evidence.Reply, _ int) {
			if asked == a && r.From == a && r.Came() {
				f.Pings = Yes
			}
		})
		if n, ok := p.Neighbour(a); ok && f.OnLink && n.Outcome == evidence.Answered {
			f.Pings = Yes
		}
		out = append(out, f)
	}
	return out
}

// NeedsName reports whether the target can only be reached after a look-up.
func (p *Pass) NeedsName() bool {
	return p.Target.Name != "" && p.Source != "hosts file"
}

// NameFailed reports whether all look-ups are over and gave no address.
func (p *Pass) NameFailed() bool {
	return p.NeedsName() && len(p.Addresses) == 0 && !p.IsOpen(evidence.NameLookup, evidence.Settings)
}

// Acid is the contract's test of one address: a connection opens, a request is answered, or, when neither was asked for, anything comes back.
func (p *Pass) Acid(a netip.Addr) Answer {
	if p.Target.URL != "" {
		for _, w := range p.Webs {
			if w.To.Addr() == a && w.Outcome != evidence.NotKnown {
				return answer(w.Outcome == evidence.Answered)
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

// Usable reports whether the target can be used: every family that its name publishes, and for which this machine has a route, passes the acid
// test. Without a target: whether gateway and a resolver answer.
func (p *Pass) Usable() Answer {
	if p.Target.IsZero() {
		return p.usableLocally()
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
		if r, ok := p.RouteTo(a); ok && (r.Verdict == endpoint.Forward && !r.Via.IsValid() || r.Verdict == endpoint.LocalRoute) {
			return true
		}
	}
	return false
}

// Ready is false, with the reason, when the port is not in a state in which the segment could be judged through it.
func (p *Pass) Ready() (why string, ok bool) {
	switch {
	case p.Iface == nil:
		return "there is no port to ask through", false
	case !p.Iface.Up:
		return p.Iface.Name + " is down", false
	case p.Iface.Carrier == endpoint.CarrierAbsent:
		return p.Iface.Name + " has no carrier", false
	case len(p.Iface.Usable(false))+len(p.Iface.Usable(true)) == 0:
		return p.Iface.Name + " has no usable address", false
	}
	return "", true
}

// spared gives the reason why nothing that stands between this machine and the target can be the cause: the target itself has spoken, or its name
// led nowhere while name servers answered, so that it was never asked.
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

// OffersSeen gives the DHCP offers, and whether the question was put and its time is over.
func (p *Pass) OffersSeen() (offers []evidence.Offer, over bool) {
	if p.Discovery == nil {
		return nil, false
	}
	return p.Discovery.Offers, p.Discovery.Complete && p.Discovery.Discovers > 0
}

// address4 is the interface's first usable IPv4 address.
func (p *Pass) address4() (endpoint.Address, bool) {
	if p.Iface == nil {
		return endpoint.Address{}, false
	}
	usable := p.Iface.Usable(false)
	if len(usable) == 0 {
		return endpoint.Address{}, false
	}
	return usable[0], true
}

// List writes addresses in a row, the first few of them.
func List(addrs []netip.Addr) string {
	const most = 6
	var parts []string
	for i, a := range addrs {
		if i == most {
			parts = append(parts, fmt.Sprintf("and %d more", len(addrs)-most))
			break
		}
		parts = append(parts, a.String())
	}
	return strings.Join(parts, ", ")
}

// Millis writes a time with a unit that fits it.
func Millis(d time.Duration) string {
	switch {
	case d < 10*time.Millisecond:
		return fmt.Sprintf("%.2f ms", float64(d)/1e6)
	case d < time.Second:
		return fmt.Sprintf("%.0f ms", float64(d)/1e6)
	}
	return fmt.Sprintf("%.1f s", d.Seconds())
}

func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}
