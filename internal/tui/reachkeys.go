package tui

import (
	tea "charm.land/bubbletea/v2"

	"passepartout/internal/core/wording"
	"passepartout/internal/probe/watch"
)

// pressReach handles the keys of the reach view; false for one that is not its own.
func (m *model) pressReach(k tea.KeyPressMsg) (tea.Cmd, bool) {
	w, watcher := m.reach(), m.watcher()
	w.note = ""
	if m.recorded != nil && k.String() == "enter" { // of those that change something, the only one that comes here
		w.note = "this is a recording: nobody is asked any more"
		return nil, true
	}
	switch k.String() {
	case "up", "k":
		w.selected--
	case "down", "j":
		w.selected++
	case "pgup":
		w.selected -= 10
	case "pgdown":
		w.selected += 10
	case "home":
		w.selected = 0
	case "end":
		w.selected = 1 << 16
	case "+", "=":
		w.span = max(w.span-1, 0)
	case "-", "−":
		w.span = min(w.span+1, len(spans)-1)
	case "a":
		return m.openEntry("add", "", m.addTargets), true
	case "p":
		if x, ok := m.chosen(); ok {
			return m.aside(func() { watcher.Pause(x.id, !x.paused) }), true
		}
	case "x", "delete":
		if x, ok := m.chosen(); ok {
			w.note = x.spec.Name() + " is no longer watched"
			return m.aside(func() { watcher.Remove(x.id) }), true
		}
	case "z":
		if watcher != nil {
			w.note = "counted from zero since " + wording.Clock(m.now)
			return m.aside(watcher.ResetAll), true
		}
	case "enter":
		x, ok := m.chosen()
		if !ok {
			return nil, true
		}
		return m.openEntry(fit(x.spec.Name(), 24)+" is asked", settingsOf(x.spec), func(text string) (tea.Cmd, error) {
			mtu := 0
			if i, ok := m.set.Endpoint.Interface(m.set.Interface); ok {
				mtu = i.MTU
			}
			s, err := readSettings(text, x.spec, mtu)
			if err != nil {
				return nil, err
			}
			return m.aside(func() { watcher.Change(x.id, func(old *watch.Spec) { *old = s }) }), nil
		}), true
	default:
		return nil, false
	}
	return nil, true
}

// chosen gives the selected target.
func (m *model) chosen() (x watched, ok bool) {
	s, _ := lookedAt[reachShot](m)
	if i := m.reach().selected; i >= 0 && i < len(s.targets) {
		return s.targets[i], true
	}
	return x, false
}
