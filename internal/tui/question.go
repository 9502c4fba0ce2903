package tui

import (
	"passepartout/internal/core/verdict"
)

// questionPage asks what should be reachable. It also gives the place of the input, for the cursor.
func (m *model) questionPage() (lines []string, x, y int) {
	t := m.theme
	lines = []string{m.title(), m.rule(), ""}
	if m.complaint != "" {
		lines = append(lines, t.faint.Render("  The complaint"))
		for _, l := range wrap("“"+m.complaint+"”", m.width-8, 4) {
			lines = append(lines, "  "+t.accent.Render("┃ ")+t.text.Render(l))
		}
		lines = append(lines, "")
	}
	lines = append(lines, "  "+t.loud.Render("What should be reachable?"), "")
	x, y = 4, len(lines)
	m.input.SetWidth(m.width - 10)
	lines = append(lines, "  "+t.accent.Render("▸ ")+m.input.View())
	lines = append(lines, "  "+t.rule.Render("  "+repeat("─", m.width-8)))
	if m.flaw != "" {
		for _, l := range wrap(m.flaw, m.width-8, 3) {
			lines = append(lines, "    "+t.state[verdict.Broken].Render(l))
		}
	}
	lines = append(lines, "")
	if n := len(m.Ground.Targets); n > 0 {
		title := "asked for lately"
		if m.complaint != "" {
			title = "at this site"
		}
		lines = append(lines, t.faint.Render("    "+title))
		for i, target := range m.Ground.Targets {
			if i == 8 {
				break
			}
			mark, style := "  ", t.text
			if target == m.input.Value() {
				mark, style = "▸ ", t.loud
			}
			lines = append(lines, "    "+t.accent.Render(mark)+style.Render(fit(target, m.width-10)))
		}
		lines = append(lines, "")
	}
	const about = "A name or an address asks whether anything comes back from it. With a port, whether a connection opens; with a URL, " +
		"whether the service answers. " +
		"Left empty, because nothing works at all: this machine, its segment, gateway and name servers, and whether anybody past them answers."
	for _, l := range wrap(about, min(m.width-8, 110), 4) {
		lines = append(lines, "    "+t.faint.Render(l))
	}
	if m.notice != "" {
		lines = append(lines, "")
		for _, l := range wrap(m.notice, min(m.width-8, 110), 3) {
			lines = append(lines, "    "+t.text.Render(l))
		}
	}
	for len(lines) < m.height-2 {
		lines = append(lines, "")
	}
	r := &row{}
	r.put(t.key, " enter").put(t.faint, " ask   ").put(t.key, "↑↓").put(t.faint, " choose   ").put(t.key, "esc")
	switch {
	case m.case_ != nil:
		r.put(t.faint, " back   ")
	case len(m.Cases) > 0:
		r.put(t.faint, " scenarios   ")
	default:
		r.put(t.faint, " quit   ")
	}
	r.put(t.key, "ctrl+c").put(t.faint, " quit")
	return append(lines[:m.height-2], m.rule(), r.cut(m.width)), x, y
}

// interfaceList lets another network port be meant.
func (m *model) interfaceList() []string {
	return m.choicePage("Which interface do you mean?", "The local checks are about it; the others remain evidence.", m.interfaceNames(),
		func(name string) string {
			if port, ok := m.set.Endpoint.Interface(name); ok {
				return describePort(*port)
			}
			return ""
		}, "run with it")
}
