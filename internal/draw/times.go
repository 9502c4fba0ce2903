package draw

import (
	"fmt"
	"math"
	"strconv"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	vgdraw "gonum.org/v1/plot/vg/draw"

	"passepartout/internal/core/series"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

// Lane is one target's probes.
type Lane struct {
	Name   string
	Zone   zone.Zone
	Note   string // typical time, loss
	Points []series.Point
}

// Band is a time for which a zone was to blame. An unknown one has NoZone.
type Band struct {
	From, To time.Duration
	Zone     zone.Zone
}

// Times is round trips over time, a lane for each target, with whose loss it was under them.
type Times struct {
	Start    time.Time
	From, To time.Duration // what is shown, on the axis that begins at Start
	Lanes    []Lane
	Bands    []Band
	Blame    bool // there are witnesses, so that the bands mean something
}

const (
	laneHeight = 2.9 * vg.Centimeter
	bandHeight = 0.8 * vg.Centimeter
	noteWidth  = 3.6 * vg.Centimeter
	axisWidth  = 1.6 * vg.Centimeter
	keyHeight  = 0.7 * vg.Centimeter
	// clockHeight is that of the times of day under the lanes.
	clockHeight = 0.4 * vg.Centimeter
)

// Height implements Figure.
func (t Times) Height(vg.Length) vg.Length {
	h := laneHeight*vg.Length(len(t.Lanes)) + clockHeight + keyHeight
	if t.Blame {
		h += bandHeight
	}
	return h
}

// mark draws one probe. What became of it is told by shape: a dot, a hollow dot for late, a cross for no answer, a barred square for
// unreachable.
func mark(dc vgdraw.Canvas, x, y vg.Length, fate series.Fate, again bool) {
	const r = 1.6 * vg.Length(1)
	ring := func(x, y, r vg.Length) vg.Path {
		var p vg.Path
		p.Move(vg.Point{X: x + r, Y: y})
		p.Arc(vg.Point{X: x, Y: y}, r, 0, 2*math.Pi)
		p.Close()
		return p
	}
	switch fate {
	case series.Replied:
		dc.SetColor(sea)
		dc.Fill(ring(x, y, r*.8))
		if again {
			dc.SetLineStyle(stroke(amber, .7))
			dc.Stroke(ring(x, y, r*1.6))
		}
	case series.Late:
		dc.SetLineStyle(stroke(amber, .9))
		dc.Stroke(ring(x, y, r*1.2))
	case series.Silent:
		cross(dc, stroke(coral, 1), x, y, r*1.2)
	case series.Unreachable:
		box(dc, coral, x-r, y-r, x+r, y+r)
		line(dc, stroke(paper, .8), x-r, y, x+r, y)
	case series.NotSent:
		line(dc, stroke(ink, 1), x-r, y, x+r, y)
	}
}

// Draw implements Figure.
func (t Times) Draw(dc vgdraw.Canvas) {
	x := func(at time.Duration) vg.Length {
		share := float64(at-t.From) / float64(max(t.To-t.From, 1))
		return dc.Min.X + axisWidth + vg.Length(share)*(dc.Max.X-dc.Min.X-axisWidth-noteWidth)
	}
	top := dc.Max.Y
	bottom := top - laneHeight*vg.Length(len(t.Lanes))
	if t.Blame {
		bottom -= clockHeight + bandHeight
	}
	for _, b := range t.Bands { // behind the lanes, faintly, and named below
		box(dc, tint(b.Zone), x(max(b.From, t.From)), bottom, x(min(b.To, t.To)), top)
	}
	for _, l := range t.Lanes {
		part := dc
		part.Max.Y, part.Min.Y = top, top-laneHeight
		t.lane(part, l, x)
		top -= laneHeight
	}
	for _, at := range timeTicks(t.From, t.To) {
		words := wording.Clock(t.Start.Add(at))
		if place := x(at) - plain(smallSize).Width(words)/2; place > dc.Min.X+axisWidth-20 {
			put(dc, faint(smallSize), place, top-clockHeight+4, words)
		}
	}
	top -= clockHeight
	if t.Blame {
		t.bands(dc, top, x)
		top -= bandHeight
	}
	key := dc.Min.X + axisWidth
	for _, k := range []struct {
		fate series.Fate
		word string
	}{{series.Replied, "reply"}, {series.Late, "late"}, {series.Silent, "no answer"}, {series.Unreachable, "unreachable"},
		{series.NotSent, "not sent"}} {
		mark(dc, key+3, top-keyHeight*.6, k.fate, false)
		put(dc, faint(smallSize), key+9, top-keyHeight*.6-3, k.word)
		key += 2.6 * vg.Centimeter
	}
}

// tint is a zone's colour, thinned to be written over.
func tint(z zone.Zone) nrgba {
	c := map[zone.Zone]nrgba{zone.Host: rgb(0xe8dcc4), zone.LocalSubnet: rgb(0xf3d9d3), zone.Beyond: rgb(0xd5e3ea)}
	if out, ok := c[z]; ok {
		return out
	}
	return rgb(0xeeeeee)
}

func (t Times) lane(dc vgdraw.Canvas, l Lane, x func(time.Duration) vg.Length) {
	most := time.Millisecond / 10
	for _, p := range l.Points {
		if p.Fate == series.Replied || p.Fate == series.Late {
			most = max(most, p.RTT)
		}
	}
	lost := dc.Min.Y + 12 // the lane of losses
	base, roof := lost+8, dc.Max.Y-14
	ticks := plot.DefaultTicks{}.Ticks(0, most.Seconds()*1000)
	y := func(rtt time.Duration) vg.Length {
		return base + vg.Length(float64(rtt)/float64(most))*(roof-base)
	}
	for _, tick := range ticks {
		if tick.Label == "" {
			continue
		}
		at := y(time.Duration(tick.Value * float64(time.Millisecond)))
		line(dc, stroke(hair, .4), x(t.From), at, x(t.To), at)
		right(dc, faint(smallSize), x(t.From)-4, at-3, strconv.FormatFloat(tick.Value, 'g', 4, 64))
	}
	put(dc, faint(smallSize), dc.Min.X, roof-3, "ms")
	line(dc, stroke(slate, .6), x(t.From), lost-6, x(t.To), lost-6)
	for _, at := range timeTicks(t.From, t.To) {
		line(dc, stroke(slate, .6), x(at), lost-6, x(at), lost-9)
	}
	for _, p := range l.Points {
		switch p.Fate {
		case series.Replied, series.Late:
			mark(dc, x(p.At), y(p.RTT), p.Fate, p.Again > 0)
		case series.Silent, series.Unreachable, series.NotSent:
			mark(dc, x(p.At), lost, p.Fate, false)
		}
	}
	put(dc, bold(textSize), x(t.From)+2, dc.Max.Y-9, cut(bold(textSize), l.Name, 8*vg.Centimeter)+"   ")
	if l.Zone != zone.Unknown {
		put(dc, faint(smallSize), x(t.From)+8+bold(textSize).Width(cut(bold(textSize), l.Name, 8*vg.Centimeter)), dc.Max.Y-9,
			zoneName(l.Zone))
	}
	for i, words := range wrap(plain(smallSize), l.Note, noteWidth-10) {
		put(dc, plain(smallSize), x(t.To)+8, dc.Max.Y-22-vg.Length(i)*11, words)
	}
}

// bands names whose loss it was.
func (t Times) bands(dc vgdraw.Canvas, top vg.Length, x func(time.Duration) vg.Length) {
	put(dc, faint(smallSize), dc.Min.X, top-10, "whose loss")
	free := dc.Min.X
	for _, b := range t.Bands {
		from, to := x(max(b.From, t.From)), x(min(b.To, t.To))
		if to <= from {
			continue
		}
		line(dc, stroke(ink, 2, zoneDash[b.Zone]...), from, top-4, to, top-4)
		if from >= free {
			put(dc, plain(smallSize), from, top-14, zoneName(b.Zone))
			free = from + plain(smallSize).Width(zoneName(b.Zone)) + 4
		}
	}
}

// zoneDash tells zones apart without colour.
var zoneDash = map[zone.Zone][]vg.Length{zone.Host: {1, 1.5}, zone.LocalSubnet: {5, 2}, zone.Beyond: nil, zone.Unknown: {1, 5}}

// timeTicks are round places on the axis, about eight of them.
func timeTicks(from, to time.Duration) (out []time.Duration) {
	steps := []time.Duration{time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second, 15 * time.Second, 30 * time.Second,
		time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 15 * time.Minute, 30 * time.Minute, time.Hour, 2 * time.Hour,
		6 * time.Hour, 12 * time.Hour, 24 * time.Hour}
	step := steps[len(steps)-1]
	for _, s := range steps {
		if (to-from)/s <= 9 {
			step = s
			break
		}
	}
	for at := (from + step - 1) / step * step; at <= to; at += step {
		out = append(out, at)
	}
	return out
}

// Spread is the distribution of round trips: the share of replies (of all probes sent) that came within a time.
type Spread struct {
	Curves []Curve
}

// Curve is one target's round trips, sorted, and how many probes were sent: what is lost keeps the curve below one.
type Curve struct {
	Name string
	RTTs []time.Duration
	Sent int
}

const spreadHeight = 7 * vg.Centimeter

// Height implements Figure.
func (s Spread) Height(vg.Length) vg.Length { return spreadHeight }

// Draw implements Figure.
func (s Spread) Draw(dc vgdraw.Canvas) {
	p := plot.New()
	p.BackgroundColor = paper
	for _, st := range []*vgdraw.TextStyle{&p.Title.TextStyle, &p.X.Label.TextStyle, &p.Y.Label.TextStyle, &p.X.Tick.Label, &p.Y.Tick.Label,
		&p.Legend.TextStyle} {
		x, y, turned := st.XAlign, st.YAlign, st.Rotation
		*st = plain(smallSize)
		st.XAlign, st.YAlign, st.Rotation = x, y, turned
	}
	p.X.Label.Text, p.Y.Label.Text = "round trip, ms", "share of probes answered within"
	p.Y.Min, p.Y.Max = 0, 1
	dashes := [][]vg.Length{nil, {6, 2}, {2, 2}, {8, 2, 2, 2}, {1, 3}}
	colors := []nrgba{sea, coral, brass, slate, ink}
	drawn := 0
	low, high := math.Inf(1), 0.0
	for _, c := range s.Curves {
		if len(c.RTTs) == 0 {
			continue
		}
		xys := make(plotter.XYs, 0, 2*len(c.RTTs)+1)
		before := 0.0
		step := max(len(c.RTTs)/500, 1) // more points than a page can show are left out
		for i := 0; i < len(c.RTTs); i += step {
			i := min(i+step-1, len(c.RTTs)-1)
			ms := c.RTTs[i].Seconds() * 1000
			share := float64(i+1) / float64(max(c.Sent, len(c.RTTs)))
			xys = append(xys, plotter.XY{X: ms, Y: before}, plotter.XY{X: ms, Y: share})
			before = share
			low, high = min(low, ms), max(high, ms)
		}
		l, err := plotter.NewLine(xys)
		if err != nil {
			continue
		}
		l.LineStyle = stroke(colors[drawn%len(colors)], 1.2, dashes[drawn%len(dashes)]...)
		drawn++
		p.Add(l)
		p.Legend.Add(" "+clean(c.Name), l)
	}
	if drawn == 0 {
		put(dc, faint(textSize), dc.Min.X, dc.Max.Y-textSize, "No reply came, so that there is no distribution of round trips to show.")
		return
	}
	p.Legend.ThumbnailWidth = 1 * vg.Centimeter
	p.Legend.Top, p.Legend.Left = false, false
	p.Legend.YOffs = 8
	p.X.Min, p.X.Max = low, high
	if high/max(low, 1e-6) > 30 { // from a loopback to a far host: equal steps of a factor
		p.X.Scale, p.X.Tick.Marker = plot.LogScale{}, factorTicks{}
		p.X.Min, p.X.Max = max(low*.8, 1e-3), high*1.25
	} else if high-low < high/100 {
		p.X.Min, p.X.Max = low*.95, high*1.05
	}
	p.Draw(dc)
}

// factorTicks are 1, 2 and 5 of each power of ten.
type factorTicks struct{}

func (factorTicks) Ticks(low, high float64) (out []plot.Tick) {
	for e := math.Floor(math.Log10(low)); e <= math.Ceil(math.Log10(high)); e++ {
		for _, m := range []float64{1, 2, 5} {
			if v := m * math.Pow(10, e); v >= low && v <= high {
				out = append(out, plot.Tick{Value: v, Label: strconv.FormatFloat(v, 'g', 3, 64)})
			}
		}
	}
	return out
}

// Percent writes a share.
func Percent(part, whole int) string {
	if whole == 0 {
		return "none"
	}
	return fmt.Sprintf("%.3g %%", 100*float64(part)/float64(whole))
}
