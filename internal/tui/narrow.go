package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"
)

// narrowed is what was typed to have only some rows of the view that is shown; "" shows all.
func (m *model) narrowed() string { return m.narrowing[m.view] }

// sought are the words that each row shown must have.
func (m *model) sought() []string { return strings.Fields(strings.ToLower(m.narrowed())) }

// showOnly has only those rows shown that have all words of a text.
func (m *model) showOnly(v *view, text string) tea.Cmd {
	m.narrowing[v] = strings.TrimSpace(text)
	if v == m.view {
		*m.scroll() = pane{}
	}
	return m.look()
}

// pressNarrow handles the keys that narrow the rows of the view that is shown, if these can be.
func (m *model) pressNarrow(k tea.KeyPressMsg) (tea.Cmd, bool) {
	v := m.view
	switch {
	case v.narrows == "":
		return nil, false
	case k.String() == "esc" && m.narrowed() != "":
		return m.showOnly(v, ""), true
	case k.String() != "/":
		return nil, false
	}
	was := m.narrowed()
	cmd := m.openEntry("only what has: "+v.narrows, was, func(text string) (tea.Cmd, error) { return m.showOnly(v, text), nil })
	m.entry.typed = func(text string) tea.Cmd { return m.showOnly(v, text) }
	m.entry.left = func() tea.Cmd { return m.showOnly(v, was) }
	return cmd, true
}

// onlyWords says that not all rows are shown; "" where all are.
func (m *model) onlyWords() string {
	if m.narrowed() == "" {
		return ""
	}
	return "   only “" + m.narrowed() + "”, esc shows all"
}

// nothingHas says that no row is left.
func (m *model) nothingHas(what string) string {
	return "No " + what + " has all of “" + m.narrowed() + "”. esc shows all."
}
