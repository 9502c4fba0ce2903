package tui

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"passepartout/internal/probe"
)

// pressPath handles the keys of the path view; false for one that is not its own.
func (m *model) pressPath(k tea.KeyPressMsg) (tea.Cmd, bool) {
	v := m.path()
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
			v.choosing = false
			return m.layBeside(choices[v.picked]), true
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
	case "enter":
		if s := m.pathSeen().now; v.selected >= 0 && v.selected < len(s.stretches) {
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

// layBeside lays another path beside the one that is watched.
func (m *model) layBeside(c besideChoice) tea.Cmd {
	v := m.path()
	if c.begin != nil {
		v.beside.end()
		v.beside = c.begin()
		forget[pathLook](m)
		return m.look()
	}
	now, generation := v.now, m.generation
	return func() tea.Msg {
		kept := now.kept()
		return doneMsg{generation: generation, take: func(m *model) tea.Cmd {
			v.beside.end()
			v.beside = kept
			return m.look()
		}}
	}
}

// retrace watches the path anew in another manner.
func (m *model) retrace(method probe.TraceMethod, flows int) {
	to := m.path().now.to
	m.path().now.end()
	m.path().now = m.trace(to, method, flows)
}

// nextMethod is the one after the present that can be used here.
func (m *model) nextMethod() probe.TraceMethod {
	all := []probe.TraceMethod{probe.TraceTCP, probe.TraceICMP, probe.TraceUDP}
	i := slices.Index(all, m.path().now.method)
	for range all {
		i = (i + 1) % len(all)
		switch {
		case all[i] == probe.TraceTCP && m.path().now.to.Port() == 0:
		case all[i] == probe.TraceICMP && !m.Ground.Machine.Permissions().Echo.Granted:
		default:
			return all[i]
		}
	}
	return m.path().now.method
}
