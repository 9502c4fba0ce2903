package tui

import (
	"slices"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"passepartout/internal/core/endpoint"
)

func (m *model) selectCheck(i int) {
	m.selected = min(max(i, 0), max(len(m.result.Checks)-1, 0))
	m.moved = true
}

// press handles a key.
func (m *model) press(k tea.KeyPressMsg) tea.Cmd {
	if k.String() == "ctrl+c" {
		return tea.Quit
	}
	if m.help {
		m.help = false
		return nil
	}
	if m.entry.open {
		return m.pressEntry(k)
	}
	if m.ports {
		return m.pressInList(k, m.portNames(), func(name string) tea.Cmd {
			m.ports, m.iface, m.first, m.before = false, name, nil, nil
			return m.start()
		}, func() { m.ports = false })
	}
	if m.saying {
		return m.pressSaying(k)
	}
	switch m.page {
	case pageCases:
		return m.pressCases(k)
	case pageQuestion:
		return m.pressQuestion(k)
	}
	own := map[page]func(tea.KeyPressMsg) (tea.Cmd, bool){pageReach: m.pressReach, pageLease: m.pressLease, pagePath: m.pressPath, pageHood: m.pressHood, pageNames: m.pressNames, pagePort: m.pressPort, pageSuspects: m.pressSuspects}
	if press := own[m.page]; press != nil { // the keys of the view come first
		if cmd, taken := press(k); taken {
			return cmd
		}
	}
	switch {
	case key.Matches(k, m.keys.quit):
		return tea.Quit
	case key.Matches(k, m.keys.help):
		m.help = true
	case key.Matches(k, m.keys.reach):
		m.page = pageReach
		return m.live()
	case key.Matches(k, m.keys.path):
		m.page = pagePath
		return m.live()
	case key.Matches(k, m.keys.export):
		return m.export()
	case key.Matches(k, m.keys.again):
		return m.start()
	case key.Matches(k, m.keys.mended):
		return m.mend()
	case key.Matches(k, m.keys.target):
		m.page = pageQuestion
		m.picked = 0
		m.input.SetValue(m.target.String())
		m.input.CursorEnd()
		return m.input.Focus()
	case key.Matches(k, m.keys.ports):
		if names := m.portNames(); len(names) > 0 {
			m.ports, m.picked = true, max(slices.Index(names, m.iface), 0)
		}
	case key.Matches(k, m.keys.found) && m.set != nil:
		m.saying, m.picked = true, 0
	case key.Matches(k, m.keys.cases):
		m.page = pageCases
	case key.Matches(k, m.keys.overview):
		m.page = pageOverview
	case key.Matches(k, m.keys.address):
		m.page = pageAddress
	case key.Matches(k, m.keys.lease):
		m.page = pageLease
		return m.live()
	case key.Matches(k, m.keys.hood):
		m.page = pageHood
		return m.live()
	case key.Matches(k, m.keys.names):
		m.page = pageNames
		return m.live()
	case key.Matches(k, m.keys.counters):
		m.page = pagePort
		return m.live()
	case key.Matches(k, m.keys.doubts):
		m.page = pageSuspects
	case key.Matches(k, m.keys.up) && m.page == pageOverview:
		m.selectCheck(m.selected - 1)
	case key.Matches(k, m.keys.down) && m.page == pageOverview:
		m.selectCheck(m.selected + 1)
	}
	return nil
}

// pressInList handles a key while a list is open.
func (m *model) pressInList(k tea.KeyPressMsg, list []string, choose func(string) tea.Cmd, leave func()) tea.Cmd {
	switch {
	case key.Matches(k, m.keys.up):
		m.picked = max(m.picked-1, 0)
	case key.Matches(k, m.keys.down):
		m.picked = min(m.picked+1, len(list)-1)
	case k.String() == "pgup":
		m.picked = max(m.picked-10, 0)
	case k.String() == "pgdown":
		m.picked = min(m.picked+10, len(list)-1)
	case k.String() == "enter" && m.picked < len(list):
		return choose(list[m.picked])
	case k.String() == "esc":
		leave()
	case key.Matches(k, m.keys.quit):
		return tea.Quit
	case key.Matches(k, m.keys.help):
		m.help = true
	}
	return nil
}

func (m *model) portNames() (out []string) {
	if m.set == nil || m.set.Endpoint == nil {
		return nil
	}
	for _, i := range m.set.Endpoint.Interfaces {
		if i.Kind != endpoint.LoopbackKind {
			out = append(out, i.Name)
		}
	}
	return out
}

func (m *model) pressCases(k tea.KeyPressMsg) tea.Cmd {
	names := make([]string, len(m.Cases))
	for i, c := range m.Cases {
		names[i] = c.Name
	}
	return m.pressInList(k, names, m.openCase, func() {
		if m.set != nil {
			m.page = pageOverview
		}
	})
}

func (m *model) openCase(name string) tea.Cmd {
	g, err := m.Open(name)
	if err != nil {
		m.notice = err.Error()
		return nil
	}
	picked := m.picked
	m.enter(g)
	m.keys.casePicked = picked
	m.page = pageQuestion
	return m.input.Focus()
}

func (m *model) pressQuestion(k tea.KeyPressMsg) tea.Cmd {
	switch k.String() {
	case "enter":
		return m.ask()
	case "esc":
		switch {
		case m.set != nil:
			m.page = pageOverview
		case len(m.Cases) > 0:
			m.page, m.picked = pageCases, m.keys.casePicked
		default:
			return tea.Quit
		}
		m.input.Blur()
		return nil
	case "up", "down":
		if n := len(m.Ground.Targets); n > 0 {
			step := 1
			if k.String() == "up" {
				step = n - 1
			}
			if m.input.Value() == m.Ground.Targets[m.picked%n] || k.String() == "up" {
				m.picked = (m.picked + step) % n
			}
			m.input.SetValue(m.Ground.Targets[m.picked])
			m.input.CursorEnd()
		}
		return nil
	}
	m.flaw = ""
	var cmd tea.Cmd
	m.input, cmd = m.input.Update(k)
	return cmd
}

// click chooses the check that was pointed at.
func (m *model) click(at tea.Mouse) tea.Cmd {
	if m.page != pageOverview || m.help || m.ports || m.saying || m.width < leastWidth {
		return nil
	}
	for i, y := range m.overviewLayout().checkRows {
		if y == at.Y && at.X < m.width*45/100 {
			m.selectCheck(i)
		}
	}
	return nil
}
