package tui

import (
	"cmp"
	"slices"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
)

func (m *model) selectCheck(i int) {
	m.selected = min(max(i, 0), max(len(m.result.Checks)-1, 0))
	m.moved = true
	*m.detailPane() = pane{}
}

// press handles a key: the topmost layer has it, else the view, else all views alike.
func (m *model) press(k tea.KeyPressMsg) tea.Cmd {
	if k.String() == "ctrl+c" {
		return tea.Quit
	}
	if top := m.top(); top != nil {
		return top.press(m, k)
	}
	if m.recorded != nil {
		return m.pressRecorded(k)
	}
	if m.view.press != nil { // the keys of the view come first
		if cmd, taken := m.view.press(m, k); taken {
			return cmd
		}
	}
	if cmd, taken := m.pressNarrow(k); taken {
		return cmd
	}
	if m.scroll().press(k.String()) { // of a view that chooses nothing by them
		return nil
	}
	if i := slices.IndexFunc(views, func(v *view) bool { return v.key == k.String() }); i >= 0 {
		m.show(views[i])
		return tea.Batch(m.tick(), m.open())
	}
	switch {
	case key.Matches(k, m.keys.quit):
		return tea.Quit
	case key.Matches(k, m.keys.help):
		m.openDeeds()
	case key.Matches(k, m.keys.export):
		return m.export()
	case key.Matches(k, m.keys.again):
		return m.renew()
	case key.Matches(k, m.keys.values):
		return m.openValues()
	case key.Matches(k, m.keys.mended):
		return m.mend()
	case key.Matches(k, m.keys.mend) && m.set != nil:
		return m.mendHere()
	case key.Matches(k, m.keys.target):
		return m.openQuestion()
	case key.Matches(k, m.keys.ports):
		m.openInterfaces()
	case key.Matches(k, m.keys.found) && m.set != nil:
		m.picked = 0
		m.lay(answersLayer)
	case key.Matches(k, m.keys.cases):
		m.lay(casesLayer)
	case key.Matches(k, m.keys.walk):
		step := 1
		if k.String() == "left" {
			step = -1
		}
		return m.walk(step)
	}
	return nil
}

// wheel scrolls what the mouse is over.
func (m *model) wheel(at tea.Mouse, step int) {
	top := m.top()
	switch {
	case top != nil && top.wheel != nil:
		top.wheel(m, step)
	case top != nil:
	case m.scroll().most > 0:
		m.scroll().move(3 * step)
	case m.view.wheel != nil:
		m.view.wheel(m, at, step)
	}
}

// click opens the view of the station that was pointed at, or chooses what the view has there.
func (m *model) click(at tea.Mouse) tea.Cmd {
	if len(m.over) > 0 || m.width < leastWidth || m.height < leastHeight {
		return nil
	}
	if v := cmp.Or(m.viewAt(at), m.stationAt(at)); v != nil {
		m.show(v)
		return tea.Batch(m.tick(), m.open())
	}
	if m.view.click != nil {
		cmd, _ := m.view.click(m, at)
		return cmd
	}
	return nil
}

// stepOf is how far a key goes in a list; false for one that goes nowhere.
func stepOf(k tea.KeyPressMsg) (step int, ok bool) {
	step, ok = map[string]int{"up": -1, "k": -1, "down": 1, "j": 1, "pgup": -10, "pgdown": 10, "home": -1 << 24, "end": 1 << 24}[k.String()]
	return step, ok
}
