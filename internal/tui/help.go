package tui

import (
	"strings"

	"passepartout/internal/core/verdict"
)

// helpPage explains the marks and the keys of the view that it was called from.
func (m *model) helpPage() []string {
	t := m.theme
	lines := []string{m.title(), m.rule(), ""}
	say := func(head string, pairs [][2]string, style func(i int) string) {
		lines = append(lines, "  "+t.loud.Render(head))
		for i, p := range pairs {
			r := &row{}
			r.at(4)
			if style != nil {
				r.b.WriteString(style(i))
				r.width += 2
			} else {
				r.put(t.key, p[0])
			}
			r.at(12).put(t.text, p[1])
			lines = append(lines, r.cut(m.width))
		}
		lines = append(lines, "")
	}
	order := []verdict.State{verdict.Holds, verdict.Strained, verdict.Broken, verdict.StateUnknown, verdict.Skipped}
	say("The strand", [][2]string{
		{"", "holds: what was asked came back as it should"},
		{"", "strained: something is wrong here, and it does not stand in the way"},
		{"", "broken: here it ends"},
		{"", "not known yet, or not reached"},
		{"", "skipped: not asked, or silence that proves nothing"},
	}, func(i int) string { return t.state[order[i]].Render(strands[order[i]]) })
	if len(m.view.help) > 0 {
		say(strings.ToUpper(m.view.name[:1])+m.view.name[1:], m.view.help, nil)
	}
	var pairs [][2]string
	for _, b := range m.keys.foot() {
		if b.Enabled() {
			pairs = append(pairs, [2]string{b.Help().Key, b.Help().Desc})
		}
	}
	does := map[string]string{"found": "tell what only a person can find out: each answer counts as evidence",
		"values": "what is always asked for, to read out; each value copied by a key, and the whole case as text for a ticket",
		"export": "write what is on screen: a drawing or the data",
		"again":  "everything is asked again, now", "target": "ask for another target", "interface": "choose another interface",
		"along the line": "walk along the line: each station opens the view on its matter",
		"go and mend":    "from what the verdict advises to the change of this machine that does it",
		"mended":         "in this demonstration: have the repair done, and run the same tests again",
		"scenarios":      "look into another complaint",
		"help":           "this page", "quit": "leave"}
	for i := range pairs {
		pairs[i][1] = does[pairs[i][1]]
	}
	var shown [][2]string
	for _, v := range views {
		shown = append(shown, [2]string{v.key, v.does})
	}
	pairs = append(shown, pairs...)
	if len(lines)+len(pairs)+3 <= m.height {
		say("Keys", pairs, nil)
	}
	for len(lines) < m.height-2 {
		lines = append(lines, "")
	}
	r := &row{}
	r.put(t.key, " any key").put(t.faint, " back")
	return append(lines[:m.height-2], m.rule(), r.cut(m.width))
}
