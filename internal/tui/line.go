package tui

import (
	"fmt"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"passepartout/internal/core/topology"
	"passepartout/internal/core/verdict"
)

// drawLine draws the line: three zones from left to right, the segment's stations as branches, the gateway the lowest of them, and from it
// the way on.
func drawLine(t theme, l topology.Line, width int) (lines []string, spots []spot) {
	host := l.Host
	if width < 110 && len(host) > 2 {
		host = host[1:] // loopback is said by its check
	}
	if width < 110 { // where it stands says what it is
		l.Local = slices.Clone(l.Local)
		for i := range l.Local {
			if rest, ok := strings.CutPrefix(l.Local[i].Note, "gateway"); ok {
				l.Local[i].Note = strings.TrimPrefix(rest, " · ")
			}
		}
	}
	hostWidth := 2
	for i, s := range host {
		hostWidth += ansi.StringWidth(label(s))
		if i > 0 {
			hostWidth += 4
		}
	}
	branch := hostWidth + 4 // the column where the branches fork
	fork := forkColumn(l, branch, width)
	if fork+beyondWidth(l, 0) > width { // the target must be seen whole: the roles of the neighbours stand in their checks
		l.Local = slices.Clone(l.Local)
		for i := range l.Local {
			if l.Local[i].State != verdict.Broken {
				l.Local[i].Note = ""
			}
		}
		fork = forkColumn(l, branch, width)
	}
	head := &row{}
	head.at(2).put(t.faint, "HOST").at(branch).put(t.faint, "LOCAL SUBNET")
	if l.Segment != "" && branch+16+len(l.Segment) < fork {
		head.put(t.faint, "  "+l.Segment)
	}
	head.at(fork).put(t.faint, "BEYOND")
	rows := []*row{head}
	first := &row{}
	first.at(2)
	for i, s := range host {
		if i > 0 {
			first.put(t.text, " ").put(t.state[s.State], strands[s.State]).put(t.text, " ")
		}
		spots = append(spots, drawStation(t, first, s, lineTop+1))
	}
	rows = append(rows, first)
	for i, s := range l.Local {
		r := first
		if i > 0 {
			r = &row{}
			rows = append(rows, r)
		} else {
			r.put(t.text, " ").fill(t.state[s.State], "━", branch)
		}
		shape := "┣"
		switch {
		case len(l.Local) == 1:
			shape = "━"
		case i == 0:
			shape = "┳"
		case i == len(l.Local)-1:
			shape = "┗"
		}
		r.at(branch).put(t.state[s.State], shape+strands[s.State]).put(t.text, " ")
		spots = append(spots, drawStation(t, r, s, lineTop+1+i))
	}
	spots = append(spots, drawBeyond(t, rows, l, fork, width)...)
	lines = make([]string, len(rows))
	for i, r := range rows {
		lines[i] = r.cut(width)
	}
	return lines, spots
}

// lineTop is the screen's row in which the line begins.
const lineTop = 2

// forkColumn is where the way beyond begins: after the widest branch, not far from the middle.
func forkColumn(l topology.Line, branch, width int) int {
	local := 0
	for _, s := range l.Local {
		local = max(local, ansi.StringWidth(label(s))+4)
	}
	least := branch + local + 2
	if rest := beyondWidth(l, 1); max(least, width*52/100)+rest > width {
		return max(least, width-rest-1)
	}
	return max(least, width*52/100)
}

func label(s topology.Station) string {
	if s.Note == "" {
		return s.Label
	}
	return s.Label + " " + s.Note
}

// drawStation draws a station, and says where it stands.
func drawStation(t theme, r *row, s topology.Station, y int) spot {
	from := r.width
	style := t.text
	if s.State == verdict.Broken {
		style = t.state[s.State]
	}
	if s.State == verdict.StateUnknown || s.State == verdict.Skipped {
		style = t.faint
	}
	r.put(style, s.Label)
	if s.Note != "" {
		if s.State != verdict.Broken {
			style = t.faint
		}
		r.put(style, " "+s.Note)
	}
	return spot{from, r.width, y, viewOf(s.Role)}
}

// beyondWidth is the room that the way beyond needs when its hops are drawn one by one (detail 1) or counted (0).
func beyondWidth(l topology.Line, detail int) int {
	w := 2
	if detail == 0 && len(l.Beyond) > 2 {
		return w + 3 + len("9 stations") + 4 + ansi.StringWidth(label(l.Beyond[len(l.Beyond)-1]))
	}
	for i, s := range l.Beyond {
		w += ansi.StringWidth(label(s)) + 3
		if i > 0 {
			w++
		}
	}
	return w
}

func drawBeyond(t theme, rows []*row, l topology.Line, fork, width int) (spots []spot) {
	if len(rows) < 2 {
		return nil
	}
	last := rows[len(rows)-1]
	stations := l.Beyond
	if len(stations) > 2 && fork+beyondWidth(l, 1) > width {
		stations = []topology.Station{
			{Role: topology.Path, Label: fmt.Sprintf("%d stations", len(stations)-1), State: stations[len(stations)-2].State},
			stations[len(stations)-1]}
	}
	names := l.Names
	if len(stations) == 0 && len(names) == 0 {
		return nil
	}
	way := verdict.StateUnknown
	if len(stations) > 0 {
		way = stations[0].State
	} else {
		way = names[0].State
	}
	dash := map[verdict.State]string{verdict.Holds: "━", verdict.Strained: "╍", verdict.Broken: "━"}[way]
	if dash == "" {
		dash = "┈"
	}
	last.put(t.text, " ").fill(t.state[way], dash, fork)
	// Name servers branch off above, as many as there are rows for.
	drawn := 0
	for i := len(rows) - 2; i >= 1 && drawn < len(names) && len(stations) > 0; i-- {
		shape := "┣"
		if drawn == len(names)-1 || i == 1 {
			shape = "┏"
		}
		s := names[drawn]
		rows[i].at(fork).put(t.state[s.State], shape+strands[s.State]).put(t.text, " ")
		spots = append(spots, drawStation(t, rows[i], s, lineTop+i))
		drawn++
	}
	if len(stations) == 0 {
		stations = names[:1]
	}
	for i, s := range stations {
		joint := ""
		if i == 0 && drawn > 0 {
			joint = "┻"
		} else if i == 0 {
			joint = dash
		} else {
			last.put(t.text, " ")
		}
		last.put(t.state[s.State], joint+strands[s.State]).put(t.text, " ")
		spots = append(spots, drawStation(t, last, s, lineTop+len(rows)-1))
	}
	return spots
}
