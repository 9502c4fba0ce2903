package tui

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"github.com/charmbracelet/x/ansi"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/subnet"
	"passepartout/internal/core/topology"
	"passepartout/internal/core/verdict"
)

// mark is an address that is placed in, or outside of, a prefix.
type mark struct {
	addr  netip.Addr
	shape string
	what  string
	state verdict.State
}

// span draws one prefix.
func (m *model) span(a endpoint.Address, marks []mark) []string {
	t := m.theme
	p := a.Prefix
	head := &row{}
	head.at(2).put(t.text, p.String())
	if p.Addr().Is4() {
		head.put(t.faint,
			fmt.Sprintf("   mask %s   %s usable %s", subnet.Mask(p), count(subnet.Size(p)),
				map[bool]string{true: "address", false: "addresses"}[subnet.Size(p) == 1]))
	} else {
		head.put(t.faint, fmt.Sprintf("   %v", subnet.KindOf(p.Addr())))
	}
	head.put(t.faint, "   "+a.Origin.Words())
	if a.Limited {
		head.put(t.faint, fmt.Sprintf(", %.0f min left", a.Valid.Minutes()))
	}
	switch subnet.KindOf(p.Addr()) {
	case subnet.SelfAssigned:
		head.put(t.state[verdict.Broken], "   self-assigned")
	case subnet.LinkLocal:
		head.put(t.faint, "   this segment only")
		return []string{head.cut(m.width)}
	}
	inside := []mark{{p.Addr(), "●", "this machine", verdict.Holds}}
	var outside []mark
	for _, x := range marks {
		if x.addr.Is4() != p.Addr().Is4() {
			continue
		}
		if p.Masked().Contains(x.addr) {
			inside = append(inside, x)
		} else {
			outside = append(outside, x)
		}
	}
	lines := append(head.fold(m.width, 4), "")
	lines = append(lines, m.drawSpan(p, inside)...)
	for _, x := range outside {
		r := &row{}
		shape, style := x.shape, t.text
		if x.state == verdict.Strained {
			style = t.state[x.state]
		}
		if x.state == verdict.Broken {
			shape, style = "╳", t.state[verdict.Broken]
		}
		r.at(2).put(t.faint, "outside").at(12).put(style, fmt.Sprintf("%s %v %s", shape, x.addr, x.what))
		if slip, one := subnet.NetworkSlip(x.addr, p); one && x.state == verdict.Broken {
			r.put(t.state[verdict.Broken],
				fmt.Sprintf("   one octet away: the %s is %d, this subnet has %d", ordinal(slip.Octet), slip.From, slip.To))
		} else if x.state == verdict.Strained {
			r.put(t.state[verdict.Strained], "   on this segment by the offer, left out by the mask set here")
		} else if len(m.set.Endpoint.DefaultRoutes(x.addr.Is6())) == 0 {
			r.put(t.faint, "   no gateway is set to reach it by")
		} else if x.state != verdict.Broken {
			r.put(t.faint, "   reached through the gateway")
		}
		lines = append(lines, r.fold(m.width, 14)...)
	}
	return lines
}

func ordinal(n int) string {
	return [...]string{"", "first", "second", "third", "fourth"}[n]
}

func count(n float64) string {
	if n < 1e6 {
		return fmt.Sprintf("%.0f", n)
	}
	return fmt.Sprintf("%.1e", n)
}

// drawSpan draws the span and, under it, the labels, each under its mark, in as few rows as they fit in.
func (m *model) drawSpan(p netip.Prefix, inside []mark) []string {
	t := m.theme
	first, last := p.Masked().Addr().String(), subnet.Last(p).String()
	if p.Addr().Is4() {
		last = topology.Tail(subnet.Last(p))
	} else {
		last = "…" + last[max(0, len(last)-9):]
	}
	left := ansi.StringWidth(first) + 4
	width := m.width - left - ansi.StringWidth(last) - 6
	type placed struct {
		mark
		column int
	}
	var at []placed
	for _, x := range inside {
		pos, _ := subnet.Position(p, x.addr)
		at = append(at, placed{x, left + int(pos*float64(width-1)+0.5)})
	}
	slices.SortStableFunc(at, func(a, b placed) int { return cmp.Compare(number(a.addr), number(b.addr)) })
	for i := 1; i < len(at); i++ { // marks never hide each other
		if at[i].column <= at[i-1].column {
			at[i].column = at[i-1].column + 2
		}
	}
	bar := &row{}
	bar.at(2).put(t.faint, first+" ").put(t.text, "├")
	for _, x := range at {
		bar.fill(t.rule, "─", x.column).put(t.state[x.state], x.shape)
	}
	bar.fill(t.rule, "─", left+width).put(t.text, "┤").put(t.faint, " "+last)
	lines := []string{bar.cut(m.width)}
	if last := at[len(at)-1]; last.column+ansi.StringWidth(last.label())+1 > m.width {
		return append(lines, m.legend(inside)...) // too near the right end to stand under its mark
	}
	// From the right: a label goes under its mark, in the first row where it ends before the one to its right begins.
	type label struct {
		text   string
		column int
		row    int
	}
	var labels []label
	limit := []int{} // where each row is taken from
	for i := len(at) - 1; i >= 0; i-- {
		text, column := at[i].label(), at[i].column
		r := 0
		for r < len(limit) && column+ansi.StringWidth(text)+1 >= limit[r] {
			r++
		}
		if r == len(limit) {
			limit = append(limit, 0)
		}
		limit[r] = column
		for above := range r { // the row above must leave the column free for the stem
			limit[above] = min(limit[above], at[i].column)
		}
		labels = append(labels, label{text, column, r})
	}
	for r := range limit {
		line := &row{}
		for i := range at {
			l := labels[len(at)-1-i]
			switch {
			case l.row == r:
				line.at(l.column).put(t.text, l.text)
			case l.row > r:
				line.at(at[i].column).put(t.rule, "│")
			}
		}
		lines = append(lines, line.cut(m.width))
	}
	return lines
}

// label says what a mark is.
func (x mark) label() string { return topology.Tail(x.addr) + " " + x.what }

// legend names the marks in rows, in their order.
func (m *model) legend(marks []mark) (lines []string) {
	r := &row{}
	for _, x := range marks {
		text := x.shape + " " + x.label()
		if r.width > 0 && r.width+ansi.StringWidth(text)+3 > m.width {
			lines = append(lines, r.cut(m.width))
			r = &row{}
		}
		r.at(max(r.width+3, 12)).put(m.theme.text, text)
	}
	return append(lines, r.cut(m.width))
}

// number orders addresses of one family.
func number(a netip.Addr) string { return string(a.AsSlice()) }
