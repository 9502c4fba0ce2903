package tui

import (
	"context"
	"net/netip"
	"sync"
	"time"

	"passepartout/internal/core/path"
	"passepartout/internal/probe"
)

// pathView is the state of the path view.
type pathView struct {
	now      *tracing // what is watched
	beside   *tracing // what lies beside it; nil for nothing
	choosing bool     // the list of what could lie beside is open
	picked   int
	selected int
	open     map[path.Segment]bool // stretches unfolded
	note     string
}

// tracing is one path under watch, or one that was kept.
type tracing struct {
	label  string
	cancel context.CancelFunc // nil once it is kept
	began  time.Time
	to     netip.AddrPort
	method probe.TraceMethod
	flows  int

	mu    sync.Mutex
	track *path.Track
	apart bool
	err   error
	names map[netip.Addr]string
}

// The times of a watched path.
const (
	pathPatience = time.Second
	pathLongest  = 30
	namesEvery   = 2 * time.Second
	pathFlows    = 8 // that are shown when branches are asked for
)

// trace begins to watch a path.
func (m *model) trace(to netip.AddrPort, method probe.TraceMethod, flows int) *tracing {
	ctx, cancel := context.WithCancel(m.ctx)
	e := m.set.Endpoint
	t := &tracing{cancel: cancel, began: time.Now(), to: to, method: method, flows: flows, names: map[netip.Addr]string{},
		track: &path.Track{To: to.Addr(), Method: string(method), OnLink: e.OnLink}}
	for _, n := range m.set.Names {
		t.names[n.Address] = n.Name
	}
	ground, iface := m.Ground.Machine, m.iface
	go func() {
		defer cancel()
		echoer := probe.NewEchoer(ground, iface)
		defer echoer.Close()
		t.mu.Lock()
		t.apart = method == probe.TraceTCP && !ground.Permissions().Frames.Granted
		t.mu.Unlock()
		_, err := probe.Trace(ctx, echoer, probe.TraceQuestion{To: to, Method: method, First: 1, Last: pathLongest, Patience: pathPatience, Flows: flows, Rounds: -1}, func(s path.Seen) {
			t.mu.Lock()
			defer t.mu.Unlock()
			t.track.Add(s)
		})
		t.mu.Lock()
		defer t.mu.Unlock()
		t.err = err
	}()
	go t.findNames(ctx, func(addrs []netip.Addr) map[netip.Addr]string {
		return probe.Names(ctx, ground, e.AskedResolvers(), addrs, time.Second)
	})
	return t
}

// findNames looks up what the stations that turn up are called, each once.
func (t *tracing) findNames(ctx context.Context, lookUp func([]netip.Addr) map[netip.Addr]string) {
	for probe.Sleep(ctx, namesEvery) {
		var missing []netip.Addr
		t.mu.Lock()
		for _, p := range t.track.Places(-1) {
			for _, v := range p.Voices {
				if _, known := t.names[v.From]; !known {
					missing = append(missing, v.From)
					t.names[v.From] = ""
				}
			}
		}
		t.mu.Unlock()
		for a, name := range lookUp(missing) {
			t.mu.Lock()
			t.names[a] = name
			t.mu.Unlock()
		}
	}
}

// see shows f the track under the lock.
func (t *tracing) see(f func(*path.Track)) {
	t.mu.Lock()
	defer t.mu.Unlock()
	f(t.track)
}

func (t *tracing) end() {
	if t != nil && t.cancel != nil {
		t.cancel()
	}
}

// pathTarget is where the path leads: the target's address, else a name server beyond the gateway.
func (m *model) pathTarget() (netip.AddrPort, bool) {
	if m.set == nil || m.set.Endpoint == nil {
		return netip.AddrPort{}, false
	}
	addrs, _ := m.set.TargetAddresses()
	for _, a := range addrs {
		if m.Families.Allows(a) {
			return netip.AddrPortFrom(a, m.target.Port), true
		}
	}
	if !m.target.IsZero() {
		return netip.AddrPort{}, false
	}
	for _, r := range m.set.Endpoint.AskedResolvers() {
		if i, ok := m.set.Endpoint.Interface(m.set.Interface); ok && !i.OnLink(r) && m.Families.Allows(r) {
			return netip.AddrPortFrom(r, 0), true
		}
	}
	return netip.AddrPort{}, false
}

// startPath begins to watch the path, if it is not watched yet and there is somewhere to go.
func (m *model) startPath() {
	if m.path != nil && m.path.now != nil {
		return
	}
	to, ok := m.pathTarget()
	if !ok {
		return
	}
	m.path = &pathView{open: map[path.Segment]bool{}, now: m.trace(to, probe.UsualMethod(m.Ground.Machine, to.Port()), 1)}
}

func (m *model) stopPath() {
	if m.path != nil {
		m.path.now.end()
		m.path.beside.end()
		m.path = nil
	}
}

// besideChoices are what can be laid beside the path that is watched.
func (m *model) besideChoices() (out []struct {
	label string
	make  func() *tracing
}) {
	now := m.path.now
	add := func(label string, f func() *tracing) {
		out = append(out, struct {
			label string
			make  func() *tracing
		}{label, f})
	}
	add("the path as it is now, kept", func() *tracing { return now.kept() })
	for _, c := range []struct {
		method probe.TraceMethod
		label  string
	}{{probe.TraceICMP, "by ICMP echo"}, {probe.TraceUDP, "by UDP"}, {probe.TraceTCP, "by TCP to the service's own port"}} {
		if c.method == now.method || c.method == probe.TraceTCP && now.to.Port() == 0 || c.method == probe.TraceICMP && !m.Ground.Machine.Permissions().Echo.Granted {
			continue
		}
		add(c.label, func() *tracing {
			t := m.trace(now.to, c.method, now.flows)
			t.label = c.label
			return t
		})
	}
	addrs, _ := m.set.TargetAddresses()
	for _, a := range addrs {
		if a.Is6() == now.to.Addr().Is6() {
			continue
		}
		label := map[bool]string{true: "over IPv6, to " + a.String(), false: "over IPv4, to " + a.String()}[a.Is6()]
		add(label, func() *tracing {
			t := m.trace(netip.AddrPortFrom(a, now.to.Port()), now.method, now.flows)
			t.label = label
			return t
		})
		break
	}
	if m.path.beside != nil {
		add("nothing", func() *tracing { return nil })
	}
	return out
}

// kept is a copy that no longer changes.
func (t *tracing) kept() *tracing {
	t.mu.Lock()
	defer t.mu.Unlock()
	return &tracing{label: "as at " + time.Now().Format("15:04:05"), began: t.began, to: t.to, method: t.method, flows: t.flows, track: t.track.Clone(), apart: t.apart, names: t.names}
}
