package tui

import (
	"slices"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/state"
	"passepartout/internal/core/topology"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

// The line is the menu: each of its stations stands for a matter, and leads to the view on it.

// line is the line as it stands now: while the verdict is in doubt, what lies behind the first doubt is not known. It is worked out when
// what it stands on has changed, and not for every frame.
func (m *model) line() topology.Line {
	if m.set == nil {
		return topology.Line{}
	}
	now := lineOf{set: m.set, fault: m.result.Fault, zone: m.result.Zone, from: zone.Unknown}
	if v := &m.state.Verdict; v.Standing == state.Doubtful || v.Standing == state.Outdated {
		now.from, now.doubted = v.From, true
	}
	if m.lined.of != now {
		l := topology.Of(m.set, m.result)
		if now.doubted {
			l = l.Doubted(now.from)
		}
		m.lined.of, m.lined.line = now, l
	}
	return m.lined.line
}

// lineOf is what a line was worked out from.
type lineOf struct {
	set        *evidence.Set
	fault      fault.ID
	zone, from zone.Zone
	doubted    bool
}

// viewOf gives the view on a station's matter; nil if there is none.
func viewOf(r topology.Role) *view {
	if r == topology.Loopback {
		r = topology.Interface
	}
	for _, v := range views {
		if v.at == string(r) {
			return v
		}
	}
	return nil
}

// spot is where a station stands on the screen.
type spot struct {
	x0, x1, y int
	view      *view
}

// lineRow draws the line in one row, with where its stations stand.
func (m *model) lineRow() (string, []spot) {
	t, r := m.theme, &row{}
	stations := m.line().Row()
	var spots []spot
	gap, labels := " ", 0
	for _, s := range stations {
		labels += ansi.StringWidth(s.Label)
	}
	if labels+4*len(stations) >= m.width {
		gap = ""
	}
	most := max((m.width-2*len(stations)-2)/max(len(stations), 1), 5)
	short := labels+2*len(stations) >= m.width
	for i, s := range stations {
		label := s.Label
		if short {
			label = fit(label, most)
		}
		if i == 0 {
			r.put(t.text, " ").put(t.state[s.State], strands[s.State])
		} else {
			r.put(t.state[s.State], gap+strands[s.State])
		}
		r.put(t.text, gap)
		from := r.width
		v := viewOf(s.Role)
		style := t.text
		switch {
		case s.State == verdict.Broken:
			style = t.state[verdict.Broken]
		case s.State == verdict.StateUnknown || s.State == verdict.Skipped:
			style = t.faint
		}
		if v == m.view {
			style = t.loud.Underline(true)
		}
		r.put(style, label)
		spots = append(spots, spot{from, r.width, 2, v})
	}
	return r.cut(m.width), spots
}

// walk goes along the line, and shows the view of each station.
func (m *model) walk(step int) tea.Cmd {
	var way []*view
	for _, s := range m.line().Row() {
		if v := viewOf(s.Role); v != nil && !slices.Contains(way, v) {
			way = append(way, v)
		}
	}
	if len(way) == 0 {
		return nil
	}
	i := slices.Index(way, m.view)
	if i < 0 { // beside the line: on at its far end
		i = len(way)
		step = min(step, 0)
	}
	m.show(way[min(max(i+step, 0), len(way)-1)])
	return tea.Batch(m.tick(), m.open())
}

// stationAt is the view of the station that was pointed at; nil if there is none.
func (m *model) stationAt(at tea.Mouse) *view {
	if m.set == nil {
		return nil
	}
	_, spots := m.viewsLine()
	return pointedAt(spots, at)
}

// lowHeight is below which height the line takes one row on every view.
const lowHeight = 24

// viewsLine is the line as the view that is shown has it: in full, or in one row.
func (m *model) viewsLine() ([]string, []spot) {
	if m.view.full && m.height >= lowHeight {
		return drawLine(m.theme, m.line(), m.width)
	}
	row, spots := m.lineRow()
	return []string{row}, spots
}

// pointedAt is the view of the spot that was pointed at; nil if there is none.
func pointedAt(spots []spot, at tea.Mouse) *view {
	for _, s := range spots {
		if at.Y == s.y && at.X >= s.x0 && at.X < s.x1 {
			return s.view
		}
	}
	return nil
}
