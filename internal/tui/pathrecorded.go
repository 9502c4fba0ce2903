package tui

import (
	"net/netip"
	"time"

	"passepartout/internal/core/path"
	"passepartout/internal/probe"
)

// openRecordedPath has the view show the way as the tests of a recording saw it, until the moment where one stands.
func (m *model) openRecordedPath() {
	forget[pathLook](m)
	to, ok := m.recordedPathTarget()
	if !ok {
		letGo[pathChoice](m)
		return
	}
	v := m.path()
	if v == nil {
		v = &pathChoice{open: map[path.Segment]bool{}}
		keep(m, v)
	}
	t := &tracing{began: m.state.Round.Began, to: netip.AddrPortFrom(to, m.target.Port), flows: 1, ended: time.Millisecond,
		names: map[netip.Addr]string{}}
	for _, n := range m.set.Names {
		t.names[n.Address] = n.Name
	}
	round := map[int]int{} // each hop limit may have been tried more than once
	for _, h := range m.set.Hops {
		if h.To != to {
			continue
		}
		if t.track == nil {
			t.method = probe.TraceMethod(h.Method)
			t.track = &path.Track{To: to, Method: h.Method, OnLink: m.set.Endpoint.OnLink}
		}
		t.track.Add(path.Seen{HopLimit: h.HopLimit, Round: round[h.HopLimit], Reply: h.Reply})
		round[h.HopLimit]++
	}
	v.now, v.beside = t, nil
}

// recordedPathTarget is where the tests followed the way to: the target, else the first that they did.
func (m *model) recordedPathTarget() (to netip.Addr, ok bool) {
	if m.set == nil || m.set.Endpoint == nil || len(m.set.Hops) == 0 {
		return to, false
	}
	addrs, _ := m.set.TargetAddresses()
	for _, a := range addrs {
		if _, asked := m.set.TrailTo(a); asked {
			return a, true
		}
	}
	return m.set.Hops[0].To, true
}
