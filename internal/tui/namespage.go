package tui

import (
	"fmt"
	"strings"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/names"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wording"
	"passepartout/internal/report"
)

// namesPage shows who is asked for names and why, one name as all of them have it, and which of them does best.
func (m *model) namesPage() []string {
	t := m.theme
	lines := m.head()
	if m.set == nil || m.set.Endpoint == nil || m.names() == nil {
		return append(lines, "", "  "+t.faint.Render("The machine's settings are being read."))
	}
	seen := m.namesSeen()
	asked, asking, compared, comparing, done := seen.asked, seen.asking, seen.compared, seen.comparing, seen.done
	servers := names.Servers(m.set)
	if len(asked.Servers) > 0 {
		servers = asked.Servers
	}
	tall := m.height >= 34
	lines = append(lines, m.serverList(servers, tall)...)
	below := m.compareLines(compared, comparing, done)
	if m.recorded != nil { // the tests compare nobody
		below = nil
	}
	lines = append(lines, m.answers(asked, asking)...)
	for len(lines) < m.height-2-len(below) {
		lines = append(lines, "")
	}
	return append(lines, below...)
}

func (m *model) serverList(servers []names.Server, tall bool) []string {
	t := m.theme
	lines := []string{"  " + t.loud.Render("Who is asked") + t.faint.Render(m.completion())}
	if len(servers) == 0 {
		return append(lines, "    "+t.state[verdict.Broken].Render("Nobody: no name server is set, and nobody names one."), "")
	}
	for i, s := range servers {
		r := &row{}
		place, style := fmt.Sprintf("%d", i+1), t.text
		if !s.Set {
			place, style = "·", t.faint
		}
		r.at(4).put(t.accent, place).at(7).put(style, fit(m.named(s.Address), 34)).at(43).put(t.faint, fit(s.From(), m.width-44))
		if s.Set && len(s.Origin) == 1 && s.Origin[0] == "by hand" {
			for _, other := range servers {
				if !other.Set {
					r.put(t.state[verdict.Strained], "   ╍╍ others are named")
					break
				}
			}
		}
		lines = append(lines, r.cut(m.width))
	}
	if tall {
		lines = append(lines, "")
	}
	return lines
}

// completion says how short names are completed.
func (m *model) completion() string {
	if len(m.set.Endpoint.Search) == 0 {
		return "   short names are asked as they are"
	}
	return "   short names are completed with " + strings.Join(m.set.Endpoint.Search, ", ")
}

// answers lays one name out: a column for each server, a band for each question.
func (m *model) answers(n report.Named, asking bool) []string {
	t := m.theme
	head := &row{}
	if n.Name == "" {
		if m.recorded != nil {
			return []string{"  " + t.faint.Render("The tests had no name to look up.")}
		}
		return []string{"  " + t.faint.Render("n looks a name up, at all of them at once.")}
	}
	head.at(2).put(t.loud, fit(n.Name, m.width/2))
	if len(n.Lookups) > 0 && n.Lookups[0].Name != n.Name {
		head.put(t.faint, fit("   asked as "+strings.TrimSuffix(n.Lookups[0].Name, "."), m.width/3))
	}
	if asking {
		head.put(t.accent, fmt.Sprintf("   being asked, %.1f s", max(m.now.Sub(n.At), 0).Seconds()))
	} else {
		head.put(t.faint, "   asked at "+wording.Clock(n.At))
	}
	if m.recorded == nil {
		head.put(t.faint, " for "+strings.Join(kindsOfRecord[m.names().kinds], " and "))
	}
	lines := []string{head.cut(m.width)}
	if len(n.Hosts) > 0 {
		lines = append(lines,
			"    "+t.state[verdict.Strained].Render(
				fit("the hosts file answers first, with "+listOrNone(n.Hosts)+": programs here ask nobody", m.width-5)))
	}
	const label, least = 12, 30
	most := max((m.width-label-2)/least, 1)
	shown := n.Servers
	if len(shown) > most {
		shown = shown[:most]
	}
	cell := min((m.width-label-2)/max(len(shown), 1), 60)
	columns := &row{}
	columns.at(4)
	for i, s := range shown {
		columns.at(label+i*cell).put(t.faint, fit(m.named(s.Address), cell-2))
	}
	if hidden := len(n.Servers) - len(shown); hidden > 0 {
		columns.put(t.faint, fmt.Sprintf("   and %d more", hidden))
	}
	lines = append(lines, columns.cut(m.width))
	for _, line := range n.Lines() {
		lines = append(lines, m.answerBand(line, shown, label, cell)...)
	}
	return lines
}

// groupShapes tell answers that agree from those that differ.
var groupShapes = []string{" ", "▪", "▫", "▴", "▿", "◂", "▹"}

// answerBand is one question: each server's answer in its column, and under it how it came.
func (m *model) answerBand(line names.Line, servers []names.Server, label, cell int) []string {
	t := m.theme
	what := line.Type
	if line.TCP {
		what += " TCP"
	}
	texts := make([][]string, len(servers))
	tallest := 1
	for i := range servers {
		words := wrap(names.Words(line.Cells[i].Lookup), cell-4, 3)
		texts[i] = words
		tallest = max(tallest, len(words))
	}
	var out []string
	for k := range tallest {
		r := &row{}
		if k == 0 {
			style := t.text
			if line.Parts {
				style = t.state[verdict.Strained]
			}
			r.at(4).put(style, what)
		}
		if k == 1 && line.Parts {
			r.at(4).put(t.state[verdict.Strained], "╍╍ part")
		}
		for i, words := range texts {
			if k >= len(words) {
				continue
			}
			c := line.Cells[i]
			style := t.text
			switch {
			case c.Outcome == evidence.NotKnown:
				style = t.faint
			case c.Outcome != evidence.Answered || c.RCode != "NOERROR" && c.RCode != "NXDOMAIN":
				style = t.state[verdict.Broken]
			case line.Parts && c.Group > 1:
				style = t.state[verdict.Strained]
			case len(c.Records) == 0:
				style = t.faint
			}
			r.at(label + i*cell)
			if line.Parts && k == 0 {
				r.put(style, groupShapes[min(c.Group, len(groupShapes)-1)]+" ")
			} else {
				r.put(style, "  ")
			}
			r.put(style, words[k])
		}
		out = append(out, r.cut(m.width))
	}
	foot := &row{}
	if tallest == 1 && line.Parts {
		foot.at(4).put(t.state[verdict.Strained], "╍╍ part")
	}
	any := false
	for i := range servers {
		if words := names.Footing(line.Cells[i].Lookup); words != "" {
			foot.at(label+i*cell+2).put(t.faint, fit(words, cell-4))
			any = true
		}
	}
	if any {
		out = append(out, foot.cut(m.width))
	}
	return out
}

// compareLines draws how the servers compare: a ruler of time, and on it for each server the span of its look-ups.
func (m *model) compareLines(c report.Compared, comparing bool, done int) []string {
	t := m.theme
	var lines []string
	if c.Trial == nil {
		return lines
	}
	lines = append(lines, m.rule())
	total := len(c.Names) * c.Rounds * len(c.Servers)
	head := &row{}
	head.at(2).put(t.loud, "Compared").put(t.faint, fit(fmt.Sprintf("   %d look-ups of %s", done, strings.Join(c.Names, ", ")), m.width-30))
	if comparing {
		head.put(t.accent, fmt.Sprintf("   of %d; esc stops", total))
	}
	lines = append(lines, head.cut(m.width))
	longest := time.Millisecond
	for _, x := range c.Trial.Tallies {
		for _, f := range []names.Figures{x.Cold, x.Warm} {
			if w, ok := f.Worst(); ok {
				longest = max(longest, w)
			}
		}
	}
	const label = 34
	width := max(m.width-label-38, 12)
	ruler := &row{}
	ruler.at(label-2).put(t.faint, "0 ├").fill(t.faint, "─", label+width).put(t.faint, "┤ "+wording.Millis(longest))
	lines = append(lines, ruler.cut(m.width))
	for _, x := range c.Trial.Tallies {
		for k, f := range []names.Figures{x.Cold, x.Warm} {
			r := &row{}
			if k == 0 {
				r.at(4).put(t.text, fit(m.named(x.Server), label-17))
			}
			r.at(label-12).put(t.faint, [2]string{"at first", "again"}[k])
			r.at(label)
			r.b.WriteString(m.figureSpan(f, longest, width))
			r.width += width
			share, typical, worst := report.FiguresWords(f)
			style := t.text
			if f.Asked > f.Answered {
				style = t.state[verdict.Strained]
			}
			r.at(label+width+2).put(style, share).put(t.faint, fmt.Sprintf("  median %s, max %s", typical, worst))
			lines = append(lines, r.cut(m.width))
		}
	}
	advice := &row{}
	a := c.Trial.Advice()
	state := verdict.Holds
	if a.Matters {
		state = verdict.Strained
	}
	if !comparing {
		advice.at(2).put(t.state[state], strands[state]+" "+fit(a.Words, m.width-8))
	}
	return append(lines, advice.cut(m.width))
}

// figureSpan draws times on a ruler: ├ the quickest, ● the typical, ┤ the longest.
func (m *model) figureSpan(f names.Figures, longest time.Duration, width int) string {
	t := m.theme
	column := func(d time.Duration) int { return min(int(float64(d)/float64(longest)*float64(width-1)), width-1) }
	cells := []rune(strings.Repeat(" ", width))
	if len(f.Times) > 0 {
		first, last := column(f.Times[0]), column(f.Times[len(f.Times)-1])
		for i := first; i <= last; i++ {
			cells[i] = '─'
		}
		cells[first], cells[last] = '├', '┤'
		typical, _ := f.Typical()
		cells[column(typical)] = '●'
	}
	return t.state[verdict.Holds].Render(string(cells))
}
