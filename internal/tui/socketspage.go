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
	room := max(m.height-2-len(lines)-len(below), 3)
	drawn, at := m.socketRows(s, v)
	from := 0
	if len(drawn) > room {
		from = min(max(at-room/2, 0), len(drawn)-room)
		drawn = slices.Clone(drawn[from:min(from+room, len(drawn))])
	}
	lines = append(lines, drawn...)
	for len(lines) < m.height-2-len(below) {
		lines = append(lines, "")
	}
	return append(lines, below...)
}

func (m *model) socketsHead(s socketsSeen) string {
	t, r := m.theme, &row{}
	connections, listening := 0, 0
	for i := range s.seen.Sockets {
		switch x := &s.seen.Sockets[i]; {
		case s.seen.Mine(x):
		case x.Waits():
			listening++
		case x.Remote.IsValid() && x.State != sockets.TimeWait:
			connections++
		}
	}
	r.put(t.loud, "  Sockets of this machine")
	r.put(t.faint, fmt.Sprintf("   %s, %d listen; those of these tests are left out", wording.Plural(connections, "connection", "connections"), listening))
	if n := len(s.seen.Stuck); n > 0 {
		r.put(t.state[verdict.Broken], fmt.Sprintf("   %s %d stuck", strands[verdict.Broken], n))
	}
	if s.filter != "" {
		r.put(t.accent, "   only “"+s.filter+"”, esc shows all")
	}
	return r.cut(m.width)
}

// stuckLook is how a reason looks: what does not get there is broken, a program that is late strains.
func stuckLook(w sockets.Why) verdict.State {
	if w == sockets.NoAnswer || w == sockets.Unacked {
		return verdict.Broken
	}
	return verdict.Strained
}

// socketRows draws all rows, and says which of the lines is the chosen one.
func (m *model) socketRows(s socketsSeen, v *socketsWatch) (lines []string, chosen int) {
	t := m.theme
	told := report.Sockets{Seen: s.seen, Name: m.nameOf}
	columns := [4]int{4, 36, m.width - 44, m.width - 16}
	if m.width < 110 {
		columns = [4]int{4, 24, m.width - 20, m.width}
	}
	part := ""
	heading := func(name string, words ...string) {
		if part == name {
			return
		}
		if part != "" {
			lines = append(lines, "")
		}
		part = name
		r := &row{}
		r.at(2).put(t.faint, name)
		for i, w := range words {
			if columns[i+1] < m.width-8 {
				r.at(columns[i+1]).put(t.faint, w)
			}
		}
		lines = append(lines, r.cut(m.width))
	}
	for i, x := range s.rows {
		switch { // its heading first
		case x.stuck != nil:
			heading("stuck")
		case x.group != nil || x.end != nil:
			heading("connections of", "with", "state, for how long", "round trip")
		default:
			heading("listening", "for whom")
		}
		mark := "  "
		if i == v.selected {
			mark, chosen = " ▸", len(lines)
		}
		r := &row{}
		r.put(t.accent, mark)
		switch {
		case x.stuck != nil:
			lines = append(lines, m.stuckLines(r, told, x.stuck)...)
			continue
		case x.group != nil:
			fold := map[bool]string{true: "▾ ", false: "▸ "}[x.open]
			r.at(columns[0]).put(t.faint, fold).put(t.text, fit(report.ProgramWords(x.group.Program, x.group.Program.PID > 0), columns[1]-columns[0]-3))
			r.at(columns[1]).put(t.faint, wording.Plural(x.group.Count, "connection", "connections")+
				map[bool]string{true: "", false: ", enter shows them"}[x.open])
		case x.end != nil:
			m.endCells(r, told, x.end, columns)
		default:
			style := t.text
			if x.listener.Socket.Local.Addr().IsLoopback() {
				style = t.faint
			}
			who := report.ProgramWords(x.listener.Program, x.listener.Program.PID > 0)
			r.at(columns[0]).put(style, fit(who, columns[1]-columns[0]-1))
			r.at(columns[1]).put(style, fmt.Sprintf("%v %-6d", x.listener.Socket.Protocol, x.listener.Socket.Local.Port())).
				put(t.faint, x.listener.Scope())
		}
		lines = append(lines, r.cut(m.width))
	}
	if len(s.rows) == 0 {
		words := "No program of this machine has a connection, and none listens."
		if s.filter != "" {
			words = "No socket has all of “" + s.filter + "”. esc shows all."
		}
		lines = append(lines, "", "  "+t.faint.Render(words))
	}
	return lines, chosen
}

// stuckLines are the two lines of something stuck: who waits for whom, and for what.
func (m *model) stuckLines(r *row, told report.Sockets, x *sockets.Stuck) []string {
	t := m.theme
	state := stuckLook(x.Why)
	p, known := told.Program(&x.Socket)
	r.put(t.state[state], strands[state]+" ").put(t.loud, report.ProgramWords(p, known)).put(t.text, " "+told.Whither(&x.Socket))
	lines := []string{r.cut(m.width)}
	for _, line := range wrap(told.Says(x)+".", m.width-8, 2) {
		lines = append(lines, "     "+t.state[state].Render(line))
	}
	return lines
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
	for _, e := range s.seen.Events {
		if ago := now.Sub(e.At); ago >= 0 && ago < lookBack {
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
