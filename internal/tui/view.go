package tui

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"passepartout/internal/core/blame"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/probe/watch"
	"passepartout/internal/report"
)

// View implements tea.Model.
func (m *model) View() tea.View {
	v := tea.NewView("")
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	v.WindowTitle = "Passepartout"
	switch {
	case m.width == 0:
		return v // the size is not known yet
	case m.width < leastWidth || m.height < leastHeight:
		v.SetContent(m.tooSmall())
		return v
	}
	var lines []string
	switch {
	case m.help:
		lines = m.helpPage()
	case m.ports:
		lines = m.portList()
	case m.saying:
		lines = m.sayingPage()
	case m.page == pageCases:
		lines = m.casesPage()
	case m.page == pageQuestion:
		var x, y int
		lines, x, y = m.questionPage()
		if c := m.input.Cursor(); c != nil {
			c.X += x
			c.Y += y
			v.Cursor = c
		}
	case m.page == pageAddress:
		lines = m.addressPage()
	case m.page == pageLease:
		lines = m.leasePage()
	case m.page == pageHood:
		lines = m.hoodPage()
	case m.page == pageNames:
		lines = m.namesPage()
	case m.page == pageSuspects:
		lines = m.suspectsPage()
	case m.page == pagePort:
		lines = m.portPage()
	case m.page == pageReach:
		lines = m.reachPage()
	case m.page == pagePath:
		lines = m.pathPage()
	default:
		lines = m.overviewPage()
	}
	v.SetContent(m.screen(lines))
	return v
}

// screen makes of lines exactly one screenful.
func (m *model) screen(lines []string) string {
	out := make([]string, m.height)
	for i := range out {
		if i < len(lines) {
			out[i] = ansi.Truncate(lines[i], m.width, "…")
		}
	}
	return strings.Join(out, "\n")
}

func (m *model) tooSmall() string {
	text := wrap(fmt.Sprintf("This window is %d by %d. Passepartout needs %d by %d: make it larger, or the letters smaller. ctrl+c leaves.", m.width, m.height, leastWidth, leastHeight), max(m.width, 1), max(m.height, 1))
	return strings.Join(text, "\n")
}

func (m *model) rule() string { return m.theme.rule.Render(strings.Repeat("─", m.width)) }

// title is the top line: who, where, what for, when.
func (m *model) title() string {
	t, r := m.theme, &row{}
	r.put(t.text, " ").put(t.accent, "Passepartout")
	left := ""
	if m.set != nil && m.set.Endpoint != nil {
		left = wiretext.Clean(m.set.Endpoint.Host)
		if m.set.Interface != "" {
			left += " · " + m.set.Interface
		}
		left += " · " + m.permissions()
	}
	if len(m.Cases) > 0 {
		if left != "" {
			left += " · "
		}
		left += "simulated"
	}
	right := ""
	narrow := m.width < 110
	if m.page != pageCases && m.page != pageQuestion {
		right = "nothing beyond was asked for"
		if !m.target.IsZero() {
			right = "asked for " + m.target.String()
		}
		if narrow {
			right = strings.TrimPrefix(right, "asked for ")
		}
		if !narrow {
			right += "   " + m.began.Format("15:04:05")
		}
	}
	room := m.width - r.width - 7 - ansi.StringWidth(right)
	if room < 20 {
		right = fit(right, m.width-r.width-26)
		room = 20
	}
	r.put(t.faint, "   "+fit(left, room)).at(m.width-ansi.StringWidth(right)-1).put(t.text, right)
	return r.cut(m.width)
}

func (m *model) permissions() string {
	switch p := m.Ground.Machine.Permissions(); {
	case p.Frames.Granted && p.Echo.Granted:
		return "all permissions"
	case p.Echo.Granted:
		return "no raw frames"
	case p.Frames.Granted:
		return "no echo"
	}
	return "no echo, no raw frames"
}

// pagesByName are the views as the foot names them.
var pagesByName = map[string]page{"overview": pageOverview, "address": pageAddress, "lease": pageLease, "neighbours": pageHood, "names": pageNames, "reach": pageReach, "path": pagePath, "counters": pagePort, "suspects": pageSuspects}

// foot is the bottom line: the keys that work here.
func (m *model) foot() string {
	t, r := m.theme, &row{}
	if m.entry.open && m.page != pageReach && m.page != pagePath {
		return m.entryRow()
	}
	r.put(t.text, " ")
	gap := "   "
	switch {
	case m.width < 110:
		gap = " "
	case m.width < 165:
		gap = "  "
	}
	all := m.keys.foot()
	for i, b := range all {
		if i == len(all)-1 {
			gap = ""
		}
		if !b.Enabled() || m.width < 110 && (b.Help().Desc == "port" || b.Help().Desc == "scenarios" || b.Help().Desc == "found" || b.Help().Desc == "mended") {
			continue // on a narrow screen these stand in the help alone
		}
		style := t.faint
		if shown, ok := pagesByName[b.Help().Desc]; ok && shown == m.page {
			style = t.text
		}
		words := " " + b.Help().Desc
		if m.width < 170 && (b.Help().Desc == "port" || b.Help().Desc == "scenarios" || b.Help().Desc == "mended" || b.Help().Desc == "export") {
			words = "" // the help says what they do
		}
		if _, isView := pagesByName[b.Help().Desc]; isView && m.width < 138 && pagesByName[b.Help().Desc] != m.page {
			words = "" // the numbers alone, but for the view that is shown
		}
		if m.width < 165 && (b.Help().Desc == "help" || b.Help().Desc == "quit") {
			words = "" // the keys speak for themselves where there is little room
		}
		r.put(t.key, b.Help().Key).put(style, words+gap)
	}
	return r.cut(m.width)
}

var headlines = map[verdict.Zone][2]string{
	verdict.None:        {"No fault stands in the way", ""},
	verdict.Host:        {"The fault lies in this ", "HOST"},
	verdict.LocalSubnet: {"The fault lies in the ", "LOCAL SUBNET"},
	verdict.Beyond:      {"The fault lies ", "BEYOND the gateway"},
}

// verdictLines are the headline with its certainty, the sentence, and what to do next: three lines on a small screen, more on a tall one.
func (m *model) verdictLines(most int) []string {
	t := m.theme
	width := m.width - 2
	head := &row{}
	head.put(t.text, " ")
	if m.failed != nil {
		head.put(t.state[verdict.Broken], "The tests could not be run")
		return append([]string{head.cut(m.width)}, indent(wrap(m.failed.Error(), width, most-1), t.text)...)
	}
	if m.first == nil {
		return m.waiting(head, most)
	}
	words, known := headlines[m.result.Zone]
	style := t.state[verdict.Broken]
	switch {
	case !known:
		words, style = [2]string{"Where the fault lies is not determined", ""}, t.state[verdict.Strained]
	case m.result.Zone == verdict.None:
		style = t.state[verdict.Holds].Bold(true)
	}
	if words[1] == "" {
		head.put(style, words[0]+".")
	} else {
		head.put(t.loud, words[0]).put(style, words[1]).put(t.loud, ".")
	}
	certainty := string(m.result.Confidence)
	if !m.over {
		certainty += " · still asking"
	}
	if amended := m.amended(); amended != "" {
		certainty = amended + " · " + certainty
	}
	head.at(m.width-ansi.StringWidth(certainty)-1).put(t.accent, certainty)
	lines := []string{head.cut(m.width)}
	text := m.result.Sentence
	if since := m.since(); since.Words != "" {
		text = since.Words + " " + text
	}
	for _, a := range m.result.Also {
		text += " Also: " + a.Sentence
	}
	for _, r := range m.result.Remarks {
		text += " " + r.Sentence
	}
	text += m.outagesSeen()
	next := "Nothing needs mending. If the user still cannot work, ask for the exact name or URL that fails, and ask for it here: t."
	if len(m.result.Next) > 0 {
		next = m.result.Next[0]
	} else if m.result.Zone != verdict.None {
		next = "r runs the tests again."
	}
	ask := m.over && len(m.result.Questions) > 0
	room := most - 2
	if ask {
		room--
	}
	lines = append(lines, indent(wrap(text, width, max(room, 1)), t.text)...)
	if m.notice != "" {
		next = m.notice
	}
	r := &row{}
	r.put(t.accent, " Next  ").put(t.text, fit(next, width-7))
	lines = append(lines, r.cut(m.width))
	if ask {
		found := "   w tells what you found"
		q := &row{}
		q.put(t.accent, " You   ").put(t.text, fit(m.result.Questions[0].Text, width-7-len(found))).put(t.key, "   w").put(t.faint, strings.TrimPrefix(found, "   w"))
		return append(lines, q.cut(m.width))
	}
	if len(lines) < most && len(m.result.Next) > 1 && m.notice == "" {
		more := &row{}
		more.at(7).put(t.text, fit(m.result.Next[1], width-7))
		lines = append(lines, more.cut(m.width))
	}
	return lines
}

// since is what has changed between the run before and this one, once this one has come to a verdict.
func (m *model) since() verdict.Since {
	if m.before == nil || m.first == nil {
		return verdict.Since{}
	}
	return verdict.Compare(*m.before, m.result)
}

// outagesSeen is what watching has found since, for the verdict: a fault that comes and goes is rarely there at the moment of a test.
func (m *model) outagesSeen() (words string) {
	if m.reach == nil {
		return ""
	}
	m.reach.watcher.See(func(_ time.Duration, _ []*watch.Subject, l *blame.Ledger) {
		if all := l.Outages(); len(all) > 0 {
			o := all[len(all)-1]
			words = fmt.Sprintf(" Watched since %s: %s, the last at %s for %s, %s (6 shows them).", m.reach.watcher.Start.Format("15:04:05"), plural(len(all), "outage"),
				m.reach.watcher.Clock(o.From).Format("15:04:05"), report.Lasting(o.Length()), o.Zone)
		}
	})
	return words
}

// amended says that evidence which came later changed the verdict.
func (m *model) amended() string {
	if m.first == nil || m.first.Zone == m.result.Zone && m.first.Fault == m.result.Fault {
		return ""
	}
	was := string(m.first.Zone)
	if m.first.Fault != "" {
		was = m.first.Fault
	}
	return "amended, was " + was
}

// waiting says what is being waited for and for how long.
// mostBetween is how many suspects are named that a test is to part.
const mostBetween = 4

func (m *model) waiting(head *row, most int) []string {
	t := m.theme
	elapsed := time.Since(m.began).Round(100 * time.Millisecond)
	head.put(t.accent, fmt.Sprintf("Asking … %.1f s", elapsed.Seconds()))
	what := "reading this machine's settings"
	if m.set != nil {
		var parts []string
		for _, k := range m.set.Open {
			parts = append(parts, strings.ReplaceAll(k.String(), "-", " "))
		}
		what = "waiting for: " + strings.Join(parts, ", ")
		if n := len(m.set.Chosen); n > 0 {
			last := m.set.Chosen[n-1]
			what = fmt.Sprintf("%s It would part %s.", verdict.TestOf(last).Text, strings.Join(last.Between[:min(len(last.Between), mostBetween)], ", "))
		}
	}
	lines := []string{head.cut(m.width)}
	return append(lines, indent(wrap(what, m.width-2, max(most-1, 1)), t.faint)...)
}

func indent(lines []string, style lipgloss.Style) []string {
	out := make([]string, len(lines))
	for i, l := range lines {
		out[i] = " " + style.Render(l)
	}
	return out
}
