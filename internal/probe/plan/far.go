package plan

import (
	"context"
	"net/netip"
	"slices"
	"sync"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/path"
	"passepartout/internal/machine"
	"passepartout/internal/probe"
)

// The times of the questions to what lies beyond.
const (
	// A lost first packet of a connection is sent again after a second (RFC 6298 §2); this leaves 600 ms for the answer to the second.
	connectPatience = 1600 * time.Millisecond
	// Hops that keep silent are asked again when routers that limit their errors to one a second may speak again.
	traceAgain    = time.Second
	tracePatience = 600 * time.Millisecond
	traceLast     = 16
	// A service that was reached in r says that an echo could have come by 1.5 r: the wait for it never holds a healthy verdict up longer.
	echoGrace = 60 * time.Millisecond
	shortPace = 10 * time.Millisecond // how often it is looked whether the target was reached meanwhile
)

var echoRepeats = []time.Duration{450 * time.Millisecond, 550 * time.Millisecond, 600 * time.Millisecond}

// Ports that are asked when the target names none: a host that ignores echo often answers here, be it with a refusal.
var commonPorts = []uint16{443, 80}

// startNames looks the target up and starts its tests with the first address of each family; it also asks every resolver, and the way to
// those beyond the gateway, whether or not the target needs a name.
func (r *run) startNames(ctx context.Context) {
	targetKinds := []evidence.Kind{evidence.RouteLookup, evidence.ServiceConnect, evidence.TargetEcho, evidence.WebAnswer,
		evidence.PathTrace, evidence.LossProbes, evidence.PacketSize}
	if r.Target.IsZero() {
		targetKinds = []evidence.Kind{evidence.PathTrace}
	}
	servers := r.endpoint.AskedResolvers()
	r.traceResolvers(ctx, servers)
	r.namesQuality(ctx, servers)
	if !r.Target.IsZero() {
		r.step(func() { r.traceNowhere(ctx) }, evidence.PathTrace)
	}
	var lookups sync.WaitGroup
	ask := func(name, kind string) {
		for _, server := range servers {
			lookups.Add(1) // over whichever family: -4 and -6 are about the target

			r.step(func() {
				defer lookups.Done()
				wait, cancel := context.WithCancel(ctx)
				defer cancel()
				defer context.AfterFunc(r.present(server).ctx, cancel)()
				l := probe.Lookup(wait, r.Machine, server, name, kind)
				if ctx.Err() != nil && !l.Came() {
					return
				}
				r.observe(l)
				r.testTarget(ctx)
			}, evidence.NameLookup)
		}
	}
	known, source := r.snapshot().TargetAddresses()
	if r.Target.Name != "" && len(known) == 0 && !r.Families.No4 {
		r.inDoubt("named-servers", nameAnswered, nil, func() { r.askElsewhere(ctx) }, evidence.Handoffs)
	}
	ask("", probe.Life)
	switch {
	case r.Target.Name != "" && (len(known) == 0 || source == "hosts file"): // what DNS would say in the hosts file's place is asked too
		for _, name := range evidence.Candidates(r.Target.Name, r.endpoint.Search) {
			if !r.Families.No4 {
				ask(name, "A")
			}
			if !r.Families.No6 && (r.hasRoute6() || r.sixAlone()) {
				ask(name, "AAAA")
			}
		}
	default:
		// Any message in answer shows that the service lives; the question is one that every resolver gets and that leaves no trace.
		if own := r.ownAddress(); own.IsValid() {
			ask(probe.ReverseName(own), "PTR")
		}
	}
	r.step(func() {
		r.testTarget(ctx)
		lookups.Wait()
		r.testTarget(ctx)
	}, targetKinds...)
}

// nameAnswered reports whether any of the servers that are set has answered.
func nameAnswered(s *evidence.Set) bool {
	return slices.ContainsFunc(s.Lookups, func(l evidence.Lookup) bool { return l.Outcome == evidence.Answered })
}

// askElsewhere asks the DHCP servers and the gateway for the name when none of the servers that are set has answered: many serve names as
// well, and one that does shows that the servers set are the wrong ones. The others are then waited for no longer than it took, and a
// grace.
func (r *run) askElsewhere(ctx context.Context) {
	s := r.snapshot()
	p := facts.New(s)
	candidates, _ := p.ResolversNamed()
	candidates = append(candidates, p.RoutersNamed()...)
	if l, ok := p.Lease(); ok && l.Terms.Server.IsValid() {
		candidates = append(candidates, l.Terms.Server)
	}
	offers, _ := p.OffersSeen()
	for _, o := range offers {
		candidates = append(candidates, o.Server)
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var wg sync.WaitGroup
	asked := r.endpoint.AskedResolvers()
	for _, server := range candidates {
		if !server.IsValid() || slices.Contains(asked, server) {
			continue
		}
		asked = append(asked, server)
		wg.Go(func() {
			wait, end := context.WithCancel(ctx)
			defer end()
			defer context.AfterFunc(r.present(server).ctx, end)()
			l := probe.Lookup(wait, r.Machine, server, r.Target.Name, "A")
			if ctx.Err() == nil || l.Came() {
				r.observe(evidence.ElsewhereLookup(l))
			}
			if len(l.Addresses) > 0 {
				probe.Sleep(ctx, l.RTT+echoGrace)
				cancel()
			}
		})
	}
	wg.Wait()
}

func (r *run) hasRoute6() bool { return len(r.endpoint.DefaultRoutes(true)) > 0 }

// sixAlone reports whether the machine has IPv6 addresses and no IPv4 one: what a name has for IPv6 is then all that helps, routed or not.
func (r *run) sixAlone() bool {
	own := r.ownAddress()
	return own.IsValid() && own.Is6()
}

func (r *run) ownAddress() netip.Addr {
	for _, i := range r.endpoint.Interfaces {
		for _, a := range i.Usable(false) {
			return a.Prefix.Addr()
		}
	}
	for _, i := range r.endpoint.Interfaces {
		for _, a := range i.Usable(true) {
			return a.Prefix.Addr()
		}
	}
	return netip.Addr{}
}

// testTarget starts the tests of every address of the target that is known and not yet under test.
func (r *run) testTarget(ctx context.Context) {
	const most = 4 // addresses of one name
	addrs, _ := r.snapshot().TargetAddresses()
	for _, a := range addrs {
		r.mu.Lock()
		begin := !r.acted[a] && len(r.acted) < most
		if begin {
			r.acted[a] = true
		}
		r.mu.Unlock()
		if begin {
			r.test(ctx, a)
		}
	}
	r.testOthers(ctx)
}

// testOthers opens connections to the addresses that other name servers give for the name, or that DNS gives where the hosts file says
// something else.
func (r *run) testOthers(ctx context.Context) {
	const most = 3
	for _, a := range r.snapshot().OtherAddresses() {
		r.mu.Lock()
		begin := !r.tried[a] && len(r.tried) < most
		if begin {
			r.tried[a] = true
		}
		r.mu.Unlock()
		if begin {
			r.step(func() { r.open(ctx, a, r.Target.Port) }, evidence.ServiceConnect)
		}
	}
}

// open opens a connection to an address that is not the target's, only to see whether it works.
func (r *run) open(ctx context.Context, a netip.Addr, port uint16) {
	ports := commonPorts
	if port != 0 {
		ports = []uint16{port}
	}
	ctx, cancel := context.WithTimeout(ctx, connectPatience)
	defer cancel()
	var wg sync.WaitGroup
	for _, port := range ports {
		wg.Go(func() {
			to := netip.AddrPortFrom(a, port)
			reply := probe.AskConnect(ctx, r.Machine, machine.ConnectConfig{To: to})
			r.observe(evidence.Connect{To: to, Reply: reply})
		})
	}
	wg.Wait()
}

// askServices opens connections to services of the site sheet: they tell one target from all.
func (r *run) askServices(ctx context.Context) {
	const most = 3
	var wg sync.WaitGroup
	defer wg.Wait()
	for _, x := range r.Sheet.Services[:min(len(r.Sheet.Services), most)] {
		if x.Target.Host() == r.Target.Host() {
			continue
		}
		wg.Go(func() {
			ask, cancel := context.WithTimeout(ctx, connectPatience)
			defer cancel()
			addrs, _, err := probe.Resolve(ask, r.Machine, r.endpoint, x.Target, r.Families)
			if err == nil && len(addrs) > 0 {
				r.open(ctx, addrs[0], x.Target.Port)
			}
		})
	}
}

// test asks everything of one address at once.
func (r *run) test(ctx context.Context, a netip.Addr) {
	// By the system's own route, whichever port was named: that traffic leaves through another one may be the fault.
	route, err := r.Machine.Route(ctx, a, "")
	if err != nil {
		route = endpoint.RouteAnswer{To: a, Verdict: endpoint.NoRoute, Reason: err.Error()}
	}
	r.observe(evidence.Route(route))
	if route.Verdict != endpoint.Forward && route.Verdict != endpoint.LocalRoute {
		return
	}
	ports := commonPorts
	if r.Target.Port != 0 {
		ports = []uint16{r.Target.Port}
	}
	r.otherWays(ctx, a, route.Interface, ports[0])
	if route.Via.IsValid() {
		r.step(func() { r.shortConnect(ctx, netip.AddrPortFrom(a, ports[0])) }, evidence.ServiceConnect)
	}
	if !r.Responder.IsZero() {
		r.step(func() { r.askFarEnd(ctx, a) }, evidence.Responder)
	}
	passed := make(chan time.Duration, len(ports)) // round trips of connections that opened
	for _, port := range ports {
		r.step(func() { r.connect(ctx, netip.AddrPortFrom(a, port), passed) }, evidence.ServiceConnect, evidence.WebAnswer)
	}
	over := make(chan struct{}) // closed when the target is known not to answer echo
	r.step(func() {
		if !r.targetEcho(ctx, a, passed) {
			close(over)
		}
	}, evidence.TargetEcho)
	sized := make(chan struct{}) // closed when a packet of full size is on its way
	if route.Verdict == endpoint.Forward {
		r.step(func() { r.targetQuality(ctx, a, over) }, evidence.LossProbes)
		r.step(func() {
			begun := sync.OnceFunc(func() { close(sized) })
			defer begun()
			r.size(ctx, a, route.Interface, over, begun)
		}, evidence.PacketSize)
	} else {
		close(sized)
	}
	if route.Via.IsValid() {
		r.step(func() {
			<-sized // a trace by datagrams uses up the errors that the target grants, and sizes are told by them as well
			r.trace(ctx, a, traceLast)
		}, evidence.PathTrace)
	} else if route.Verdict == endpoint.Forward && r.segment != nil {
		if own, ok := r.endpoint.Interface(r.iface); ok && own.OnLink(a) {
			r.neighbours(ctx, own, []netip.Addr{a}, route.Source, evidence.OtherNeighbours)
		}
	}
}

// otherWays tries to reach an address out of every other port that could lead there, when the way that the routing table names has not soon
// shown that it works.
func (r *run) otherWays(ctx context.Context, a netip.Addr, taken string, port uint16) {
	for _, i := range r.endpoint.Interfaces {
		_, gateway := r.endpoint.Gateway(i.Name, a.Is6())
		if i.Name == taken || !i.Up || i.Kind == endpoint.LoopbackKind || i.Carrier == endpoint.CarrierAbsent ||
			len(i.Usable(a.Is6())) == 0 || !gateway {
			continue
		}
		r.inDoubt("another-port", works, nil, func() {
			to := netip.AddrPortFrom(a, port)
			ask, cancel := context.WithTimeout(ctx, connectPatience)
			defer cancel()
			reply := probe.AskConnect(ask, r.Machine, machine.ConnectConfig{To: to, Interface: i.Name})
			if ctx.Err() == nil || reply.Came() {
				r.observe(evidence.OtherWay{Interface: i.Name, To: to, Reply: reply})
			}
		}, evidence.ServiceConnect)
	}
}

// shortConnect tries to open a connection with a hop limit of 1, which the gateway ends: if it is accepted all the same, somebody there
// answers in the target's place. It is not waited for longer than the target itself takes and a grace: whoever is nearer is quicker.
func (r *run) shortConnect(ctx context.Context, to netip.AddrPort) {
	ctx, cancel := context.WithTimeout(ctx, connectPatience)
	defer cancel()
	r.wg.Go(func() {
		for probe.Sleep(ctx, shortPace) {
			for _, c := range r.snapshot().Connects {
				if c.To == to && c.Outcome == evidence.Answered {
					probe.Sleep(ctx, echoGrace)
					cancel()
				}
			}
		}
	})
	const hopLimit = 1
	reply := probe.AskConnect(ctx, r.Machine, machine.ConnectConfig{To: to, HopLimit: hopLimit})
	r.observe(evidence.ShortConnect{To: to, HopLimit: hopLimit, Reply: reply})
}

// portalNamed reports whether the network has named a captive portal.
func portalNamed(s *evidence.Set) bool {
	uri, _ := facts.New(s).NamedPortal()
	return uri != ""
}

// askPortal asks the captive portal that a DHCP server names.
func (r *run) askPortal(ctx context.Context) {
	uri, _ := facts.New(r.snapshot()).NamedPortal()
	ask, cancel := context.WithTimeout(ctx, 2*connectPatience)
	defer cancel()
	portal := probe.AskPortal(ask, r.Machine, r.endpoint, uri)
	if ctx.Err() == nil || portal.Came() {
		r.observe(portal)
	}
}

func (r *run) connect(ctx context.Context, to netip.AddrPort, passed chan<- time.Duration) {
	ask, cancel := context.WithTimeout(ctx, connectPatience)
	reply := probe.AskConnect(ask, r.Machine, machine.ConnectConfig{To: to})
	cancel()
	if ctx.Err() != nil && !reply.Came() {
		return
	}
	r.observe(evidence.Connect{To: to, Reply: reply})
	if reply.Outcome != evidence.Answered {
		return
	}
	if r.Target.URL == "" {
		passed <- reply.RTT
		return
	}
	ask, cancel = context.WithTimeout(ctx, 2*connectPatience)
	defer cancel()
	w := probe.AskWeb(ask, r.Machine, r.Target, to.Addr(), "")
	if ctx.Err() != nil && !w.Came() {
		return
	}
	r.observe(w)
	if w.Outcome == evidence.Answered {
		passed <- reply.RTT
	}
}

// targetEcho asks the target for an echo until it answers, the repeats are used up, or the service was reached and the grace is over. It
// reports whether an echo came.
func (r *run) targetEcho(ctx context.Context, a netip.Addr, passed <-chan time.Duration) bool {
	reached := false
	for _, wait := range echoRepeats {
		ask, cancel := context.WithTimeout(ctx, wait)
		began := time.Now()
		watch := make(chan struct{})
		r.wg.Go(func() {
			select {
			case rtt := <-passed:
				reached = true
				probe.Sleep(ask, rtt*3/2+echoGrace-time.Since(began))
				cancel()
			case <-ask.Done():
			}
			close(watch)
		})
		e, _ := r.echoer.AskEcho(ask, probe.EchoQuestion{To: a, Size: 48})
		cancel()
		<-watch
		if ctx.Err() != nil && !e.Came() {
			return false
		}
		r.observe(e)
		if e.Came() || reached || e.Outcome == evidence.LocalError {
			return e.Outcome == evidence.Answered
		}
		probe.Sleep(ctx, wait-time.Since(began))
	}
	return false
}

// trace asks the routers on the way to an address.
func (r *run) trace(ctx context.Context, to netip.Addr, last int) {
	method := probe.TraceICMP
	if !r.allowed.Echo.Granted {
		method = probe.TraceUDP
	}
	_, _ = probe.Trace(ctx, r.echoer,
		probe.TraceQuestion{To: netip.AddrPortFrom(to, r.Target.Port), Method: method, First: 1, Last: last, Patience: tracePatience,
			Again: traceAgain},
		func(h path.Seen) {
			r.observe(evidence.Hop{To: to, Method: string(method), HopLimit: h.HopLimit, Reply: h.Reply})
		})
}

// traceResolvers asks the way to name servers beyond the gateway, set or offered: they are the first witnesses that tell one target from
// all.
func (r *run) traceResolvers(ctx context.Context, servers []netip.Addr) {
	const most = 2
	for _, a := range servers {
		if !r.Families.Allows(a) || r.endpoint.OnLink(a) {
			continue
		}
		route, err := r.Machine.Route(ctx, a, "")
		if err != nil || route.Verdict != endpoint.Forward || !route.Via.IsValid() {
			continue
		}
		r.mu.Lock()
		begin := !r.traced[a] && len(r.traced) < most
		if begin {
			r.traced[a] = true
		}
		r.mu.Unlock()
		if begin {
			r.step(func() { r.trace(ctx, a, traceLast) }, evidence.PathTrace)
		}
	}
}

// traceNowhere looks for life behind the gateway when no address there is known: no name server, set or offered, and no address of the
// target.
func (r *run) traceNowhere(ctx context.Context) {
	const (
		patience = 250 * time.Millisecond // by then a look-up that works has given an address, and a server has made an offer
		last     = 6
	)
	if !probe.Sleep(ctx, patience) {
		return
	}
	r.mu.Lock()
	known := len(r.traced)+len(r.acted) > 0
	r.mu.Unlock()
	if known || r.Families.No4 {
		return
	}
	route, err := r.Machine.Route(ctx, evidence.Unassigned, "")
	if err != nil || route.Verdict != endpoint.Forward || !route.Via.IsValid() {
		return
	}
	// Life behind the gateway is all that was asked for: the first router there that answers ends it.
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	r.wg.Go(func() {
		for probe.Sleep(ctx, handoffPace) {
			if len(facts.New(r.snapshot()).Outside) > 0 {
				cancel()
			}
		}
	})
	r.trace(ctx, evidence.Unassigned, last)
}
