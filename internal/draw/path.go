package draw

import (
	"fmt"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/vg"
	vgdraw "gonum.org/v1/plot/vg/draw"
)

// Stop is one station as drawn.
type Stop struct {
	HopLimit             int
	Name, Address        string
	Segment              string // in words
	Low, Median, High    time.Duration
	Answers              bool
	Sent, Received       int
	Remark               string
	Bad                  bool // the remark is no harmless one
	Destination, Refuses bool
}

// Path is the way to a target: the ruler of round trips with the stations on it, and under it each station in its stretch.
type Path struct {
	Stops   []Stop
	Reached bool
	Ending  string // what to say where it ends early
}

const (
	rulerHeight = 2.6 * vg.Centimeter
	stopHeight  = 0.72 * vg.Centimeter
	// remarkHeight is that of the line under a station about which something is to be said.
	remarkHeight = 0.42 * vg.Centimeter
)

// Height implements Figure.
func (p Path) Height(vg.Length) vg.Length {
	h := rulerHeight + stopHeight*vg.Length(len(p.Stops))
	for _, s := range p.Stops {
		if s.Remark != "" {
			h += remarkHeight
		}
	}
	if !p.Reached {
		h += stopHeight
	}
	return h
}

// Draw implements Figure.
func (p Path) Draw(dc vgdraw.Canvas) {
	if len(p.Stops) == 0 {
		put(dc, plain(textSize), dc.Min.X, dc.Max.Y-textSize, "Nothing answered on the way, so that there is no path to show.")
		return
	}
	most := time.Millisecond / 10
	for _, s := range p.Stops {
		most = max(most, s.High)
	}
	label, ruler := dc.Min.X+13.4*vg.Centimeter, 8.2*vg.Centimeter
	x := func(d time.Duration) vg.Length { return label + vg.Length(float64(d)/float64(most))*ruler }
	y := dc.Max.Y - rulerHeight + 18
	line(dc, stroke(ink, 1), x(0), y, x(most), y)
	for _, tick := range (plot.DefaultTicks{}).Ticks(0, most.Seconds()*1000) {
		at := x(time.Duration(tick.Value * float64(time.Millisecond)))
		if at > x(most)+1 {
			continue
		}
		line(dc, stroke(ink, .7), at, y, at, y+4)
		if tick.Label != "" {
			s := faint(smallSize)
			put(dc, s, at-s.Width(tick.Label)/2, y+7, tick.Label)
		}
	}
	put(dc, faint(smallSize), x(0), y+20, "round trip, ms: bar from quickest to slowest, tick at the median")
	bottom := y
	segment := ""
	for _, s := range p.Stops {
		y -= stopHeight
		if s.Segment != segment {
			segment = s.Segment
			line(dc, stroke(hair, .5), dc.Min.X, y+stopHeight-6, dc.Max.X, y+stopHeight-6)
			put(dc, bold(smallSize), dc.Min.X, y, cut(bold(smallSize), segment, 3.1*vg.Centimeter))
		}
		p.stop(dc, s, x, y, bottom)
		if s.Remark != "" {
			y -= remarkHeight
		}
	}
	if !p.Reached {
		y -= stopHeight
		at := dc.Min.X + 3.4*vg.Centimeter
		line(dc, stroke(coral, 2.4), at-1, y+stopHeight-2, at-1, y+8)
		cross(dc, stroke(coral, 1.8), at-1, y+4, 4)
		put(dc, bold(textSize), at+14, y, p.Ending)
	}
}

// stop draws a station: its place on the strand at the left, its times on the ruler, what matters at the right.
func (p Path) stop(dc vgdraw.Canvas, s Stop, x func(time.Duration) vg.Length, y, bottom vg.Length) {
	strand := dc.Min.X + 3.4*vg.Centimeter
	middle := y + 3
	switch {
	case !s.Answers:
		line(dc, stroke(slate, 1.4, 1.5, 2.5), strand, middle-8, strand, middle+14)
	default:
		line(dc, stroke(sea, 2.4), strand, middle-8, strand, middle+14)
		box(dc, ink, strand-2.5, middle-2.5, strand+2.5, middle+2.5)
	}
	if s.Bad {
		cross(dc, stroke(coral, 1.6), strand, middle, 4)
	}
	what := fmt.Sprintf("%d", s.HopLimit)
	right(dc, faint(smallSize), strand-9, y, what)
	name, address := s.Name, s.Address
	switch {
	case !s.Answers:
		name = "keeps silent"
	case name == "":
		name, address = address, ""
	}
	put(dc, plain(textSize), strand+12, y, cut(plain(textSize), name, 6*vg.Centimeter))
	put(dc, faint(smallSize), strand+12+6.2*vg.Centimeter, y, address)
	if s.Answers {
		line(dc, stroke(hair, .4, 1, 2), x(s.Median), middle, x(s.Median), bottom)
		line(dc, stroke(sea, 3), x(s.Low), middle, max(x(s.High), x(s.Low)+1), middle)
		line(dc, stroke(ink, 1.2), x(s.Median), middle-4, x(s.Median), middle+4)
	}
	note := ""
	if s.Answers {
		note = fmt.Sprintf("%.3g ms", s.Median.Seconds()*1000)
		if s.Sent > 1 && s.Received < s.Sent {
			note += fmt.Sprintf(", %d of %d answers", s.Received, s.Sent)
		}
	}
	at := x(0) + 8.5*vg.Centimeter
	put(dc, plain(smallSize), at, y, note)
	remark := faint(smallSize)
	if s.Bad {
		remark = bold(smallSize)
	}
	if s.Remark != "" {
		if s.Answers {
			line(dc, stroke(sea, 2.4), strand, middle-8, strand, middle-10-remarkHeight+8)
		}
		put(dc, remark, strand+12, y-remarkHeight, cut(remark, s.Remark, dc.Max.X-strand-12))
	}
}
