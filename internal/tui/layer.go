package tui

import (
	"cmp"
	"slices"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"passepartout/internal/core/endpoint"
)

// layer is what lies over the view: a page of its own, such as a list to choose from, or a line at the foot in which something is typed.
// The topmost takes the keys.
type layer struct {
	draw  func(m *model) []string // a whole screen; nil for a line
	line  func(m *model) string   // in place of the foot
	press func(m *model, k tea.KeyPressMsg) tea.Cmd
	paste func(m *model, text string) tea.Cmd
	wheel func(m *model, step int) // nil: nothing to scroll
}

var (
	deedsLayer, interfacesLayer, answersLayer, casesLayer, questionLayer, entryLayer, removalsLayer, valuesLayer, besideLayer *layer
)

func init() { // they open one another
	deedsLayer = &layer{draw: (*model).deedsPage, press: (*model).pressDeeds,
		wheel: func(m *model, step int) { m.deeds.picked = max(m.deeds.picked+step, 0) }}
	interfacesLayer = &layer{draw: (*model).interfaceList, press: (*model).pressInterfaces}
	answersLayer = &layer{draw: (*model).answersPage, press: (*model).pressAnswers}
	removalsLayer = &layer{draw: (*model).removalList, press: (*model).pressRemovals}
	valuesLayer = &layer{draw: (*model).valuesPage, press: (*model).pressValues}
	besideLayer = &layer{draw: (*model).besidePage, press: (*model).pressBeside}
	casesLayer = &layer{draw: (*model).casesPage, press: (*model).pressCases}
	questionLayer = &layer{draw: func(m *model) []string { lines, _, _ := m.questionPage(); return lines }, press: (*model).pressQuestion,
		paste: (*model).pasteQuestion}
	entryLayer = &layer{line: (*model).entryRow, press: (*model).pressEntry, paste: (*model).pasteEntry}
}

// top is the topmost layer; nil when nothing lies over the view.
func (m *model) top() *layer {
	if n := len(m.over); n > 0 {
		return m.over[n-1]
	}
	return nil
}

func (m *model) shows(l *layer) bool { return slices.Contains(m.over, l) }

// lay puts a layer on top.
func (m *model) lay(l *layer) {
	m.close(l)
	m.over = append(m.over[:len(m.over):len(m.over)], l)
}

// close takes a layer away.
func (m *model) close(l *layer) {
	m.over = slices.DeleteFunc(slices.Clone(m.over), func(x *layer) bool { return x == l })
}

// pressInList handles a key while a list is open.
func (m *model) pressInList(k tea.KeyPressMsg, picked *int, list []string, choose func(string) tea.Cmd, leave func()) tea.Cmd {
	last := max(0, len(list)-1) // a list may have grown shorter since, or empty
	*picked = min(max(0, *picked), last)
	switch {
	case key.Matches(k, m.keys.up):
		*picked = max(*picked-1, 0)
	case key.Matches(k, m.keys.down):
		*picked = min(*picked+1, last)
	case k.String() == "pgup":
		*picked = max(*picked-10, 0)
	case k.String() == "pgdown":
		*picked = min(*picked+10, last)
	case k.String() == "home":
		*picked = 0
	case k.String() == "end":
		*picked = last
	case k.String() == "enter" && *picked < len(list):
		return choose(list[*picked])
	case k.String() == "esc":
		leave()
	case key.Matches(k, m.keys.quit):
		return tea.Quit
	case key.Matches(k, m.keys.help):
		m.openDeeds()
	}
	return nil
}

func (m *model) interfaceNames() (out []string) {
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

func (m *model) openInterfaces() {
	if names := m.interfaceNames(); len(names) > 0 {
		m.picked = (slices.Index(names, cmp.Or(m.iface, m.set.Interface)) + 1) % len(names) // most machines have two: another one is meant
		m.lay(interfacesLayer)
	}
}

func (m *model) pressInterfaces(k tea.KeyPressMsg) tea.Cmd {
	return m.pressInList(k, &m.picked, m.interfaceNames(), func(name string) tea.Cmd {
		m.close(interfacesLayer)
		m.iface, m.before = name, nil
		return m.start()
	}, func() { m.close(interfacesLayer) })
}

// openCase stands at another demonstration's machine. Building a site takes a moment.
func (m *model) openCase(name string) tea.Cmd {
	open := m.Open
	m.lookedInto[name] = true
	return m.inBackground("the site is being built", func() func(*model) tea.Cmd {
		g, err := open(name)
		return func(m *model) tea.Cmd {
			if err != nil {
				m.notice = err.Error()
				return nil
			}
			m.enter(g)
			m.over = []*layer{questionLayer}
			return m.input.Focus()
		}
	})
}

func (m *model) openQuestion() tea.Cmd {
	m.picked = 0
	m.input.SetValue(m.target.String())
	m.input.CursorEnd()
	m.lay(questionLayer)
	return m.input.Focus()
}

func (m *model) pressQuestion(k tea.KeyPressMsg) tea.Cmd {
	switch k.String() {
	case "enter":
		return m.ask()
	case "esc":
		switch {
		case m.case_ != nil:
			m.close(questionLayer)
		case len(m.Cases) > 0:
			m.over = []*layer{casesLayer}
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
