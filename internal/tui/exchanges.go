package tui

import (
	"fmt"
	"slices"
	"strings"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wording"
	"passepartout/internal/report"
)

// outcomeStates give each outcome the look of a state.
var outcomeStates = map[dhcp.Outcome]verdict.State{
	dhcp.BoundTo: verdict.Holds, dhcp.Renewed: verdict.Holds, dhcp.Rebound: verdict.Strained, dhcp.Refused: verdict.Broken,
	dhcp.Declined: verdict.Broken,
	dhcp.Released: verdict.Skipped, dhcp.Informed: verdict.Holds, dhcp.Offered: verdict.Skipped, dhcp.Unanswered: verdict.Broken,
}

// talks are the exchanges that are shown: of the file, else of what was heard, the filter applied.
func (m *model) talks() (shown []*dhcp.Exchange, counts [dhcp.Inform + 1]int, all int) {
	v := m.lease()
	var list []*dhcp.Exchange
	if v.file != nil {
		list, counts = v.file.exchanges, v.file.counts
	} else {
		for _, e := range m.heard().exchanges {
			if v.own || !dhcp.IsProbe(e.Client, e.XID) {
				list = append(list, e)
			}
		}
		counts = m.heard().counts
	}
	for _, e := range list {
		if v.filter.Matches(e) {
			shown = append(shown, e)
		}
	}
	if v.anchor != (talkKey{}) {
		if i := slices.IndexFunc(shown, func(e *dhcp.Exchange) bool { return keyOf(e) == v.anchor }); i >= 0 {
			v.selected = i
		}
	}
	v.selected = min(max(v.selected, 0), max(len(shown)-1, 0))
	return shown, counts, len(list)
}

// talkPane lists the exchanges, and draws the chosen one as a ladder.
func (m *model) talkPane(width, room int) []string {
	t, v, seen := m.theme, m.lease(), m.heard()
	shown, counts, all := m.talks()
	head := &row{}
	head.put(t.loud, " Exchanges ")
	switch {
	case v.file != nil:
		head.put(t.faint, "in "+v.file.name)
	case seen.hears:
		head.put(t.faint, "heard since "+wording.Clock(seen.since))
	}
	var kinds []string
	for _, k := range dhcp.Types() {
		if n := counts[k]; n > 0 {
			kinds = append(kinds, fmt.Sprintf("%d %s", n, k))
		}
	}
	if len(kinds) > 0 {
		head.put(t.faint, ": "+strings.Join(kinds, ", "))
	}
	if n := m.ownQuestions(); n > 0 && v.file == nil && !v.own {
		head.put(t.faint, fmt.Sprintf("   %s of this program's own left out; ", wording.Plural(n, "question", "questions"))).
			put(t.key, "u").
			put(t.faint, " shows them")
	}
	lines := []string{head.cut(width)}
	if v.words != "" {
		lines = append(lines, " "+t.accent.Render(fit(fmt.Sprintf("only %s: %d of %d; esc shows all", v.words, len(shown), all), width-2)))
	}
	if v.note != "" {
		lines = append(lines, " "+t.accent.Render(fit(v.note, width-2)))
	}
	if len(shown) == 0 {
		why := "Nothing of DHCP has been heard yet. d asks the servers now; the client's own renewal shows as well. o opens a capture file."
		switch {
		case m.recorded != nil:
			why = "The exchanges that were heard are not in the recording."
		case v.words != "":
			why = "No exchange matches."
		case v.file != nil:
			why = "The file holds no DHCP exchange."
		case !seen.hears && seen.deaf == "":
			why = "The interface is being opened."
		case !seen.hears:
			why = "What is said on the segment cannot be heard: " + seen.deaf + ". o opens a capture file."
		}
		return append(lines, indent(wrap(why, width-2, 4), t.faint)...)
	}
	chosen := shown[v.selected]
	l := chosen.Ladder()
	rows := min(len(shown), max(room-len(lines)-len(l.Rungs)-min(len(chosen.Remarks), 3)-3, 3))
	from := min(max(v.selected-rows/2, 0), len(shown)-rows)
	for i := from; i < from+rows; i++ {
		lines = append(lines, m.talkRow(shown[i], i == v.selected, width))
	}
	if rest := len(shown) - rows; rest > 0 {
		lines = append(lines, " "+t.faint.Render(fmt.Sprintf("  %d of %d shown; ↑ ↓ choose", rows, len(shown))))
	}
	lines = append(lines, "")
	return append(lines, m.ladder(chosen, l, width, room-len(lines))...)
}

// ownQuestions is how many exchanges that were heard this program has begun.
func (m *model) ownQuestions() (n int) {
	for _, e := range m.heard().exchanges {
		if dhcp.IsProbe(e.Client, e.XID) {
			n++
		}
	}
	return n
}

func (m *model) talkRow(e *dhcp.Exchange, chosen bool, width int) string {
	t, r := m.theme, &row{}
	style := t.text
	if chosen {
		r.put(t.accent, " ▸ ")
	} else {
		style = t.faint
		r.put(t.faint, "   ")
	}
	who := e.Hostname
	if who == "" {
		who = e.Client.String()
	}
	i, ok := m.set.Endpoint.Interface(m.set.Interface)
	live := m.lease().file == nil
	mine := ok && live && e.Client == dhcp.HardwareFrom(i.Hardware[:])
	words, state := report.ExchangeWords(e), outcomeStates[e.Outcome]
	switch {
	case mine && dhcp.IsProbe(e.Client, e.XID):
		who = "this program"
	case mine:
		who = "this machine"
	case live && e.Outcome == dhcp.Unanswered: // a switch does not bring to this interface what is sent to others alone
		words, state = "its answers are not visible from here", verdict.Skipped
	}
	r.put(style, e.Began().Local().Format("15:04:05 ")).put(style, fit(who, 18)).at(31)
	r.put(t.state[state], strands[state]+" ").put(style, fit(words, width-r.width-1))
	return r.cut(width)
}

// ladder draws one exchange between its parties.
func (m *model) ladder(e *dhcp.Exchange, l dhcp.Ladder, width, room int) []string {
	t := m.theme
	const times = 14
	posts := report.LadderWidths(l, max(min(width-times-44, 30+18*(len(l.Parties)-1)), 12+8*(len(l.Parties)-1)))
	last := posts[len(posts)-1]
	r := &row{}
	r.put(t.faint, report.LadderHead(l, posts, times-2))
	lines := []string{r.cut(width)}
	remarks := e.Remarks
	if most := max(room-len(l.Rungs)-2, 1); len(remarks) > most {
		remarks = remarks[:most]
	}
	rungs := l.Rungs
	cut := 0
	if most := max(room-1-len(remarks), 2); len(rungs) > most {
		cut = len(rungs) - most + 1
		rungs = rungs[:most-1]
	}
	for i, g := range rungs {
		r := &row{}
		at := g.Step.At.Local().Format("15:04:05.000")
		if i > 0 {
			at = fmt.Sprintf("%12s", strings.TrimSpace(report.RungTime(g)[12:]))
		}
		r.put(t.faint, " "+at+" ")
		style := t.text
		switch g.Step.Message.Type {
		case dhcp.Nak, dhcp.Decline:
			style = t.state[verdict.Broken]
		case dhcp.Ack:
			style = t.state[verdict.Holds]
		}
		if g.Step.Copy {
			style = t.faint
		}
		m.putRung(r, report.RungLine(l, g, posts), style)
		r.at(times+last+2).put(style, fit(g.Words, width-times-last-3))
		lines = append(lines, r.cut(width))
	}
	if cut > 0 {
		lines = append(lines,
			" "+t.faint.Render(fmt.Sprintf("%s more; a taller window shows them", wording.Plural(cut, "message", "messages"))))
	}
	for _, remark := range remarks {
		lines = append(lines, " "+t.state[verdict.Strained].Render(fit("! "+remark, width-2)))
	}
	return lines
}

// putRung writes a rung's line, its posts fainter than its arrow.
func (m *model) putRung(r *row, line string, style paint) {
	for _, c := range line {
		s := style
		if c == '│' || c == ' ' {
			s = m.theme.rule
		}
		r.put(s, string(c))
	}
}
