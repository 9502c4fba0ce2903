package tui

import (
	"fmt"
	"io"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"passepartout/internal/core/fault"
	"passepartout/internal/core/state"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
	"passepartout/internal/draw"
	"passepartout/internal/report"
)

// overviewView shows the checks by zone, and what each one rests on.
var overviewView = &view{
	key: "1", name: "overview", short: "all", does: "checks by zone, and what each one rests on", full: true, kept: true,
	deeds: []deed{
		{"↑", "up", "choose the check above; what it rests on and rules out stands on the right", true},
		{"↓", "down", "choose the check below", true},
		{"space", "more", "scroll the text on the right, where it does not fit", true},
	},
	draw:   (*model).overviewPage,
	press:  (*model).pressOverview,
	wheel:  wheelBeside(func(m *model, step int) { m.selectCheck(m.selected + step) }),
	click:  (*model).clickOverview,
	export: (*model).exportCheck,
}

func (m *model) pressOverview(k tea.KeyPressMsg) (tea.Cmd, bool) {
	step, ok := stepOf(k)
	switch {
	case ok:
		m.selectCheck(m.selected + step)
	case k.String() == "space":
		return nil, m.detailPane().press("space")
	}
	return nil, ok
}

// detailPane is how far what stands beside a list has been scrolled.
func (m *model) detailPane() *pane {
	if hold[pane](m) == nil {
		keep(m, &pane{})
	}
	return hold[pane](m)
}

// wheelBeside scrolls a list, or what stands at its right.
func wheelBeside(list func(m *model, step int)) func(m *model, at tea.Mouse, step int) {
	return func(m *model, at tea.Mouse, step int) {
		if at.X > m.width*45/100 && !m.narrow() {
			m.detailPane().move(step)
			return
		}
		list(m, step)
	}
}

// clickOverview chooses the check that was pointed at.
func (m *model) clickOverview(at tea.Mouse) (tea.Cmd, bool) {
	l := m.overviewLayout()
	for i, y := range l.checkRows {
		if y == at.Y && at.X < l.split {
			m.selectCheck(i)
		}
	}
	return nil, true
}

// exportCheck writes the check as a whole: it is what the overview, the addresses and the suspects show parts of.
func (m *model) exportCheck() (report.Export, bool) {
	set, result, at := m.set, m.result, m.state.Verdict.Reached
	return report.Export{Page: func() draw.Page { return report.CheckPage(set, result, at) }, Data: map[string]func(io.Writer) error{
		".json": func(w io.Writer) error { return report.CheckJSON(w, at, set, result) },
		".txt":  func(w io.Writer) error { return report.CheckText(w, set, result) },
	}}, true
}

// layout is where things stand on the overview.
type layout struct {
	line, verdict []string
	rows          []listed
	top           int   // the first row of the body
	body          int   // its height
	checkRows     []int // the screen row of each check, −1 when it is scrolled away
	scroll        int
	split         int  // the column of the divide
	more          bool // a row below the body says how much there is
}

// leastBody is how many rows the checks keep, however much the verdict has to say.
func (m *model) leastBody() int {
	if m.height < lowHeight {
		return 4
	}
	return 6
}

// narrow reports whether there is room for one column alone: what a check rests on then stands below it.
func (m *model) narrow() bool { return m.width < 80 }

// overviewLayout computes the same for drawing and for the mouse.
func (m *model) overviewLayout() layout {
	l := layout{split: m.width * 45 / 100}
	if m.set != nil {
		l.line, _ = m.viewsLine()
	}
	l.verdict = m.verdictLines(max(m.height-len(l.line)-6-m.leastBody(), 3))
	l.top = 2 + len(l.line) + 1 + len(l.verdict) + 1
	l.body = max(m.height-l.top-2, 1)
	if m.narrow() {
		l.split = m.width
	}
	l.rows = m.checkList(l.split)
	at, last := -1, 0
	for i, r := range l.rows {
		if r.check == m.selected {
			at, last = i, i
		}
	}
	if m.narrow() && at >= 0 {
		below := m.unfolded(l.split)
		l.rows = slices.Insert(l.rows, at+1, below...)
		if l.more = len(l.rows) > l.body; l.more {
			l.body--
		}
		last = min(at+len(below), at+l.body-1)
	}
	l.scroll = max(last-l.body+1, 0)
	l.checkRows = make([]int, len(m.result.Checks))
	for i := range l.checkRows {
		l.checkRows[i] = -1
	}
	for i, r := range l.rows {
		if y := i - l.scroll; r.check >= 0 && y >= 0 && y < l.body {
			l.checkRows[r.check] = l.top + y
		}
	}
	return l
}

func (m *model) overviewPage() []string {
	l := m.overviewLayout()
	lines := []string{m.title(), m.rule()}
	lines = append(lines, l.line...)
	lines = append(lines, m.rule())
	lines = append(lines, l.verdict...)
	lines = append(lines, m.rule())
	var right []string
	if !m.narrow() {
		right = m.detail(m.width-l.split-3, l.body)
	}
	for y := range l.body {
		r := &row{}
		if i := y + l.scroll; i < len(l.rows) {
			r.b.WriteString(l.rows[i].text)
			r.width = ansi.StringWidth(l.rows[i].text)
		}
		if !m.narrow() {
			r.at(l.split).put(m.theme.rule, "│")
		}
		if y < len(right) {
			r.b.WriteString(" " + right[y])
		}
		lines = append(lines, r.b.String())
	}
	if l.more {
		r := (&row{}).put(m.theme.faint, fmt.Sprintf(" rows %d to %d of %d", l.scroll+1, l.scroll+l.body, len(l.rows))).
			put(m.theme.rule, " · ").put(m.theme.key, "↑ ↓").put(m.theme.faint, " choose ")
		lines = append(lines, r.fill(m.theme.rule, "─", m.width).cut(m.width))
	}
	return lines
}

// listed is one row of the list of checks; check is −1 for a heading.
type listed struct {
	text  string
	check int
}

var zoneTitles = map[zone.Zone]string{zone.Host: "Host", zone.LocalSubnet: "Local subnet", zone.Beyond: "Beyond"}

// factColumn is where it stands what a check has found.
const factColumn = 18

func (m *model) checkList(width int) (out []listed) {
	t := m.theme
	z := zone.Unknown
	since := m.since()
	for i, c := range m.result.Checks {
		if c.Zone != z {
			z = c.Zone
			r := &row{}
			r.put(t.faint, " "+zoneTitles[z])
			if m.past(z) {
				r.put(t.faint, ", as it was at "+wording.Clock(m.state.Verdict.Reached))
			}
			out = append(out, listed{r.cut(width), -1})
		}
		r := &row{}
		mark, label := " ", t.text
		if i == m.selected {
			mark, label = "▸", t.loud
		}
		if c.State == verdict.Skipped || c.State == verdict.StateUnknown {
			label = t.faint
			if i == m.selected {
				label = t.text
			}
		}
		shape, strand := t.state[c.State], strands[c.State]
		past := m.past(c.Zone) && c.State != verdict.Broken
		if past {
			strand = strands[verdict.StateUnknown]
		}
		if past || behind(m.result, c) {
			shape = t.faint
			if i != m.selected {
				label = t.faint
			}
		}
		r.put(t.accent, mark).put(shape, strand).put(t.text, " ").put(label, c.Label).at(factColumn)
		r.put(label, fit(c.Fact, width-factColumn-1))
		out = append(out, listed{r.cut(width), i})
		if was, changed := since.Of(c.ID); changed { // before beside after
			r := &row{}
			r.at(4).put(t.faint, "before").at(15).put(t.state[was.Before.State], strands[was.Before.State]).
				put(t.faint, " "+fit(was.Before.Fact, width-19))
			out = append(out, listed{r.cut(width), -1})
		}
	}
	return out
}

// past reports whether what was found in a zone is no longer sure: something has changed there, or nearer to this machine.
func (m *model) past(z zone.Zone) bool {
	v := &m.state.Verdict
	return (v.Standing == state.Doubtful || v.Standing == state.Outdated) && z >= v.From
}

// behind reports whether a check failed only because of a break nearer to this machine: it is drawn faint, so that the break stands out.
func behind(r verdict.Result, c verdict.Check) bool {
	s, ok := r.Suspect(r.Fault)
	return ok && r.Settled && c.State == verdict.Broken && c.ID != s.Fault.Check && c.Zone >= s.Zone
}

// mostCleared is how many of the faults that a check rules out are named beside it.
const mostCleared = 5

// unfolded is what the selected check rests on, as rows that stand below it.
func (m *model) unfolded(width int) (out []listed) {
	if m.selected >= len(m.result.Checks) {
		return nil
	}
	c := m.result.Checks[m.selected]
	if ansi.StringWidth(c.Fact) > width-factColumn-1 { // its own row has no room for it
		for _, line := range wrap(c.Fact, width-5, 3) {
			out = append(out, listed{"    " + m.theme.loud.Render(line), -1})
		}
	}
	for _, line := range m.grounds(c, width-5, nil) {
		out = append(out, listed{"    " + line, -1})
	}
	return out
}

// detail tells of the selected check: asked, heard, means, clears, mend.
func (m *model) detail(width, height int) []string {
	t := m.theme
	if m.selected >= len(m.result.Checks) {
		return []string{t.faint.Render("Nothing has been asked yet.")}
	}
	c := m.result.Checks[m.selected]
	said := c.Zone.String() + " · " + c.State.String()
	paint := t.state[c.State]
	if m.past(c.Zone) {
		said, paint = c.Zone.String()+" · at "+wording.Clock(m.state.Verdict.Reached)+": "+c.State.String(), t.faint
	}
	title := c.Label + ": " + c.Fact
	var lines []string
	if ansi.StringWidth(title+said)+2 <= width {
		lines = append(lines, (&row{}).put(t.loud, title).at(width-ansi.StringWidth(said)).put(paint, said).cut(width))
	} else {
		for _, text := range wrap(title, width, 4) {
			lines = append(lines, t.loud.Render(text))
		}
		lines = append(lines, paint.Render(said))
	}
	mend := c.Mend
	if height >= 14 {
		lines = append(lines, "")
	} else {
		if len(m.result.Next) > 0 {
			mend = nil // said above already
		}
	}
	return m.detailPane().show(t, append(lines, m.grounds(c, width, mend)...), width, height, "space")
}

// grounds are what was asked for a check, what was heard, what it means, and what it clears.
func (m *model) grounds(c verdict.Check, width int, mend []string) (lines []string) {
	t := m.theme
	part := func(name string, texts []string, most int) {
		for i, text := range texts {
			for j, line := range wrap(text, width-8, most) {
				r := &row{}
				if i == 0 && j == 0 {
					r.put(t.accent, name)
				}
				r.at(8).put(t.text, line)
				lines = append(lines, r.cut(width))
			}
		}
	}
	part("asked", []string{c.Asked}, 2)
	part("heard", c.Heard, 2)
	if was, changed := m.since().Of(c.ID); changed {
		heard := slices.DeleteFunc(slices.Clone(was.Before.Heard), func(line string) bool { return line == was.Before.Fact })
		part("before", append([]string{was.Before.Fact + " (" + was.Before.State.String() + ")"}, heard...), 2)
	}
	part("means", []string{c.Means}, 6)
	if len(c.Clears) > 0 {
		titles := fault.Titles(c.Clears)
		if more := len(titles) - mostCleared; more > 1 {
			titles = append(titles[:mostCleared:mostCleared], fmt.Sprintf("and %d more (9 lists them)", more))
		}
		part("clears", []string{strings.Join(titles, " · ")}, 12)
	}
	part("mend", mend, 3)
	return lines
}
