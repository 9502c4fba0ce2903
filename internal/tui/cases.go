package tui

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
)

// complaint is a row of the choice of complaints; name is empty for the one that has one chosen by chance.
type complaint struct {
	group, name, text string
}

// complaints are those that can be chosen: a few to begin with and any one, then all of them; when something was typed, those that have it.
func (m *model) complaints() (out []complaint) {
	words := m.cases.words()
	begins := func(c Case) bool { return len(words) == 0 && slices.Contains(m.Begin, c.Name) }
	for _, c := range m.Cases {
		if begins(c) {
			out = append(out, complaint{"To begin with", c.Name, c.Complaint})
		}
	}
	slices.SortStableFunc(out, func(a, b complaint) int { return slices.Index(m.Begin, a.name) - slices.Index(m.Begin, b.name) })
	if len(out) > 0 {
		out = append(out, complaint{"To begin with", "", "Any one of them: surprise me."})
	}
	for _, c := range m.Cases {
		if !begins(c) && containsAll(strings.ToLower(c.Complaint), words) {
			out = append(out, complaint{"All others", c.Name, c.Complaint})
		}
	}
	return out
}

// pressCases handles a key in the choice: letters are typed, and narrow it.
func (m *model) pressCases(k tea.KeyPressMsg) tea.Cmd {
	l, list := &m.cases, m.complaints()
	switch {
	case k.String() == "enter":
		if m.busy != "" || l.picked >= len(list) {
			return nil
		}
		name := list[l.picked].name
		if name == "" {
			name = m.Cases[rand.IntN(len(m.Cases))].Name // which one is the point of it: nobody has to have it again
		}
		return m.openCase(name)
	case k.String() == "esc" && l.typed != "":
		l.retype("")
	case k.String() == "esc":
		if m.case_ != nil {
			m.close(casesLayer)
		}
	case l.typed == "" && key.Matches(k, m.keys.quit):
		return tea.Quit
	case l.typed == "" && key.Matches(k, m.keys.help):
		m.openDeeds()
	default:
		l.press(k, len(list))
	}
	return nil
}

// casesPage lets a scenario be chosen by its complaint; what is wrong is not told.
func (m *model) casesPage() []string {
	t := m.theme
	l, list := &m.cases, m.complaints()
	l.clamp(len(list))
	about := fmt.Sprintf("%d cases at North Pier of Kittiwake Ferries, a made-up site. What is wrong is yours to find.", len(m.Cases))
	lines := []string{m.title(), m.rule(), "", l.head(t, "Which complaint will you look into?", m.width),
		"  " + t.faint.Render(fit(about, m.width-3)), ""}
	var rows []string
	at, group := 0, ""
	for i, c := range list {
		if c.group != group && len(m.Begin) > 0 && l.typed == "" {
			if group != "" {
				rows = append(rows, "")
			}
			rows = append(rows, "    "+t.faint.Render(c.group))
			group = c.group
		}
		mark, style := "  ", t.text
		if m.lookedInto[c.name] {
			style = t.faint
		}
		if i == l.picked {
			mark, style = "▸ ", t.loud
			at = len(rows)
		}
		text := c.text
		if m.lookedInto[c.name] {
			text += " (looked into)"
		}
		for j, w := range wrap(text, m.width-12, 3) {
			if j > 0 {
				mark = "  "
			}
			rows = append(rows, "  "+t.accent.Render(mark)+style.Render(w))
		}
	}
	if len(list) == 0 {
		rows = append(rows, "    "+t.faint.Render("No complaint has that word. Backspace takes a letter away, esc all of it."))
	}
	room := m.height - len(lines) - 3
	lines = append(lines, l.show(t, rows, at, m.width, room)...)
	for len(lines) < m.height-3 {
		lines = append(lines, "")
	}
	more := ""
	if m.notice != "" {
		more = "  " + m.notice
	}
	if m.busy != "" {
		more = "  " + m.busy + " …"
	}
	r := &row{}
	r.put(t.key, " enter").put(t.faint, " look into it   ").put(t.key, "↑ ↓").put(t.faint, " choose   ").put(t.key, "?").
		put(t.faint, " all keys   ").put(t.key, "q").put(t.faint, " quit")
	return append(lines[:m.height-3], t.faint.Render(more), m.rule(), r.cut(m.width))
}
