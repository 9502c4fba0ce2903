package tui

import (
	"fmt"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"passepartout/internal/core/series"
	"passepartout/internal/core/verdict"
)

// lane is the part of the time axis that is shown, and how wide.
type lane struct {
	from, to time.Duration
	width    int // columns
}

// column gives the column of a place on the axis; false outside.
func (l lane) column(at time.Duration) (int, bool) {
	if at < l.from || at >= l.to || l.to <= l.from {
		return 0, false
	}
	return int(float64(at-l.from) / float64(l.to-l.from) * float64(l.width)), true
}

// place gives the beginning of a column.
func (l lane) place(column int) time.Duration {
	return l.from + time.Duration(float64(column)/float64(l.width)*float64(l.to-l.from))
}

// dots are the Braille patterns' bits: for each half of a cell four heights, the lowest first.
var dots = [2][4]rune{{0x40, 0x04, 0x02, 0x01}, {0x80, 0x20, 0x10, 0x08}}

// times draws round trips by position, in so many rows: the higher, the longer, up to top. Each half column has a dot for every height that
// a reply in it had.
func (l lane) times(points []series.Point, top time.Duration, rows int) []string {
	cells := make([][]rune, rows) // the highest first
	for i := range cells {
		cells[i] = make([]rune, l.width)
	}
	heights := 4 * rows
	for _, p := range points {
		if p.Fate != series.Replied {
			continue
		}
		fine := lane{l.from, l.to, 2 * l.width}
		half, ok := fine.column(p.At)
		if !ok {
			continue
		}
		height := min(int(float64(p.RTT)/float64(max(top, 1))*float64(heights)), heights-1)
		cells[rows-1-height/4][half/2] |= dots[half%2][height%4]
	}
	out := make([]string, rows)
	for i, row := range cells {
		var b strings.Builder
		for _, c := range row {
			if c == 0 {
				b.WriteByte(' ')
			} else {
				b.WriteRune(0x2800 + c)
			}
		}
		out[i] = b.String()
	}
	return out
}

// loss is one column of a lane of losses.
type loss struct {
	shape string
	state verdict.State
}

// marksOf are the shapes of what is no plain reply; they stand in the help as well.
var marksOf = map[series.Fate]loss{
	series.Late: {"◦", verdict.Strained}, series.Unreachable: {"▣", verdict.Broken}, series.NotSent: {"▽", verdict.Broken},
	series.Silent: {"┼", verdict.Broken},
}

const again = "∷" // more than one answer

// losses draws what did not come back: a run of losses as one bracket with its length, a late answer, an unreachable, a duplicate by their
// shapes.
func (l lane) losses(points []series.Point) (cells []loss, any bool) {
	cells = make([]loss, l.width)
	put := func(column int, m loss) {
		if column >= 0 && column < l.width {
			cells[column], any = m, true
		}
	}
	run, first, last, plain := 0, 0, 0, true
	flush := func() {
		if run > 0 && plain {
			for i, r := range bracket(run, last-first+1) {
				put(first+i, loss{string(r), verdict.Broken})
			}
		}
		run, plain = 0, true
	}
	for _, p := range points {
		column, ok := l.column(p.At)
		if !ok {
			continue
		}
		switch p.Fate {
		case series.Replied:
			flush()
			if p.Again > 0 {
				put(column, loss{again, verdict.Strained})
			}
		case series.Silent:
			if run == 0 {
				first = column
			}
			run++
			last = column
		case series.Late, series.Unreachable, series.NotSent:
			flush()
			put(column, marksOf[p.Fate])
		}
	}
	flush()
	return cells, any
}

// bracket writes the length of a run in so many columns.
func bracket(n, width int) []rune {
	number := []rune(fmt.Sprint(n))
	switch {
	case width >= len(number)+2:
		left := (width - 2 - len(number)) / 2
		out := append([]rune("├"), []rune(strings.Repeat("─", left))...)
		out = append(out, number...)
		return append(out, []rune(strings.Repeat("─", width-2-left-len(number))+"┤")...)
	case width >= len(number):
		return append([]rune(strings.Repeat("├", width-len(number))), number...)
	default:
		return []rune(strings.Repeat("┼", width))
	}
}

// axis writes times of day along a lane, as many as have room.
func (l lane) axis(clock func(time.Duration) time.Time) string {
	steps := []time.Duration{5 * time.Second, 10 * time.Second, 15 * time.Second, 30 * time.Second, time.Minute, 2 * time.Minute,
		5 * time.Minute, 10 * time.Minute, 15 * time.Minute, 30 * time.Minute, time.Hour, 2 * time.Hour, 4 * time.Hour, 6 * time.Hour,
		12 * time.Hour}
	step, form := steps[len(steps)-1], "15:04"
	for _, s := range steps {
		if float64(s)/float64(l.to-l.from)*float64(l.width) >= 14 {
			step = s
			break
		}
	}
	if step < time.Minute {
		form = "15:04:05"
	}
	r := &row{}
	first := clock(l.from).Truncate(step)
	for at := first; ; at = at.Add(step) {
		place := l.from + at.Sub(clock(l.from))
		if place >= l.to {
			break
		}
		column, ok := l.column(place)
		words := at.Format(form)
		if !ok || column < r.width || column+len(words) > l.width-4 {
			continue
		}
		r.at(column)
		r.b.WriteString(words)
		r.width += ansi.StringWidth(words)
	}
	r.at(l.width - 3)
	r.b.WriteString("now")
	return r.b.String()
}
