package tui

import (
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"passepartout/internal/core/blame"
	"passepartout/internal/core/verdict"
	"passepartout/internal/probe"
	"passepartout/internal/probe/watch"
)

const brokenState = verdict.Broken

// pressReach handles the keys of the reach view; false for one that is not its own.
func (m *model) pressReach(k tea.KeyPressMsg) (tea.Cmd, bool) {
	w := m.reach
	if w == nil {
		return nil, false
	}
	w.note = ""
	switch k.String() {
	case "up", "k":
		w.selected--
	case "down", "j":
		w.selected++
	case "pgup":
		w.selected -= 10
	case "pgdown":
		w.selected += 10
	case "+", "=":
		w.span = max(w.span-1, 0)
	case "-", "−":
		w.span = min(w.span+1, len(spans)-1)
	case "a":
		return m.openEntry("add", "", m.addTargets), true
	case "p":
		if x, ok := m.chosen(); ok {
			w.watcher.Pause(x.ID, !x.Paused)
		}
	case "x", "delete":
		if x, ok := m.chosen(); ok {
			w.watcher.Remove(x.ID)
			w.note = x.Name() + " is no longer watched"
		}
	case "z":
		w.watcher.ResetAll()
		w.note = "counted from zero since " + time.Now().Format("15:04:05")
	case "enter":
		x, ok := m.chosen()
		if !ok {
			return nil, true
		}
		return m.openEntry(fit(x.Name(), 24)+" is asked", settingsOf(x.Spec), func(text string) error {
			mtu := 0
			if i, ok := m.set.Endpoint.Interface(m.set.Interface); ok {
				mtu = i.MTU
			}
			s, err := readSettings(text, x.Spec, mtu)
			if err == nil {
				w.watcher.Change(x.ID, func(old *watch.Spec) { *old = s })
			}
			return err
		}), true
	default:
		return nil, false
	}
	return nil, true
}

// chosen gives the selected target, in the order of the page.
func (m *model) chosen() (x watch.Subject, ok bool) {
	m.reach.watcher.See(func(_ time.Duration, subjects []*watch.Subject, _ *blame.Ledger) {
		var order []*watch.Subject
		for _, zone := range zoneOrder {
			for _, s := range subjects {
				if s.Zone == zone {
					order = append(order, s)
				}
			}
		}
		if i := m.reach.selected; i >= 0 && i < len(order) {
			x, ok = *order[i], true
		}
	})
	return x, ok
}

// pressPath handles the keys of the path view; false for one that is not its own.
func (m *model) pressPath(k tea.KeyPressMsg) (tea.Cmd, bool) {
	v := m.path
	if v == nil || v.now == nil {
		return nil, false
	}
	v.note = ""
	if v.choosing {
		choices := m.besideChoices()
		switch k.String() {
		case "up", "k":
			v.picked = max(v.picked-1, 0)
		case "down", "j":
			v.picked = min(v.picked+1, len(choices)-1)
		case "enter":
			made := choices[v.picked].make()
			v.beside.end()
			v.beside, v.choosing = made, false
		case "esc", "c":
			v.choosing = false
		default:
			return nil, false
		}
		return nil, true
	}
	switch k.String() {
	case "up", "k":
		v.selected--
	case "down", "j":
		v.selected++
	case "enter", "right", "left":
		if s := v.now.shot(); v.selected >= 0 && v.selected < len(s.stretches) {
			x := s.stretches[v.selected].Segment
			v.open[x] = !v.open[x]
		}
	case "m":
		m.retrace(m.nextMethod(), v.now.flows)
	case "f":
		flows := 1
		if v.now.flows == 1 {
			flows = pathFlows
		}
		m.retrace(v.now.method, flows)
	case "z":
		m.retrace(v.now.method, v.now.flows)
		v.note = "watched anew"
	case "c":
		v.choosing, v.picked = true, 0
	case "esc":
		v.beside.end()
		v.beside = nil
	default:
		return nil, false
	}
	return nil, true
}

// retrace watches the path anew in another manner.
func (m *model) retrace(method probe.TraceMethod, flows int) {
	to := m.path.now.to
	m.path.now.end()
	m.path.now = m.trace(to, method, flows)
}

// nextMethod is the one after the present that can be used here.
func (m *model) nextMethod() probe.TraceMethod {
	all := []probe.TraceMethod{probe.TraceTCP, probe.TraceICMP, probe.TraceUDP}
	i := slices.Index(all, m.path.now.method)
	for range all {
		i = (i + 1) % len(all)
		switch {
		case all[i] == probe.TraceTCP && m.path.now.to.Port() == 0:
		case all[i] == probe.TraceICMP && !m.Ground.Machine.Permissions().Echo.Granted:
		default:
			return all[i]
		}
	}
	return m.path.now.method
}
