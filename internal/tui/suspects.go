package tui

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"passepartout/internal/core/fault"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

// suspectsView shows every fault of the catalogue and how it stands.
var suspectsView = &view{
	key: "9", name: "suspects", short: "why", kept: true, does: "every fault and how it stands: what is found, open and ruled out, and why",
	marks: [][2]string{
		{"╳ ╍ ┈ ━", "found, likely, open, ruled out: each fault of the catalogue is one mark, in its zone, from the host outwards"},
	},
	deeds: []deed{
		{"enter", "the exchange", "what was asked and heard, in the overview", false},
		{"space", "more", "scroll the text on the right, where it does not fit", true},
	},
	narrows: "a title, an id, a zone, a standing",
	open:    func(m *model) { m.suspects() },
	draw:    (*model).suspectsPage,
	press:   (*model).pressSuspects,
	wheel:   wheelBeside(func(m *model, step int) { m.chooseSuspect(step) }),
	export:  (*model).exportCheck,
}

// suspects is what the view holds.
func (m *model) suspects() *suspectsChoice {
	if hold[suspectsChoice](m) == nil {
		keep(m, &suspectsChoice{})
	}
	return hold[suspectsChoice](m)
}

// suspectsChoice is which one was chosen.
type suspectsChoice struct {
	selected int
	chosen   fault.ID // its id, so that a change of standing does not push the choice away
}

// standingOrder is the order in which suspects are listed: what is found first, what is open, what is cleared.
var standingOrder = []fault.Standing{fault.Confirmed, fault.Supported, fault.Possible, fault.Cleared}

// standingStates give each standing the look of a state: a cleared suspect is what holds.
var standingStates = map[fault.Standing]verdict.State{fault.Confirmed: verdict.Broken, fault.Supported: verdict.Strained,
	fault.Possible: verdict.StateUnknown, fault.Cleared: verdict.Holds}

var standingHeads = map[fault.Standing]string{fault.Confirmed: "Found", fault.Supported: "Likely", fault.Possible: "Open",
	fault.Cleared: "Ruled out"}

// ordered lists the suspects by standing, and in each by distance from the host.
func (m *model) ordered() (out []verdict.Suspect) {
	words := m.sought()
	for _, standing := range standingOrder {
		for _, s := range m.result.Suspects {
			if s.Standing == standing && (len(words) == 0 || containsAll(strings.ToLower(fault.TitleOf(s.Fault.ID)+" "+string(s.Fault.ID)+" "+
				s.Fault.Zone.String()+" "+standingHeads[standing]), words)) {
				out = append(out, s)
			}
		}
	}
	return out
}

// pressSuspects handles the keys of the view; false for one that is not its own.
func (m *model) pressSuspects(k tea.KeyPressMsg) (tea.Cmd, bool) {
	v := m.suspects()
	list := m.ordered()
	step, moves := stepOf(k)
	switch {
	case moves:
		m.chooseSuspect(step)
	case k.String() == "space":
		return nil, m.detailPane().press("space")
	case k.String() == "enter" && len(list) > 0:
		for i, c := range m.result.Checks {
			if c.ID == list[v.selected].Fault.Check {
				m.show(views[0])
				m.selectCheck(i)
			}
		}
	default:
		return nil, false
	}
	return nil, true
}

func (m *model) chooseSuspect(step int) {
	v, list := m.suspects(), m.ordered()
	if len(list) > 0 {
		v.selected = min(max(v.selected+step, 0), len(list)-1)
		v.chosen = list[v.selected].Fault.ID
		*m.detailPane() = pane{}
	}
}

// suspectsPage shows every fault of the catalogue and how it stands: what is found, what is open, what is ruled out, each with its reasons.
func (m *model) suspectsPage() []string {
	t := m.theme
	lines := m.head()
	list := m.ordered()
	if m.narrowed() != "" && len(list) == 0 {
		return append(lines, "", "  "+t.faint.Render(m.nothingHas("fault")))
	}
	if m.set == nil || len(list) == 0 {
		return append(lines, "", "  "+t.faint.Render("Nothing has been judged yet: the evidence is being gathered."))
	}
	v := m.suspects()
	if i := slices.IndexFunc(list, func(s verdict.Suspect) bool { return s.Fault.ID == v.chosen }); i >= 0 {
		v.selected = i
	}
	v.selected = min(max(v.selected, 0), len(list)-1)
	lines = append(lines, m.fields(list[v.selected])...)
	rule := (&row{}).put(t.accent, m.onlyWords())
	lines = append(lines, rule.fill(t.rule, "─", m.width).cut(m.width))
	room := m.height - 2 - len(lines)
	if m.narrow() { // one below the other
		above := max(room/2, 3)
		for _, r := range m.suspectRows(list, m.width-1, above) {
			lines = append(lines, r.text)
		}
		lines = append(lines, m.rule())
		return append(lines, m.suspectDetail(list[v.selected], m.width-2, m.height-2-len(lines))...)
	}
	left := m.width * 45 / 100
	rows, detail := m.suspectRows(list, left-1, room), m.suspectDetail(list[v.selected], m.width-left-3, room)
	for i := range room {
		r := &row{}
		if i < len(rows) {
			r.b.WriteString(rows[i].text)
			r.width = rows[i].width
		}
		r.at(left).put(t.rule, "│ ")
		if i < len(detail) {
			r.b.WriteString(detail[i])
		}
		lines = append(lines, r.b.String())
	}
	return lines
}

// fields draws each zone's suspects as one row of marks, in order of distance from the host: what is ruled out is as plain as what is
// found.
func (m *model) fields(chosen verdict.Suspect) (lines []string) {
	t := m.theme
	for _, z := range []zone.Zone{zone.Host, zone.LocalSubnet, zone.Beyond} {
		r := &row{}
		r.at(2).put(t.faint, strings.ToUpper(z.String())).at(17)
		count := map[fault.Standing]int{}
		for _, s := range m.result.Suspects {
			if s.Zone != z {
				continue
			}
			count[s.Standing]++
			shape := map[fault.Standing]string{fault.Confirmed: "╳", fault.Supported: "╍", fault.Possible: "┈",
				fault.Cleared: "━"}[s.Standing]
			style := t.state[standingStates[s.Standing]]
			if s.Fault == chosen.Fault {
				style = style.Reverse(true)
			}
			r.put(style, shape)
		}
		var words []string
		for _, standing := range standingOrder {
			if n := count[standing]; n > 0 {
				words = append(words, fmt.Sprintf("%d %s", n, strings.ToLower(standingHeads[standing])))
			}
		}
		r.at(48).put(t.text, strings.Join(words, ", "))
		lines = append(lines, r.cut(m.width))
	}
	return lines
}

// drawn is a piece of a row with the columns that it takes.
type drawn struct {
	text  string
	width int
}

func (m *model) suspectRows(list []verdict.Suspect, width, room int) (out []drawn) {
	t, v := m.theme, m.suspects()
	type line struct {
		head fault.Standing
		at   int // index in list; -1 for a heading
	}
	var all []line
	chosen := 0
	for i, s := range list {
		if i == 0 || s.Standing != list[i-1].Standing {
			all = append(all, line{s.Standing, -1})
		}
		if i == v.selected {
			chosen = len(all)
		}
		all = append(all, line{s.Standing, i})
	}
	from := min(max(chosen-room/2, 0), max(len(all)-room, 0))
	for _, l := range all[from:min(from+room, len(all))] {
		r := &row{}
		if l.at < 0 {
			r.at(1).put(t.faint, standingHeads[l.head])
			out = append(out, drawn{r.cut(width), r.width})
			continue
		}
		s := list[l.at]
		state := standingStates[s.Standing]
		r.put(t.accent, map[bool]string{true: "▸", false: " "}[l.at == v.selected]).put(t.state[state], strands[state]+" ")
		style := t.text
		if s.Standing == fault.Cleared || s.Standing == fault.Possible {
			style = t.faint
		}
		if l.at == v.selected {
			style = t.loud
		}
		r.put(style, fit(s.Fault.Title(), max(width-r.width-14, 10))).at(width-13).put(t.faint, s.Zone.String())
		out = append(out, drawn{r.cut(width), min(r.width, width)})
	}
	return out
}

// suspectDetail is the reasoning about one suspect: the evidence for and against, what it is mistaken for, and what it rests on.
func (m *model) suspectDetail(s verdict.Suspect, width, room int) (lines []string) {
	t := m.theme
	state := standingStates[s.Standing]
	head := &row{}
	head.put(t.loud, s.Fault.Title()).put(t.state[state], fmt.Sprintf("   %v", s.Standing))
	lines = append(lines, head.fold(width, 2)...)
	lines = append(lines, t.faint.Render(s.Zone.String()), "")
	say := func(label string, style paint, texts []string, most int) {
		for i, text := range texts {
			for k, l := range wrap(text, width-9, most) {
				r := &row{}
				if i == 0 && k == 0 {
					r.put(t.accent, label)
				}
				lines = append(lines, r.at(9).put(style, l).cut(width))
			}
		}
	}
	say("for", t.text, s.For, 2)
	say("against", t.text, s.Against, 2)
	if len(s.For)+len(s.Against) == 0 {
		say("for", t.faint, []string{"nothing that was seen speaks for it or against it"}, 1)
	}
	var missing []string
	for _, k := range s.Fault.Needs {
		for _, w := range m.result.Withheld {
			if w.Kind == k && s.Standing == fault.Possible {
				missing = append(missing, fmt.Sprintf("%v, which %s", k, w.Why))
			}
		}
	}
	say("missing", t.state[verdict.Strained], missing, 2)
	var tests []string
	for _, c := range m.set.Chosen {
		if slices.Contains(c.Between, string(s.Fault.ID)) {
			tests = append(tests, verdict.TestOf(c).Words(m.set))
		}
	}
	say("tested", t.text, tests, 2)
	lines = append(lines, "")
	say("is", t.faint, []string{s.Fault.Explanation()}, 8)
	for _, c := range m.result.Checks {
		if c.ID == s.Fault.Check {
			lines = append(lines, "")
			// said above already
			heard := slices.DeleteFunc(slices.Clone(c.Heard), func(line string) bool { return slices.Contains(s.For, line) })
			say("rests on", t.text, append([]string{c.Label + ": " + c.Fact}, heard[:min(len(heard), 4)]...), 2)
			lines = append(lines, (&row{}).at(9).put(t.key, "enter").put(t.faint, " shows the exchange").cut(width))
		}
	}
	return m.detailPane().show(t, lines, width, room, "space")
}
