package tui

import (
	"fmt"
	"slices"
	"time"

	"passepartout/internal/core/sockets"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wording"
	"passepartout/internal/report"
)

// socketsPage says what is stuck, then who is connected to whom, then who listens, and when connections were opened and closed.
func (m *model) socketsPage() []string {
	t := m.theme
	lines := m.head()
	v := hold[socketsWatch](m)
	s, ok := lookedAt[socketsSeen](m)
	switch {
	case v == nil || !ok:
		return append(lines, "", "  "+t.faint.Render("The sockets are being read."))
	case s.seen == nil:
		return append(lines, append([]string{""}, indent(wrap("The sockets could not be read: "+s.failed+".", m.width-4, 3), t.text)...)...)
	}
	if i := slices.IndexFunc(s.rows, func(x socketRow) bool { return x.key == v.chosen }); i >= 0 {
		v.selected = i
	}
	v.selected = min(max(v.selected, 0), max(len(s.rows)-1, 0))
	lines = append(lines, m.socketsHead(s))
	below := append(m.socketDetail(s, v), m.socketsBelow(s)...)
	lines = append(lines, m.socketRows(s, v, max(m.height-2-len(lines)-len(below), 3))...)
	for len(lines) < m.height-2-len(below) {
		lines = append(lines, "")
	}
	return append(lines, below...)
}

func (m *model) socketsHead(s socketsSeen) string {
	t, r := m.theme, &row{}
	r.put(t.loud, "  Sockets of this machine")
	words := fmt.Sprintf("   %s, %d listen", wording.Plural(s.connections, "connection", "connections"), s.listening)
	if s.left > 0 {
		words += fmt.Sprintf(", %d closed that no program has any more", s.left)
	}
	r.put(t.faint, words+"; those of these tests are left out")
	if n := len(s.seen.Stuck); n > 0 {
		r.put(t.state[verdict.Broken], fmt.Sprintf("   %s %d stuck", strands[verdict.Broken], n))
	}
	r.put(t.accent, m.onlyWords())
	return r.cut(m.width)
}

// stuckLook is how a reason looks: what does not get there is broken, a program that is late strains.
func stuckLook(w sockets.Why) verdict.State {
	if w == sockets.NoAnswer || w == sockets.Unacked {
		return verdict.Broken
	}
	return verdict.Strained
}

// socketParts are the headings of the rows, and what stands over their columns.
var socketParts = [3][]string{{"stuck"}, {"connections of", "with", "state, for how long", "round trip"}, {"listening", "for whom"}}

// part says under which heading a row stands.
func (x socketRow) part() int {
	switch {
	case x.stuck != nil:
		return 0
	case x.listener != nil:
		return 2
	}
	return 1
}

// lines is how many a row takes.
func (x socketRow) lines() int {
	if x.stuck != nil {
		return 2
	}
	return 1
}

// socketRows draws as many lines of the rows as there is room for, around the chosen one: of very many, few are drawn.
func (m *model) socketRows(s socketsSeen, v *socketsWatch, room int) (lines []string) {
	if len(s.rows) == 0 {
		words := "No program of this machine has a connection, and none listens."
		if m.narrowed() != "" {
			words = m.nothingHas("socket")
		}
		return []string{"", "  " + m.theme.faint.Render(words)}
	}
	// The lines that stand above a row, its heading among them.
	total, chosen := 0, 0
	heads := func(i int) int {
		switch {
		case i == 0:
			return 1
		case s.rows[i].part() != s.rows[i-1].part():
			return 2
		}
		return 0
	}
	for i, x := range s.rows {
		if total += heads(i); i == v.selected {
			chosen = total
		}
		total += x.lines()
	}
	from := min(max(chosen-room/2, 0), max(total-room, 0))
	columns := [4]int{4, 36, m.width - 47, m.width - 19}
	if m.width < 110 {
		columns = [4]int{4, 24, m.width - 20, m.width}
	}
	told := report.Sockets{Seen: s.seen, Name: m.nameOf}
	at := 0
	for i, x := range s.rows {
		end := at + heads(i) + x.lines()
		if end > from && at < from+room {
			drawn := append(m.socketHeading(heads(i), x.part(), columns), m.socketLines(told, x, i == v.selected, columns)...)
			lines = append(lines, drawn[max(from-at, 0):min(len(drawn), from+room-at)]...)
		}
		at = end
	}
	return lines
}

func (m *model) socketHeading(lines, part int, columns [4]int) []string {
	if lines == 0 {
		return nil
	}
	r := &row{}
	r.at(2)
	for i, w := range socketParts[part] {
		if i == 0 || columns[i] < m.width-8 {
			if i > 0 {
				r.at(columns[i])
			}
			r.put(m.theme.faint, w)
		}
	}
	return append(make([]string, lines-1), r.cut(m.width))
}

func (m *model) socketLines(told report.Sockets, x socketRow, chosen bool, columns [4]int) []string {
	t, r := m.theme, &row{}
	r.put(t.accent, map[bool]string{true: " ▸", false: "  "}[chosen])
	switch {
	case x.stuck != nil:
		return m.stuckLines(r, told, x.stuck)
	case x.group != nil:
		fold := map[bool]string{true: "▾ ", false: "▸ "}[x.open]
		r.at(columns[0]).put(t.faint, fold).put(t.text, fit(report.ProgramWords(x.group.Program, x.group.Program.PID > 0),
			columns[1]-columns[0]-3))
		r.at(columns[1]).put(t.faint, wording.Plural(x.group.Count, "connection", "connections")+
			map[bool]string{true: "", false: ", enter shows them"}[x.open])
	case x.end != nil:
		m.endCells(r, told, x.end, columns)
	default:
		style := t.text
		if x.listener.Socket.Local.Addr().IsLoopback() {
			style = t.faint
		}
		r.at(columns[0]).put(style, fit(report.ProgramWords(x.listener.Program, x.listener.Program.PID > 0), columns[1]-columns[0]-1))
		r.at(columns[1]).put(style, fmt.Sprintf("%v %-6d", x.listener.Socket.Protocol, x.listener.Socket.Local.Port())).
			put(t.faint, x.listener.Scope())
	}
	return []string{r.cut(m.width)}
}

// stuckLines are the two lines of something stuck: who waits for whom, and for what.
func (m *model) stuckLines(r *row, told report.Sockets, x *sockets.Stuck) []string {
	t := m.theme
	state := stuckLook(x.Why)
	p, known := told.Program(&x.Socket)
	r.put(t.state[state], strands[state]+" ").put(t.loud, report.ProgramWords(p, known)).put(t.text, " "+told.Whither(&x.Socket))
	return []string{r.cut(m.width), "     " + t.state[state].Render(fit(told.Says(x)+".", m.width-6))}
}

func (m *model) endCells(r *row, told report.Sockets, e *sockets.End, columns [4]int) {
	t := m.theme
	s := &told.Table.Sockets[e.Sockets[0]]
	state := verdict.Holds
	switch {
	case e.Stuck != nil:
		state = stuckLook(e.Stuck.Why)
	case s.State != sockets.Established:
		state = verdict.StateUnknown
	}
	style := t.text
	if state == verdict.StateUnknown {
		style = t.faint
	}
	r.at(columns[0]+2).put(t.state[state], strands[state]+" ").put(style, fit(told.EndWords(*e), columns[2]-columns[0]-6))
	r.at(columns[2]).put(style, fit(told.StateWords(s), columns[3]-columns[2]-1))
	if columns[3] < m.width-8 {
		r.at(columns[3]).put(style, report.RoundTrip(s))
	}
}

// socketDetail is what the system tells of the chosen one.
func (m *model) socketDetail(s socketsSeen, v *socketsWatch) []string {
	if len(s.rows) == 0 || m.height < 28 {
		return nil
	}
	t, x := m.theme, s.rows[v.selected]
	var one *sockets.Socket
	switch {
	case x.stuck != nil:
		one = &x.stuck.Socket
	case x.end != nil:
		one = &s.seen.Sockets[x.end.Sockets[0]]
	case x.listener != nil:
		one = x.listener.Socket
	default:
		return nil
	}
	told := report.Sockets{Seen: s.seen, Name: m.nameOf}
	head, figures := &row{}, &row{}
	head.at(2).put(t.loud, one.Local.String())
	if one.Remote.IsValid() {
		head.put(t.faint, " to ").put(t.loud, told.Place(one.Remote))
	}
	head.put(t.text, fmt.Sprintf("   %v, %s", one.Protocol, told.StateWords(one)))
	head.put(t.faint, "   user "+told.UserName(one.User))
	figures.at(4).put(t.faint, told.Figures(one))
	return []string{m.rule(), head.cut(m.width), figures.cut(m.width)}
}

// lookBack is how far the marks of what opened and closed go.
const lookBack = time.Minute

// socketsBelow are the marks of what was opened and closed, and what is not known.
func (m *model) socketsBelow(s socketsSeen) []string {
	t := m.theme
	lines := []string{m.rule()}
	const left = 24
	width := max(m.width-left-10, 10)
	now := s.seen.At
	opened, closed := make([]int, width), make([]int, width)
	for _, e := range slices.Backward(s.seen.Events) { // the newest first
		ago := now.Sub(e.At)
		if ago >= lookBack {
			break
		}
		if ago >= 0 {
			x := width - 1 - int(int64(ago)*int64(width)/int64(lookBack))
			if e.Open {
				opened[x]++
			} else {
				closed[x]++
			}
		}
	}
	for _, l := range []struct {
		words, shape string
		n            int
		at           []int
	}{{"opened", "▏", s.seen.Opened, opened}, {"closed", "╷", s.seen.Closed, closed}} {
		r := &row{}
		r.put(t.faint, fmt.Sprintf("  last minute, %s", l.words)).at(left)
		for _, n := range l.at {
			if n > 0 {
				r.put(t.accent, l.shape)
			} else {
				r.put(t.faint, "·")
			}
		}
		lines = append(lines, r.put(t.text, fmt.Sprintf(" %d", l.n)).cut(m.width))
	}
	n := report.Sockets{Seen: s.seen}
	words := ""
	if missed := n.MissedWords(); missed != "" {
		words = "Short ones" + missed + ". "
	}
	if s.seen.Withheld != "" {
		words += "Not known: " + s.seen.Withheld + "."
	}
	if words != "" {
		lines = append(lines, indent(wrap(words, m.width-4, 2), t.faint)...)
	}
	return lines
}
