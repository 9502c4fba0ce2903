package tui

import (
	"context"
	"fmt"
	"maps"
	"net/netip"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"passepartout/internal/core/path"
	"passepartout/internal/core/topology"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/core/wording"
	"passepartout/internal/guard"
	"passepartout/internal/probe"
	"passepartout/internal/report"
)

// pathView shows the way to the target, stretch by stretch.
var pathView = &view{
	key: "7", name: "path", short: "path", sets: "other routes",
	does: "the way to the target, stretch by stretch", at: string(topology.Path), live: true,
	marks: [][2]string{
		{"┃", "a station, at its usual round trip on the ruler; ├─●─┤ from its quickest to its slowest answer"},
	},
	deeds: []deed{
		{"enter", "unfold", "show the stations of the stretch that is chosen", false},
		{"m", "method", "another method: TCP, ICMP echo, UDP", false},
		{"f", "flows", "eight flows side by side, to show where load is shared; one again", false},
		{"c", "compare", "lay beside it: as it is now, another method, the other address family; esc takes it away", false},
		{"z", "from zero", "watch it anew", false},
	},
	kept: true, replay: lookAtPath,
	open: (*model).openPath, look: lookAtPath, draw: (*model).pathPage, press: (*model).pressPath,
	wheel: func(m *model, _ tea.Mouse, step int) {
		if v := m.path(); v != nil {
			v.selected += step
		}
	},
	say: func(m *model, words string) {
		if v := m.path(); v != nil {
			v.note = words
		}
	},
	note: func(m *model) string {
		if v := m.path(); v != nil {
			return v.note
		}
		return ""
	},
	export: func(m *model) (report.Export, bool) {
		v := m.path()
		if v == nil {
			return report.Export{}, false
		}
		x, host, whom, names := v.now, wiretext.Clean(m.set.Endpoint.Host), m.target.Host(), m.pathSeen().now.names
		var trace report.Trace
		return report.Later(func() report.Export {
			x.see(func(track *path.Track) {
				trace = report.NewTrace(whom, track, x.flows, names, x.lasted())
				trace.Apart = x.apart
			})
			return trace.Export(host, x.began)
		}, ".svg", ".pdf", ".json", ".csv", ".txt"), true
	},
	renew: func(m *model) {
		if v := m.path(); v != nil {
			m.retrace(v.now.method, v.now.flows)
		}
	},
	stop: func(m *model) {
		if v := m.path(); v != nil {
			v.now.end()
			v.beside.end()
		}
	},
}

// pathChoice is what the view holds.
type pathChoice struct {
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
	ended  time.Duration // of one that was kept: when, after its beginning

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

// path is what the view holds; nil while there is nowhere to go.
func (m *model) path() *pathChoice { return hold[pathChoice](m) }

// pathLook is what was seen of the path when it was looked last, and of the one that lies beside it.
type pathLook struct{ now, beside pathShot }

func (m *model) pathSeen() pathLook {
	s, _ := lookedAt[pathLook](m)
	return s
}

func lookAtPath(m *model) func() any {
	v := m.path()
	if v == nil {
		return nil
	}
	now, beside := v.now, v.beside
	return func() any {
		s := pathLook{now: now.shot()}
		if beside != nil {
			s.beside = beside.shot()
		}
		return s
	}
}

// trace begins to watch a path.
func (m *model) trace(to netip.AddrPort, method probe.TraceMethod, flows int) *tracing {
	ctx, cancel := context.WithCancel(m.ctx)
	e := m.set.Endpoint
	t := &tracing{cancel: cancel, began: time.Now(), to: to, method: method, flows: flows, names: map[netip.Addr]string{},
		track: &path.Track{To: to.Addr(), Method: string(method), OnLink: e.OnLink}}
	for _, n := range m.set.Names {
		t.names[n.Address] = n.Name
	}
	ground, iface := m.case_.Machine(), m.iface
	go func() {
		defer guard.Goroutine()
		defer cancel()
		echoer := probe.NewEchoer(ground, iface)
		defer echoer.Close()
		t.mu.Lock()
		t.apart = method == probe.TraceTCP && !ground.Permissions().Frames.Granted
		t.mu.Unlock()
		_, err := probe.Trace(ctx, echoer,
			probe.TraceQuestion{To: to, Method: method, First: 1, Last: pathLongest, Patience: pathPatience, Flows: flows, Rounds: -1},
			func(s path.Seen) {
				t.mu.Lock()
				defer t.mu.Unlock()
				t.track.Add(s)
			})
		t.mu.Lock()
		defer t.mu.Unlock()
		t.err = err
	}()
	go func() {
		defer guard.Goroutine()
		t.findNames(ctx, func(addrs []netip.Addr) map[netip.Addr]string {
			return probe.Names(ctx, ground, e.AskedResolvers(), addrs, time.Second)
		})
	}()
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

// lasted is how long it has been watched, or was.
func (t *tracing) lasted() time.Duration {
	if t.ended > 0 {
		return t.ended
	}
	return time.Since(t.began)
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

// openPath begins to watch the path, or the way to another address when the target has come to have one.
func (m *model) openPath() {
	if m.recorded != nil {
		m.openRecordedPath()
		return
	}
	to, ok := m.pathTarget()
	v := m.path()
	if !ok || v != nil && v.now.to == to {
		return
	}
	if v == nil {
		v = &pathChoice{open: map[path.Segment]bool{}}
		keep(m, v)
	} else {
		v.note = fmt.Sprintf("the target is at %v now, before at %v", to.Addr(), v.now.to.Addr())
	}
	v.now.end()
	v.now = m.trace(to, probe.UsualMethod(m.Ground.Machine, to.Port()), 1)
}

// besideChoice is what can be laid beside the path that is watched: one that begins, or, with begin nil, the path as it is now.
type besideChoice struct {
	label string
	begin func() *tracing
}

// besideChoices are all of them.
func (m *model) besideChoices() (out []besideChoice) {
	now := m.path().now
	out = append(out, besideChoice{label: "the path as it is now, kept"})
	for _, c := range []struct {
		method probe.TraceMethod
		label  string
	}{{probe.TraceICMP, "by ICMP echo"}, {probe.TraceUDP, "by UDP"}, {probe.TraceTCP, "by TCP to the service's own port"}} {
		if c.method == now.method || c.method == probe.TraceTCP && now.to.Port() == 0 || c.method == probe.TraceICMP &&
			!m.Ground.Machine.Permissions().Echo.Granted {
			continue
		}
		out = append(out, besideChoice{c.label, func() *tracing {
			t := m.trace(now.to, c.method, now.flows)
			t.label = c.label
			return t
		}})
	}
	addrs, _ := m.set.TargetAddresses()
	for _, a := range addrs {
		if a.Is6() == now.to.Addr().Is6() {
			continue
		}
		label := map[bool]string{true: "over IPv6, to " + a.String(), false: "over IPv4, to " + a.String()}[a.Is6()]
		out = append(out, besideChoice{label, func() *tracing {
			t := m.trace(netip.AddrPortFrom(a, now.to.Port()), now.method, now.flows)
			t.label = label
			return t
		}})
		break
	}
	if m.path().beside != nil {
		out = append(out, besideChoice{"nothing", func() *tracing { return nil }})
	}
	return out
}

// kept is a copy that no longer changes.
func (t *tracing) kept() *tracing {
	t.mu.Lock()
	defer t.mu.Unlock()
	return &tracing{label: "as at " + wording.Clock(time.Now()), began: t.began, to: t.to, method: t.method, flows: t.flows,
		track: t.track.Clone(), apart: t.apart, names: maps.Clone(t.names), ended: time.Since(t.began)}
}
