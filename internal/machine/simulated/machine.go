package simulated

import (
	"cmp"
	"context"
	"crypto/x509"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/stack"

	"passepartout/internal/core/change"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/lease"
	"passepartout/internal/leasefile"
	"passepartout/internal/machine"
	"passepartout/internal/machine/wire"
	"passepartout/internal/scenario"
)

// endpointMachine is the node at which the technician stands.
type endpointMachine struct {
	node      *node
	privilege Privilege
	authority *scenario.Authority
	nextEcho  atomic.Uint32
	timeline  scenario.Timeline
	began     time.Time
	told      []change.Op                  // what it was told to change; of the node's lock, as the next
	lasting   map[netip.Prefix]*time.Timer // addresses that go by themselves
	leaseFile atomic.Pointer[string]       // what its DHCP client wrote down
	programs  *programs

	mu       sync.Mutex
	watching map[chan struct{}]bool // who wants to know of changes
	waiting  map[*listener]struct{} // who wants to know of ICMP that arrives
}

// listener gets every ICMP report that reaches the machine.
type listener struct {
	report func(wire.Report, time.Time)
}

var _ machine.Machine = (*endpointMachine)(nil)

func newMachine(n *node, p Privilege, a *scenario.Authority, s *scenario.Scenario, began time.Time) *endpointMachine {
	m := &endpointMachine{node: n, privilege: p, authority: a, timeline: s.Timeline, began: began, waiting: map[*listener]struct{}{},
		programs: newPrograms(), watching: map[chan struct{}]bool{}, lasting: map[netip.Prefix]*time.Timer{}}
	file := s.Site.LeaseFile(n.name, began)
	m.leaseFile.Store(&file)
	for _, p := range n.ports {
		p.listen(func(frame []byte) {
			if v, ok := look(frame); ok && v.proto == "icmp" && n.owns(v.dst) {
				if _, hit := match(n.spec().Filter, "in", v); !hit {
					m.hear(frame[ethernetHeader:])
				}
			}
		})
	}
	n.lo.listen(m.hear)
	return m
}

func (m *endpointMachine) hear(packet []byte) {
	at := time.Now()
	r, ok := wire.ParsePacket(packet)
	if !ok {
		return
	}
	m.mu.Lock()
	waiting := slices.Collect(maps.Keys(m.waiting))
	m.mu.Unlock()
	for _, l := range waiting {
		l.report(r, at)
	}
}

func (m *endpointMachine) listen(f func(wire.Report, time.Time)) (stop func()) {
	l := &listener{f}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.waiting[l] = struct{}{}
	return func() {
		m.mu.Lock()
		defer m.mu.Unlock()
		delete(m.waiting, l)
	}
}

func (m *endpointMachine) Roots() *x509.CertPool { return m.authority.Pool() }

func (m *endpointMachine) Permissions() machine.Permissions {
	granted := machine.Permission{Granted: true, How: "raw"}
	p := machine.Permissions{Echo: granted, Frames: granted}
	if m.privilege != Full {
		p.Echo.How = "datagram"
		p.Frames = machine.Permission{Why: "needs permission to send raw frames",
			Mend: "sudo setcap cap_net_raw+ep $(command -v passepartout)"}
	}
	if m.privilege == Unprivileged {
		p.Echo = machine.Permission{Why: "needs permission to send echo requests",
			Mend: `sudo sysctl -w net.ipv4.ping_group_range="0 2147483647"`}
	}
	return p
}

func (m *endpointMachine) Read(ctx context.Context) (*endpoint.Endpoint, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	n := m.node
	e := &endpoint.Endpoint{Host: n.name, At: time.Now()}
	e.Interfaces = append(e.Interfaces,
		endpoint.Interface{Index: 1, Name: "lo", Kind: endpoint.LoopbackKind, Up: !n.spec().NoLoopback, Carrier: endpoint.CarrierPresent,
			MTU: 65536,
			Addresses: []endpoint.Address{
				{Prefix: netip.MustParsePrefix("127.0.0.1/8"), Scope: endpoint.ScopeHost, Origin: endpoint.ByKernel},
				{Prefix: netip.MustParsePrefix("::1/128"), Scope: endpoint.ScopeHost, Origin: endpoint.ByKernel},
			}})
	for _, p := range n.ports {
		e.Interfaces = append(e.Interfaces, p.describe())
		if p.segment != nil {
			e.Neighbours = append(e.Neighbours, n.neighbours(p)...)
		}
		for _, a := range n.spec().Ports[p.name].Addresses {
			if !p.down.Load() {
				e.Routes = append(e.Routes,
					endpoint.Route{To: a.Masked(), Interface: p.name, Source: a.Addr(), Table: 254, Origin: endpoint.ByKernel,
						Verdict: endpoint.Forward})
			}
		}
	}
	for _, r := range n.spec().Routes {
		if r.Refuse != "" {
			e.Routes = append(e.Routes,
				endpoint.Route{To: r.To.Masked(), Metric: r.Metric, Table: cmp.Or(r.Table, 254), Verdict: refusals[r.Refuse]})
			continue
		}
		p, ok := n.portFor(r)
		if !ok || p.down.Load() {
			continue
		}
		route := endpoint.Route{To: r.To.Masked(), Via: r.Via, Interface: p.name, Metric: r.Metric, Table: cmp.Or(r.Table, 254),
			OnLink: r.OnLink, Source: r.Source,
			Verdict: endpoint.Forward}
		switch {
		case r.ByHand:
			route.Origin = endpoint.ByHand
		case n.spec().Ports[p.name].Leased && r.To.Addr().Is4():
			route.Origin = endpoint.ByDHCP
		}
		e.Routes = append(e.Routes, route)
		if r.Or.IsValid() {
			route.Via = r.Or
			e.Routes = append(e.Routes, route)
		}
	}
	for i, x := range n.spec().Rules {
		rule := endpoint.Rule{Priority: cmp.Or(x.Priority, 1000+i), IPv6: x.To.Addr().Is6() || x.From.Addr().Is6(), From: x.From, To: x.To,
			Table: x.Table, Not: x.But}
		if x.Mark > 0 {
			rule.Mark, rule.Marked = true, endpoint.MarkOf(x.Mark, nil)
		}
		e.Rules = append(e.Rules, rule)
	}
	set := endpoint.ParseResolvConf(strings.NewReader(n.spec().ResolvConfText()), "/etc/resolv.conf")
	e.Resolvers, e.Search, e.Asking = set.Resolvers, set.Search, set.Asking
	e.Remarks = append(e.Remarks, set.Remarks...)
	if e.StubBefore() {
		e.TakeBehind(endpoint.ParseResolvConf(strings.NewReader(n.spec().BehindText()), endpoint.StubFile))
	}
	e.Switching = endpoint.ParseSwitching(strings.NewReader(n.spec().Switching))
	for _, name := range slices.Sorted(maps.Keys(n.spec().Hosts)) { // in one order: a map's would look like a change
		a := n.spec().Hosts[name]
		e.Hosts = append(e.Hosts, endpoint.HostsLine{Address: a, Names: []string{name}})
	}
	if p := n.spec().Proxies; p != nil {
		e.Proxies = []endpoint.ProxySetting{
			endpoint.ProxyVariables("this session's environment", func(name string) string { return p.Variables()[name] })}
	}
	e.TakeLeases(leasefile.Dhclient(scenario.LeasePath, []byte(*m.leaseFile.Load())), nil)
	for n, i := range e.Interfaces { // a client that runs renews in time
		if l, ok := e.Lease(i.Name); ok && l.InForce && l.At(time.Now()) != lease.Expired {
			e.Interfaces[n].Manager = l.Client
		}
	}
	return e, ctx.Err()
}

var refusals = map[string]endpoint.RouteVerdict{"blackhole": endpoint.Blackhole, "unreachable": endpoint.UnreachableRoute,
	"prohibit": endpoint.ProhibitedRoute}

// refused finds the entry that refuses an address, unless a more specific one leads on.
func (n *node) refused(to netip.Addr) (verdict endpoint.RouteVerdict, yes bool) {
	best := -1
	for _, rule := range n.spec().Rules {
		for _, r := range n.spec().Routes {
			if r.Table == rule.Table && rule.Applies(n.spec()) && r.To.Masked().Contains(to) &&
				(!rule.To.IsValid() || rule.To.Contains(to)) {
				verdict, yes = refusals[r.Refuse]
				return verdict, yes
			}
		}
	}
	for _, r := range n.spec().Routes {
		if r.Table == 0 && r.To.Masked().Contains(to) && r.To.Bits() > best {
			best = r.To.Bits()
			verdict, yes = refusals[r.Refuse]
		}
	}
	for _, p := range n.ports {
		for _, a := range n.spec().Ports[p.name].Addresses {
			if a.Masked().Contains(to) && a.Bits() > best {
				return verdict, false
			}
		}
	}
	return verdict, yes
}

func (p *port) describe() endpoint.Interface {
	spec := p.node.spec().Ports[p.name]
	i := endpoint.Interface{Index: int(p.id), Name: p.name, Kind: endpoint.Wired, Up: !p.down.Load(), MTU: int(p.mtu.Load()), Hardware: p.hw,
		Driver: "simulated", Counters: p.counted()}
	if spec.Tunnel {
		i.Kind, i.Hardware = endpoint.Tunnel, endpoint.HardwareAddr{}
	}
	if spec.Bridge {
		i.Kind = endpoint.Bridge
	}
	if !p.down.Load() {
		i.Carrier = endpoint.CarrierPresent
		if p.unplugged() {
			i.Carrier = endpoint.CarrierAbsent
		} else {
			i.SpeedMbit, i.Duplex = cmp.Or(spec.Speed, 1000), endpoint.FullDuplex
			if spec.Half {
				i.Duplex = endpoint.HalfDuplex
			}
		}
	}
	for _, a := range spec.Addresses {
		if p.down.Load() && a.Addr().Is6() {
			continue // a kernel drops them with the port
		}
		own := endpoint.Address{Prefix: a, Scope: endpoint.ScopeGlobal, Origin: endpoint.ByHand,
			Duplicate: slices.Contains(p.duplicates, a.Addr())}
		if spec.Leases(a) {
			left := time.Duration(p.leaseLeft.Load()) - time.Since(p.began)
			own.Origin, own.Limited, own.Valid, own.Preferred = endpoint.ByDHCP, true, left, left
		}
		i.Addresses = append(i.Addresses, own)
	}
	if slices.ContainsFunc(i.Addresses, func(a endpoint.Address) bool { return a.Prefix.Addr().Is6() }) {
		i.Addresses = append(i.Addresses,
			endpoint.Address{Prefix: netip.PrefixFrom(linkLocal(p), 64), Scope: endpoint.ScopeLink, Origin: endpoint.ByKernel})
	}
	return i
}

var neighbourStates = map[stack.NeighborState]endpoint.NeighbourState{
	stack.Incomplete: endpoint.Incomplete, stack.Reachable: endpoint.Reachable, stack.Stale: endpoint.Stale, stack.Delay: endpoint.Delay,
	stack.Probe: endpoint.Probe, stack.Static: endpoint.Permanent, stack.Unreachable: endpoint.Failed,
}

func (n *node) neighbours(p *port) (out []endpoint.Neighbour) {
	for _, proto := range []tcpip.NetworkProtocolNumber{protoOf(netip.IPv4Unspecified()), protoOf(netip.IPv6Unspecified())} {
		entries, err := n.stack.Neighbors(p.id, proto)
		if err != nil {
			continue
		}
		for _, e := range entries {
			hw, _ := endpoint.HardwareFrom([]byte(e.LinkAddr))
			state := neighbourStates[e.State]
			pinned := slices.ContainsFunc(n.spec().Neighbours,
				func(set scenario.Entry) bool { return set.Pinned && set.Address == fromTCPIP(e.Addr) })
			if state == endpoint.Permanent && !pinned {
				state = endpoint.Reachable // gVisor knows no other way to have it known from the beginning
			}
			out = append(out, endpoint.Neighbour{Address: fromTCPIP(e.Addr), Interface: p.name, Hardware: hw, State: state,
				Age: time.Duration(n.stack.Clock().NowMonotonic().Sub(e.UpdatedAt)), Aged: state == endpoint.Reachable ||
					state == endpoint.Stale})
		}
	}
	slices.SortFunc(out, func(a, b endpoint.Neighbour) int { return a.Address.Compare(b.Address) })
	return out
}

// Interfaces implements machine.Machine.
func (m *endpointMachine) Interfaces(ctx context.Context) (out []endpoint.Interface, err error) {
	for _, p := range m.node.ports {
		out = append(out, p.describe())
	}
	return out, ctx.Err()
}

// Neighbours implements machine.Machine.
func (m *endpointMachine) Neighbours(ctx context.Context) (out []endpoint.Neighbour, err error) {
	for _, p := range m.node.ports {
		if p.segment != nil {
			out = append(out, m.node.neighbours(p)...)
		}
	}
	return out, ctx.Err()
}

// Route implements machine.Machine.
func (m *endpointMachine) Route(ctx context.Context, to netip.Addr, iface string) (endpoint.RouteAnswer, error) {
	answer := endpoint.RouteAnswer{To: to}
	if m.node.owns(to) {
		answer.Verdict, answer.Interface, answer.Source = endpoint.LocalRoute, "lo", to
		return answer, ctx.Err()
	}
	if verdict, refused := m.node.refused(to); refused {
		answer.Verdict, answer.Reason = verdict, "a route refuses it"
		return answer, ctx.Err()
	}
	nic, err := m.nic(iface)
	if err != nil {
		return answer, err
	}
	r, terr := m.node.stack.FindRoute(nic, tcpip.Address{}, toTCPIP(to), protoOf(to), false)
	if terr != nil {
		answer.Verdict, answer.Reason = endpoint.NoRoute, "no route covers it"
		return answer, ctx.Err()
	}
	defer r.Release()
	answer.Verdict, answer.Interface, answer.Source = endpoint.Forward, m.name(r.NICID()), fromTCPIP(r.LocalAddress())
	if next := fromTCPIP(r.NextHop()); next.IsValid() && next != to {
		answer.Via = next
	}
	return answer, ctx.Err()
}

func (m *endpointMachine) nic(iface string) (tcpip.NICID, error) {
	if iface == "" {
		return 0, nil
	}
	for _, p := range m.node.ports {
		if p.name == iface {
			return p.id, nil
		}
	}
	if iface == "lo" {
		return 1, nil
	}
	return 0, machine.ErrGone
}

func (m *endpointMachine) name(id tcpip.NICID) string {
	for _, p := range m.node.ports {
		if p.id == id {
			return p.name
		}
	}
	return "lo"
}

// Watch implements machine.Machine: what changes on a simulated site is what its timeline says of the ports.
func (m *endpointMachine) Watch(ctx context.Context) (<-chan struct{}, error) {
	changed, ended := make(chan struct{}, 1), make(chan struct{})
	m.mu.Lock()
	m.watching[changed] = true
	m.mu.Unlock()
	go func() {
		<-ended
		m.mu.Lock()
		defer m.mu.Unlock()
		delete(m.watching, changed)
		close(changed)
	}()
	go func() {
		defer close(ended)
		was := m.carriers()
		for {
			next, more := m.timeline.Next(time.Since(m.began))
			wait := time.Hour
			if more {
				wait = time.Until(m.began.Add(next)) + time.Millisecond
			}
			select {
			case <-ctx.Done():
				return
			case <-time.After(wait):
			}
			if now := m.carriers(); !slices.Equal(was, now) {
				was = now
				select {
				case changed <- struct{}{}:
				default:
				}
			}
		}
	}()
	return changed, nil
}

func (m *endpointMachine) carriers() (out []bool) {
	for _, p := range m.node.ports {
		out = append(out, p.unplugged())
	}
	return out
}
