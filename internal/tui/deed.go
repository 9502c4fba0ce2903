package tui

import (
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"passepartout/internal/core/verdict"
)

// deed is something that a key does.
type deed struct {
	key  string // as it is pressed: a letter, or "enter"
	name string // in the foot, in a word or two
	does string // in the list of all that can be done
	more bool   // there, and not in the foot
}

// keyNames are the keys that are no letters, as they are written on the screen.
var keyNames = map[string]tea.KeyPressMsg{
	"enter": {Code: tea.KeyEnter}, "esc": {Code: tea.KeyEscape}, "tab": {Code: tea.KeyTab}, "space": {Code: tea.KeySpace, Text: " "},
	"←": {Code: tea.KeyLeft}, "→": {Code: tea.KeyRight}, "↑": {Code: tea.KeyUp}, "↓": {Code: tea.KeyDown},
}

// pressOf is the key of that name; false for what is several, or a mark.
func pressOf(name string) (tea.KeyPressMsg, bool) {
	if k, ok := keyNames[name]; ok {
		return k, true
	}
	if letters := []rune(name); len(letters) == 1 && letters[0] < 0x7f {
		return tea.KeyPressMsg{Code: letters[0], Text: name}, true
	}
	return tea.KeyPressMsg{}, false
}

// listedDeed is a row of the list of all that can be done: a deed, or what a mark means.
type listedDeed struct {
	deed
	group string
	mark  paint // of a mark: how it looks
	is    bool  // a mark, which does nothing
}

// general are the deeds that every view has, in the order in which the foot has room for them.
func (m *model) general() (out []deed) {
	if m.view.narrows != "" {
		out = append(out, deed{key: "/", name: "narrow", does: "only the rows that have what is typed: " + m.view.narrows})
	}
	for _, b := range m.keys.foot() {
		if b.Enabled() {
			out = append(out, deed{key: b.Help().Key, name: b.Help().Desc, does: generally[b.Help().Desc]})
		}
	}
	return out
}

// generally says what the keys do that every view has.
var generally = map[string]string{
	"found":          "tell what only a person can find out: each answer counts as evidence",
	"values":         "what is always asked for, to read out; each value copied by a key, and the whole case as text for a ticket",
	"export":         "write what is on screen: a drawing or the data",
	"again":          "everything is asked again, now; by itself it is asked again when anything changes",
	"target":         "ask for another target",
	"interface":      "choose another interface",
	"along the line": "walk along the line: each station opens the view on its matter",
	"go and mend":    "from what the verdict advises to the change of this machine that does it",
	"mended":         "in this demonstration: have the repair done, and run the same tests again",
	"scenarios":      "look into another complaint",
	"all keys":       "this list: all that can be done here, and what the marks mean",
	"quit":           "leave",
}

// allDeeds are all that can be done here, and what the marks mean.
func (m *model) allDeeds() (out []listedDeed) {
	add := func(group string, list ...deed) {
		for _, d := range list {
			out = append(out, listedDeed{deed: d, group: group})
		}
	}
	title := strings.ToUpper(m.view.name[:1]) + m.view.name[1:]
	switch {
	case len(m.over) > 1: // over a list
		add("Here", deed{key: "↑", name: "up", does: "choose the one above; page up, home"},
			deed{key: "↓", name: "down", does: "choose the one below; page down, end"}, deed{key: "enter", name: "take", does: "what is chosen"}, deed{key: "esc", name: "back", does: "back to where this was opened"})
	case m.recorded != nil:
		if m.view.kept {
			for _, d := range m.view.deeds {
				if slices.Contains(inRecording, d.key) {
					add(title, d)
				}
			}
		}
		add("In time", recordedDeeds...)
	default:
		add(title, m.view.deeds...)
	}
	if len(m.over) <= 1 {
		for _, v := range views {
			add("Views", deed{key: v.key, name: v.name, does: v.does})
		}
		if m.recorded == nil {
			add("In every view", m.general()...)
		} else {
			add("In every view", deed{key: "v", name: "values", does: generally["values"]},
				deed{key: "e", name: "export", does: generally["export"]}, deed{key: "q", name: "quit", does: generally["quit"]})
		}
		for _, p := range m.view.marks {
			out = append(out, listedDeed{deed: deed{key: p[0], does: p[1]}, group: "Marks of " + m.view.name, mark: m.theme.key, is: true})
		}
	}
	for _, s := range []verdict.State{verdict.Holds, verdict.Strained, verdict.Broken, verdict.StateUnknown, verdict.Skipped} {
		out = append(out, listedDeed{deed: deed{key: strands[s], does: strandWords[s]}, group: "Marks of the line", mark: m.theme.state[s],
			is: true})
	}
	return out
}

// strandWords say what the states mean.
var strandWords = map[verdict.State]string{
	verdict.Holds:        "holds: what was asked came back as it should",
	verdict.Strained:     "strained: something is wrong here, and it does not stand in the way",
	verdict.Broken:       "broken: here it ends",
	verdict.StateUnknown: "not known yet, or not reached",
	verdict.Skipped:      "skipped: not asked, or silence that proves nothing",
}

// deedsShown are those that match what was typed: first those whose name begins with it, then those that have it in their name, then
// those that speak of it.
func (m *model) deedsShown() []listedDeed {
	all := m.allDeeds()
	words := m.deeds.words()
	if len(words) == 0 {
		return all
	}
	var ranks [3][]listedDeed
	for _, o := range all {
		name, text := strings.ToLower(o.name), strings.ToLower(o.key+" "+o.name+" "+o.does)
		rank := 2
		switch {
		case o.name != "" && strings.HasPrefix(name, strings.Join(words, " ")):
			rank = 0
		case o.name != "" && containsAll(name, words):
			rank = 1
		case !containsAll(text, words):
			continue
		}
		ranks[rank] = append(ranks[rank], o)
	}
	return slices.Concat(ranks[:]...)
}

func containsAll(text string, words []string) bool {
	return !slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(text, w) })
}

// pressDeeds handles a key in the list: letters are typed, enter does what is picked.
func (m *model) pressDeeds(k tea.KeyPressMsg) tea.Cmd {
	d := &m.deeds
	list := m.deedsShown()
	switch {
	case k.String() == "esc", key.Matches(k, m.keys.help) && d.typed == "":
		m.close(deedsLayer)
	case k.String() == "enter":
		if d.picked >= len(list) || list[d.picked].is {
			return nil
		}
		m.close(deedsLayer)
		if press, ok := pressOf(strings.Fields(list[d.picked].key)[0]); ok {
			return m.press(press)
		}
	default:
		d.press(k, len(list))
	}
	return nil
}

// openDeeds opens the list of all that can be done.
func (m *model) openDeeds() {
	m.deeds = typedList{}
	m.lay(deedsLayer)
}

// deedsPage lists all that can be done here, each with its key.
func (m *model) deedsPage() []string {
	t, d := m.theme, &m.deeds
	list := m.deedsShown()
	d.clamp(len(list))
	lines := []string{m.title(), m.rule(), d.head(t, "What can be done here", m.width), m.rule()}
	room := m.height - len(lines) - 2
	var rows []string
	at, group := 0, ""
	for i, o := range list {
		if o.group != group && d.typed == "" {
			if group != "" {
				rows = append(rows, "")
			}
			rows = append(rows, "  "+t.faint.Render(o.group))
			group = o.group
		}
		if i == d.picked {
			at = len(rows)
		}
		rows = append(rows, m.deedRows(o, i == d.picked)...)
	}
	if len(list) == 0 {
		rows = indent(wrap(" Nothing here is called that, and nothing speaks of it. Backspace takes a letter away.", m.width-2, 2), t.faint)
	}
	lines = append(lines, d.show(t, rows, at, m.width, room)...)
	for len(lines) < m.height-2 {
		lines = append(lines, "")
	}
	r := &row{}
	r.put(t.key, " enter").put(t.faint, " does it   ").put(t.key, "↑ ↓").put(t.faint, " choose   ").put(t.key, "esc").put(t.faint, " back")
	return append(lines[:m.height-2], m.rule(), r.cut(m.width))
}

// deedRows draws one; the one that is picked is shown whole.
func (m *model) deedRows(o listedDeed, picked bool) (rows []string) {
	t := m.theme
	const keys, names = 4, 11
	does := 27
	if o.is {
		does = names
	}
	most := 1
	if picked {
		most = 4
	}
	for i, text := range wrap(o.does, m.width-does-1, most) {
		r := &row{}
		if i == 0 {
			mark, name := " ", t.text
			if picked {
				mark, name = "▸", t.loud
			}
			look := t.key
			if o.is {
				look = o.mark
			}
			r.at(2).put(t.accent, mark).at(keys).put(look, o.key).at(names).put(name, o.name)
		}
		rows = append(rows, r.at(does).put(t.faint, text).cut(m.width))
	}
	return rows
}
