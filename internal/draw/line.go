package draw

import (
	"gonum.org/v1/plot/vg"
	vgdraw "gonum.org/v1/plot/vg/draw"

	"passepartout/internal/core/topology"
	"passepartout/internal/core/verdict"
)

// Line is the line: the stations between this machine and the target, and how the strand between them holds.
type Line struct{ topology.Line }

const branchHeight = 0.85 * vg.Centimeter

func (l Line) branches() int { return max(len(l.Local), 1) + len(l.Names) }

// Height implements Figure.
func (l Line) Height(vg.Length) vg.Length {
	return 1.6*vg.Centimeter + branchHeight*vg.Length(l.branches())
}

// tie draws the strand that leads to a station: whole, dashed thick, broken with a cross, or dotted. The shape tells the state without
// colour.
func tie(dc vgdraw.Canvas, s verdict.State, x1, x2, y vg.Length) {
	switch s {
	case verdict.Holds:
		line(dc, stroke(sea, 2.6), x1, y, x2, y)
	case verdict.Strained:
		line(dc, stroke(amber, 2.6, 5, 3), x1, y, x2, y)
	case verdict.Broken:
		middle := (x1 + x2) / 2
		line(dc, stroke(coral, 2.6), x1, y, middle-3, y)
		cross(dc, stroke(coral, 2), middle+2, y, 4.5)
	default:
		line(dc, stroke(slate, 1.2, 1.5, 3), x1, y, x2, y)
	}
}

func (l Line) station(dc vgdraw.Canvas, s topology.Station, x, y vg.Length) (end vg.Length) {
	name, note := plain(textSize), faint(smallSize)
	if s.State == verdict.Broken {
		name = bold(textSize)
	}
	put(dc, name, x, y-3, s.Label)
	x += name.Width(clean(s.Label))
	if s.Note != "" {
		put(dc, note, x+5, y-3, s.Note)
		x += 5 + note.Width(clean(s.Note))
	}
	return x
}

// Draw implements Figure.
func (l Line) Draw(dc vgdraw.Canvas) {
	width := dc.Max.X - dc.Min.X
	fork, way := dc.Min.X+width*.27, dc.Min.X+width*.52
	top := dc.Max.Y - 12
	put(dc, bold(smallSize), dc.Min.X, top, "HOST")
	put(dc, bold(smallSize), fork, top, "LOCAL SUBNET")
	put(dc, faint(smallSize), fork+bold(smallSize).Width("LOCAL SUBNET")+8, top, l.Segment)
	put(dc, bold(smallSize), way, top, "BEYOND")
	line(dc, stroke(hair, .6), dc.Min.X, top-6, dc.Max.X, top-6)
	y := top - 6 - branchHeight*.8
	x := dc.Min.X
	for i, s := range l.Host {
		if i > 0 {
			tie(dc, s.State, x+5, x+27, y)
			x += 32
		}
		x = l.station(dc, s, x, y)
	}
	trunk := y
	if len(l.Local) == 0 {
		return
	}
	tie(dc, l.Local[0].State, x+5, fork-6, y)
	for i, s := range l.Local {
		at := trunk - branchHeight*vg.Length(i)
		if i > 0 {
			line(dc, stroke(ink, 1), fork-2, at+branchHeight, fork-2, at)
		}
		tie(dc, s.State, fork, fork+20, at)
		end := l.station(dc, s, fork+26, at)
		if i == len(l.Local)-1 {
			l.beyond(dc, end+6, way, at)
		}
	}
}

// beyond goes on from the gateway: the name servers branch off, and the way to the target comes last.
func (l Line) beyond(dc vgdraw.Canvas, from, way, y vg.Length) {
	state := verdict.StateUnknown
	if len(l.Beyond) > 0 {
		state = l.Beyond[0].State
	}
	for _, n := range l.Names {
		if n.State == verdict.Holds {
			state = verdict.Holds
		}
	}
	if len(l.Beyond)+len(l.Names) == 0 {
		return
	}
	tie(dc, state, from, max(way-6, from+20), y)
	x := max(way, from+26)
	for i, n := range l.Names {
		at := y - branchHeight*vg.Length(i+1)
		line(dc, stroke(ink, 1), x-3, y, x-3, at)
		tie(dc, n.State, x-3, x+17, at)
		l.station(dc, n, x+23, at)
	}
	for i, s := range l.Beyond {
		if i > 0 {
			tie(dc, s.State, x+4, x+22, y)
			x += 28
		}
		x = l.station(dc, s, x, y)
	}
}

// Words is a paragraph.
type Words struct {
	Head string
	Text string
}

func (w Words) lines(width vg.Length) []string { return wrap(plain(textSize), w.Text, width) }

// Height implements Figure.
func (w Words) Height(width vg.Length) vg.Length {
	h := lineHeight * vg.Length(len(w.lines(width)))
	if w.Head != "" {
		h += lineHeight * 1.2
	}
	return h
}

// Draw implements Figure.
func (w Words) Draw(dc vgdraw.Canvas) {
	y := dc.Max.Y
	if w.Head != "" {
		y -= lineHeight
		put(dc, bold(textSize+1), dc.Min.X, y, w.Head)
		y -= lineHeight * .2
	}
	for _, l := range w.lines(dc.Max.X - dc.Min.X) {
		y -= lineHeight
		put(dc, plain(textSize), dc.Min.X, y, l)
	}
}
