package plan

import (
	"cmp"
	"context"
	"net/netip"
	"slices"
	"sync"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/farend"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
	"passepartout/internal/nap"
	"passepartout/internal/probe"
)

// The times of the questions to the target.
const (
	// A lost first packet of a connection is sent again after a second (RFC 6298 §2); this leaves 600 ms for the answer to the second.
	connectPatience = 1600 * time.Millisecond
	// A service that was reached in r says that an echo could have come by 1.5 r: the wait for it never holds a healthy verdict up longer.
	echoGrace = 60 * time.Millisecond

	mostAddresses = 4 // of one name
	mostOthers    = 3 // addresses that others give for it, and services of the site sheet
)

var echoRepeats = []time.Duration{450 * time.Millisecond, 550 * time.Millisecond, 600 * time.Millisecond}

// Ports that are asked when the target names none: a host that ignores echo often answers here, be it with a refusal.
var commonPorts = []uint16{443, 80}

// The steps that ask the target itself begin when its address and the way to it are known.
var targetSteps = []*step{
	// By the system's own route, whichever interface was named: that traffic leaves through another one may be the fault.
	{brings: kinds(evidence.RouteLookup), after: kinds(evidence.NameLookup), needless: noTarget, most: mostAddresses, of: targetAddresses,
		ask: (*run).route},
	{brings: kinds(evidence.ServiceConnect), after: kinds(evidence.RouteLookup), of: targetSockets, ask: (*run).connect},
	{brings: kinds(evidence.ServiceConnect), after: kinds(evidence.RouteLookup), of: routedSockets, until: targetReached,
		ask: (*run).shortConnect},
	targetEcho,
	{brings: kinds(evidence.Responder), after: kinds(evidence.RouteLookup), needless: noResponder, of: wayAddresses, ask: (*run).askFarEnd},
	{brings: kinds(evidence.ServiceConnect), after: kinds(evidence.NameLookup), needless: noTarget, most: mostOthers, of: otherAddresses,
		ask: (*run).connect},
	{test: "another-port", brings: kinds(evidence.ServiceConnect), after: kinds(evidence.RouteLookup), of: otherInterfaces, needless: works,
		ask: (*run).connectBy},
	{test: "documented-services", brings: kinds(evidence.ServiceConnect), of: documented, needless: works, ask: (*run).askService},
}

var targetEcho = &step{brings: kinds(evidence.TargetEcho), after: kinds(evidence.RouteLookup), of: wayAddresses, until: echoOver,
	ask: (*run).targetEcho}

func noTarget(m *moment) bool { return m.Target.IsZero() }

func noResponder(m *moment) bool { return m.run.Responder.IsZero() }

func targetAddresses(m *moment) []subject { return each(m.Addresses) }

// ways are the system's answers how the target's addresses are reached, of those that are.
func (m *moment) ways() []endpoint.RouteAnswer {
	return slices.DeleteFunc(slices.Clone(m.Routes), func(r endpoint.RouteAnswer) bool {
		return r.Verdict != endpoint.Forward && r.Verdict != endpoint.LocalRoute
	})
}

func wayAddresses(m *moment) (out []subject) {
	for _, route := range m.ways() {
		out = append(out, subject{addr: route.To})
	}
	return out
}

func (r *run) ports() []uint16 {
	if r.Target.Port != 0 {
		return []uint16{r.Target.Port}
	}
	return commonPorts
}

func targetSockets(m *moment) (out []subject) {
	for _, route := range m.ways() {
		for _, port := range m.run.ports() {
			out = append(out, subject{addr: route.To, port: port})
		}
	}
	return out
}

// routedSockets are those behind a gateway, which ends a packet with a hop limit of 1.
func routedSockets(m *moment) (out []subject) {
	for _, route := range m.ways() {
		if route.Via.IsValid() {
			out = append(out, subject{addr: route.To, port: m.run.ports()[0]})
		}
	}
	return out
}

func otherAddresses(m *moment) (out []subject) {
	others := m.OtherAddresses()
	if m.NameFailed() {
		others = append(others, m.Seen.Before...)
	}
	for _, a := range others {
		for _, port := range m.run.ports() {
			out = append(out, subject{addr: a, port: port})
		}
	}
	return out
}

// otherInterfaces are all others that could lead to an address of the target.
func otherInterfaces(m *moment) (out []subject) {
	for _, route := range m.ways() {
		for _, i := range m.otherWaysOut(route.To, route.Interface) {
			out = append(out, subject{addr: route.To, port: m.run.ports()[0], iface: i})
		}
	}
	return out
}

// otherWaysOut are the interfaces other than the one that is taken by which an address could be reached: those with a gateway.
func (m *moment) otherWaysOut(to netip.Addr, taken string) (out []string) {
	for _, i := range m.Endpoint.Interfaces {
		_, gateway := m.Endpoint.Gateway(i.Name, to.Is6())
		if i.Name != taken && i.Up && i.Kind != endpoint.LoopbackKind && i.Carrier != endpoint.CarrierAbsent &&
			len(i.Usable(to.Is6())) > 0 && gateway {
			out = append(out, i.Name)
		}
	}
	return out
}

// documented are services of the site sheet: they tell one target from all.
func documented(m *moment) (out []subject) {
	if m.Sheet == nil || m.Target.IsZero() {
		return nil
	}
	for _, x := range m.Sheet.Services[:min(len(m.Sheet.Services), mostOthers)] {
		if x.Target.Host() != m.Target.Host() {
			out = append(out, subject{target: x.Target})
		}
	}
	return out
}

func (r *run) route(ctx context.Context, s subject) {
	route, err := r.Machine.Route(ctx, s.addr, "")
	if err != nil {
		route = endpoint.RouteAnswer{To: s.addr, Verdict: endpoint.NoRoute, Reason: err.Error()}
	}
	r.observe(evidence.Route(route))
}

// tryConnect tries to open a connection.
func (r *run) tryConnect(ctx context.Context, c machine.ConnectConfig) evidence.Reply {
	ask, cancel := nap.Within(ctx, connectPatience)
	defer cancel()
	return probe.AskConnect(ask, r.Machine, c)
}

func (r *run) connect(ctx context.Context, s subject) {
	to := netip.AddrPortFrom(s.addr, s.port)
	if reply := r.tryConnect(ctx, machine.ConnectConfig{To: to}); ctx.Err() == nil || reply.Came() {
		r.observe(evidence.Connect{To: to, Reply: reply})
	}
}

// shortConnect tries to open a connection with a hop limit of 1, which the gateway ends: if it is accepted all the same, somebody there
// answers in the target's place.
func (r *run) shortConnect(ctx context.Context, s subject) {
	const hopLimit = 1
	to := netip.AddrPortFrom(s.addr, s.port)
	reply := r.tryConnect(ctx, machine.ConnectConfig{To: to, HopLimit: hopLimit})
	r.observe(evidence.ShortConnect{To: to, HopLimit: hopLimit, Reply: reply})
}

// connectBy tries to reach the target out of another interface.
func (r *run) connectBy(ctx context.Context, s subject) {
	to := netip.AddrPortFrom(s.addr, s.port)
	if reply := r.tryConnect(ctx, machine.ConnectConfig{To: to, Interface: s.iface}); ctx.Err() == nil || reply.Came() {
		r.observe(evidence.OtherWay{Interface: s.iface, To: to, Reply: reply})
	}
}

func (r *run) askService(ctx context.Context, s subject) {
	ask, cancel := nap.Within(ctx, connectPatience)
	defer cancel()
	addrs, _, err := probe.Resolve(ask, r.Machine, r.endpoint, s.target, r.Families)
	if err != nil || len(addrs) == 0 {
		return
	}
	ports := commonPorts
	if s.target.Port != 0 {
		ports = []uint16{s.target.Port}
	}
	var wg sync.WaitGroup
	for _, port := range ports {
		wg.Go(func() {
			defer guard.Goroutine()
			r.connect(ctx, subject{addr: addrs[0], port: port})
		})
	}
	wg.Wait()
}

// opened gives the round trip in which a connection to an address opened, and a request over it was answered where one was asked for.
func (m *moment) opened(a netip.Addr) (time.Duration, bool) {
	for _, c := range m.Connects {
		if c.To.Addr() == a && c.Outcome == evidence.Answered && (m.Target.URL == "" ||
			slices.ContainsFunc(m.Webs,
				func(w evidence.Web) bool { return w.To.Addr() == a && w.Via == "" && w.Outcome == evidence.Answered })) {
			return c.RTT, true
		}
	}
	return 0, false
}

// targetReached: who is nearer is quicker, and is not waited for longer than the target itself takes and a grace.
func targetReached(m *moment, s subject) (bool, time.Duration) {
	return slices.ContainsFunc(m.Connects, func(c evidence.Connect) bool {
		return c.To == netip.AddrPortFrom(s.addr, s.port) && c.Outcome == evidence.Answered
	}), echoGrace
}

// echoOver: when the service was reached, an echo gets half as long again, and a grace.
func echoOver(m *moment, s subject) (bool, time.Duration) {
	rtt, ok := m.opened(s.addr)
	return ok, rtt/2 + echoGrace
}

// targetEcho asks the target for an echo until it answers, the repeats are used up, or the service was reached and the grace is over.
func (r *run) targetEcho(ctx context.Context, s subject) {
	for _, wait := range echoRepeats {
		ask, cancel := nap.Within(ctx, wait)
		began := time.Now()
		e, _ := r.echoer.AskEcho(ask, probe.EchoQuestion{To: s.addr, Size: 48})
		cancel()
		if r.stopped() && !e.Came() {
			return
		}
		r.observe(e)
		if e.Came() || ctx.Err() != nil || e.Outcome == evidence.LocalError {
			return
		}
		probe.Sleep(ctx, wait-time.Since(began))
	}
}

// askFarEnd finds out whether what is sent to an address of the target arrives there, from our responder at the far end.
func (r *run) askFarEnd(ctx context.Context, s subject) {
	addrs, _, err := probe.Resolve(ctx, r.Machine, r.endpoint, r.Responder, evidence.Families{})
	if err != nil {
		addrs = nil
	}
	port := cmp.Or(r.Responder.Port, farend.Port)
	known := []netip.AddrPort{netip.AddrPortFrom(s.addr, port)}
	for _, x := range addrs {
		if x != s.addr {
			known = append(known, netip.AddrPortFrom(x, port))
		}
	}
	f := probe.AskFarEnd(ctx, r.Machine, known[0], known)
	if ctx.Err() == nil || f.Answered > 0 || f.Told {
		r.observe(f)
	}
}
