package draw

import (
	"fmt"
	"time"

	"gonum.org/v1/plot/vg"
	vgdraw "gonum.org/v1/plot/vg/draw"

	"passepartout/internal/core/dhcp"
)

// Span is the life of a lease: a bar from its beginning to its end, with T1, T2 and now marked on it.
type Span struct {
	From, T1, T2, To, Now time.Time
}

// Height implements Figure.
func (s Span) Height(vg.Length) vg.Length { return 1.7 * vg.Centimeter }

// Draw implements Figure. What is past is solid, what is to come thin, what lies beyond the end crossed.
func (s Span) Draw(dc vgdraw.Canvas) {
	end := s.To
	if s.Now.After(end) {
		end = s.Now
	}
	width := dc.Max.X - dc.Min.X
	at := func(t time.Time) vg.Length {
		share := float64(t.Sub(s.From)) / float64(max(end.Sub(s.From), 1))
		return dc.Min.X + width*vg.Length(min(max(share, 0), 1))
	}
	y := dc.Max.Y - 22
	line(dc, stroke(slate, 1, 1.5, 3), at(s.From), y, at(end), y)
	past := s.Now
	if past.After(s.To) {
		past = s.To
	}
	line(dc, stroke(sea, 3), at(s.From), y, at(past), y)
	if s.Now.After(s.To) {
		line(dc, stroke(coral, 3, 4, 3), at(s.To), y, at(s.Now), y)
	}
	mark := func(t time.Time, name string, above bool) {
		if t.IsZero() {
			return
		}
		x := at(t)
		line(dc, stroke(ink, .8), x, y-5, x, y+5)
		words := fmt.Sprintf("%s %s", name, t.Local().Format("2 Jan 15:04:05"))
		st := faint(smallSize)
		left := min(x, dc.Max.X-st.Width(words))
		if above {
			put(dc, bold(smallSize), left, y+9, words)
		} else {
			put(dc, st, left, y-15, words)
		}
	}
	mark(s.From, "obtained", false)
	mark(s.T1, "T1", false)
	if s.To.Sub(s.T2) > s.To.Sub(s.From)/16 {
		mark(s.T2, "T2", true)
	}
	mark(s.To, "ends", false)
	mark(s.Now, "now", true)
}

// Ladder is a DHCP exchange between its parties, a rung a message.
type Ladder struct {
	dhcp.Ladder
	Names []string // of the parties
}

const rungHeight = 0.62 * vg.Centimeter

// Height implements Figure.
func (l Ladder) Height(vg.Length) vg.Length {
	return 1.1*vg.Centimeter + rungHeight*vg.Length(len(l.Rungs))
}

// Draw implements Figure.
func (l Ladder) Draw(dc vgdraw.Canvas) {
	const times = 4.2 * vg.Centimeter
	width := (dc.Max.X - dc.Min.X - times) * .55
	post := func(i int) vg.Length {
		if i < 0 || len(l.Parties) < 2 {
			i = len(l.Parties) - 1
		}
		return dc.Min.X + times + width*vg.Length(i)/vg.Length(max(len(l.Parties)-1, 1))
	}
	top := dc.Max.Y - 12
	for i, name := range l.Names {
		st := bold(smallSize)
		x := post(i) - st.Width(clean(name))/2
		put(dc, st, max(x, dc.Min.X), top, name)
		line(dc, stroke(hair, .8), post(i), top-6, post(i), top-6-rungHeight*vg.Length(len(l.Rungs)))
	}
	y := top - 6 - rungHeight*.6
	for i, r := range l.Rungs {
		at := r.Step.At.Local().Format("15:04:05.000")
		if i > 0 {
			at = fmt.Sprintf("+%.1f ms", float64(r.After.Microseconds())/1000)
		}
		right(dc, faint(smallSize), dc.Min.X+times-14, y-3, at)
		a, b := post(r.From), post(r.To)
		weight := vg.Length(1.6)
		s := stroke(ink, weight)
		if r.Step.Copy {
			s = stroke(slate, 1, 3, 2)
		}
		line(dc, s, a, y, b, y)
		head := vg.Length(5)
		if b < a {
			head = -head
		}
		dc.FillPolygon(s.Color, []vg.Point{{X: b, Y: y}, {X: b - head, Y: y + 2.6}, {X: b - head, Y: y - 2.6}})
		if r.All { // to everybody: a second head
			dc.FillPolygon(s.Color, []vg.Point{{X: b - head, Y: y}, {X: b - 2*head, Y: y + 2.6}, {X: b - 2*head, Y: y - 2.6}})
		}
		put(dc, plain(textSize), dc.Min.X+times+width+20, y-3, cut(plain(textSize), r.Words, dc.Max.X-dc.Min.X-times-width-20))
		y -= rungHeight
	}
}
