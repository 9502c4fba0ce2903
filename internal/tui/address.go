package tui

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/strand"
	"passepartout/internal/core/subnet"
	"passepartout/internal/core/verdict"
)

// mark is an address that is placed in, or outside of, a prefix.
type mark struct {
	addr  netip.Addr
	shape string
	what  string
	state verdict.State
}

// addressPage draws each prefix of the port as a span with the addresses that matter placed in it, and the routes under it.
func (m *model) addressPage() []string {
	t := m.theme
	lines := []string{m.title(), m.rule(), ""}
	if m.set == nil || m.set.Endpoint == nil {
		lines = append(lines, "  "+t.faint.Render("The machine's settings are being read."))
		return m.withFoot(lines)
	}
	i, ok := m.set.Endpoint.Interface(m.set.Interface)
	if !ok {
		lines = append(lines, "  "+t.faint.Render("This machine has no network port besides loopback, and so no address. Plug one in or load its driver; r looks again."))
		return m.withFoot(lines)
	}
	lines = append(lines, "  "+t.loud.Render(i.Name)+t.faint.Render("   "+describePort(*i)), "")
	marks := m.marks(i)
	if len(i.Addresses) == 0 {
		lines = append(lines, "  "+t.state[verdict.Broken].Render("No address.")+t.text.Render(" The gateway and the resolvers below cannot be used without one."), "")
	}
	for _, a := range i.Addresses {
		if subnet.KindOf(a.Prefix.Addr()) == subnet.LinkLocal && m.height < 36 {
			continue
		}
		lines = append(lines, m.span(a, marks)...)
		lines = append(lines, "")
	}
	lines = append(lines, m.compared(i)...)
	lines = append(lines, m.routeTable(m.height-len(lines)-3)...)
	return m.withFoot(lines)
}

func (m *model) withFoot(lines []string) []string {
	if len(lines) > m.height-2 {
		lines = lines[:m.height-3]
		lines = append(lines, m.theme.faint.Render("  … a taller window shows more"))
	}
	for len(lines) < m.height-2 {
		lines = append(lines, "")
	}
	return append(lines, m.rule(), m.foot())
}

func describePort(i endpoint.Interface) string {
	parts := []string{i.Kind.String()}
	switch {
	case !i.Up:
		parts = append(parts, "switched off")
	case i.Carrier == endpoint.CarrierAbsent:
		parts = append(parts, "no signal")
	case i.Carrier == endpoint.CarrierPresent:
		parts = append(parts, "signal")
	}
	if speed := verdict.Speed(i); speed != "" && i.Up {
		parts = append(parts, speed)
	}
	if !i.Hardware.IsZero() {
		parts = append(parts, i.Hardware.String())
	}
	return strings.Join(append(parts, fmt.Sprintf("MTU %d", i.MTU)), " · ")
}

// marks are the addresses that a technician compares: the machine's own, its gateways, its resolvers.
func (m *model) marks(i *endpoint.Interface) (out []mark) {
	e := m.set.Endpoint
	state := verdict.Holds
	for _, v6 := range []bool{false, true} {
		if gw, ok := e.Gateway(i.Name, v6); ok {
			state = verdict.Holds
			if !i.OnLink(gw) && !gw.IsLinkLocalUnicast() {
				state = verdict.Broken
			}
			out = append(out, mark{gw, "◆", "gateway", state})
		}
	}
	if d := m.set.Discovery; d != nil && len(e.DefaultRoutes(false)) == 0 {
		for _, o := range d.Offers {
			for _, r := range o.Routers {
				out = append(out, mark{r, "◇", fmt.Sprintf("gateway, offered by %v, not set", o.Server), verdict.Strained})
			}
		}
	}
	for _, a := range e.AskedResolvers() {
		if k := slices.IndexFunc(out, func(x mark) bool { return x.addr == a }); k >= 0 {
			out[k].what += ", resolver"
			continue
		}
		out = append(out, mark{a, "■", "resolver", verdict.StateUnknown})
	}
	return out
}

// span draws one prefix.
func (m *model) span(a endpoint.Address, marks []mark) []string {
	t := m.theme
	p := a.Prefix
	head := &row{}
	head.at(2).put(t.text, p.String())
	if p.Addr().Is4() {
		head.put(t.faint, fmt.Sprintf("   mask %s   %s usable %s", subnet.Mask(p), count(subnet.Size(p)), map[bool]string{true: "address", false: "addresses"}[subnet.Size(p) == 1]))
	} else {
		head.put(t.faint, fmt.Sprintf("   %v, a prefix of %s addresses", subnet.KindOf(p.Addr()), count(subnet.Size(p))))
	}
	head.put(t.faint, "   set "+a.Origin.String())
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
	lines := []string{head.cut(m.width), ""}
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
		if slip, one := slipOf(x.addr, p); one && x.state == verdict.Broken {
			r.put(t.state[verdict.Broken], fmt.Sprintf("   one octet away: the %s is %d, this subnet has %d", ordinal(slip.Octet), slip.From, slip.To))
		} else if x.state == verdict.Strained {
			r.put(t.state[verdict.Strained], "   on this segment by the offer, left out by the mask set here")
		} else if len(m.set.Endpoint.DefaultRoutes(x.addr.Is6())) == 0 {
			r.put(t.faint, "   no gateway is set to reach it by")
		} else if x.state != verdict.Broken {
			r.put(t.faint, "   reached through the gateway")
		}
		lines = append(lines, r.cut(m.width))
	}
	return lines
}

func ordinal(n int) string {
	return [...]string{"", "first", "second", "third", "fourth"}[n]
}

// slipOf tells whether the network part of an address differs from the prefix in one octet.
func slipOf(a netip.Addr, p netip.Prefix) (subnet.Slip, bool) {
	network, err := a.Prefix(p.Bits())
	if err != nil {
		return subnet.Slip{}, false
	}
	return subnet.OneOctetApart(network.Addr(), p.Masked().Addr())
}

func count(n float64) string {
	if n < 1e6 {
		return fmt.Sprintf("%.0f", n)
	}
	return fmt.Sprintf("%.1e", n)
}

// compared puts what is set beside what DHCP offers now, and marks where the two part.
func (m *model) compared(i *endpoint.Interface) []string {
	t := m.theme
	d := m.set.Discovery
	if d == nil || len(d.Offers) == 0 {
		why := "no DHCP server has offered anything to compare with"
		if m.set.IsWithheld(evidence.DHCPOffer) {
			why = "what DHCP would offer could not be asked: it needs permission to send raw frames"
		}
		return []string{"  " + t.faint.Render(why), ""}
	}
	o := d.Offers[0]
	var own []netip.Addr
	mask := "none"
	for _, a := range i.Addresses {
		if a.Prefix.Addr().Is4() {
			own = append(own, a.Prefix.Addr())
			mask = subnet.Mask(a.Prefix)
		}
	}
	var gateway []netip.Addr
	if gw, ok := m.set.Endpoint.Gateway(i.Name, false); ok {
		gateway = append(gateway, gw)
	}
	const here = 16
	there := min(here+(m.width-here-11)/2, 50)
	sign := min(2*there-here, m.width-11)
	head := &row{}
	head.at(2).put(t.loud, "Set here").at(here).put(t.faint, "this machine").at(there).put(t.faint, fmt.Sprintf("offered now by %v", o.Server))
	lines := []string{head.cut(m.width)}
	for _, x := range []struct{ what, here, there string }{
		{"address", listOrNone(own), o.Address.Addr().String()},
		{"mask", mask, subnet.Mask(o.Address)},
		{"gateway", listOrNone(gateway), listOrNone(o.Routers)},
		{"name servers", listOrNone(m.set.Endpoint.AskedResolvers()), listOrNone(o.Resolvers)},
	} {
		r := &row{}
		style := t.text
		if x.here != x.there {
			style = t.state[verdict.Strained]
		}
		r.at(2).put(t.faint, x.what).at(here).put(style, fit(x.here, there-here-1)).at(there).put(style, fit(x.there, sign-there-1))
		if x.here != x.there {
			r.at(sign).put(style, "╍╍ differs")
		}
		lines = append(lines, r.cut(m.width))
	}
	return append(lines, "")
}

func listOrNone(addrs []netip.Addr) string {
	if len(addrs) == 0 {
		return "none"
	}
	return fault.List(addrs)
}

// drawSpan draws the span and, under it, the labels, each under its mark, in as few rows as they fit in.
func (m *model) drawSpan(p netip.Prefix, inside []mark) []string {
	t := m.theme
	first, last := p.Masked().Addr().String(), subnet.Last(p).String()
	if p.Addr().Is4() {
		last = strand.Tail(subnet.Last(p))
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
func (x mark) label() string { return strand.Tail(x.addr) + " " + x.what }

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

// routeTable lists the routes of both families and the system's own answer for the target.
func (m *model) routeTable(room int) []string {
	t := m.theme
	lines := []string{"  " + t.loud.Render("How this machine would reach")}
	answers := slices.Clone(m.set.Routes)
	slices.SortFunc(answers, func(a, b endpoint.RouteAnswer) int { return a.To.Compare(b.To) })
	for _, a := range answers {
		r := &row{}
		r.at(4).put(t.text, a.To.String()).at(32)
		switch {
		case a.Verdict == endpoint.LocalRoute:
			r.put(t.text, "itself")
		case a.Verdict != endpoint.Forward:
			r.put(t.state[verdict.Broken], a.Verdict.String())
		case a.Via.IsValid():
			r.put(t.text, fmt.Sprintf("by %v through %s, as %v", a.Via, a.Interface, a.Source))
		default:
			r.put(t.text, fmt.Sprintf("directly on %s, as %v", a.Interface, a.Source))
		}
		lines = append(lines, r.cut(m.width))
	}
	if len(answers) == 0 {
		lines = append(lines, "    "+t.faint.Render("the target: its address is not known"))
	}
	lines = append(lines, "", "  "+t.loud.Render("Routes in force"))
	routes := slices.Clone(m.set.Endpoint.Routes)
	slices.SortStableFunc(routes, func(a, b endpoint.Route) int {
		return cmp.Or(boolOrder(a.To.Addr().Is6(), b.To.Addr().Is6()), cmp.Compare(a.To.Bits(), b.To.Bits()), cmp.Compare(a.Metric, b.Metric))
	})
	if len(routes) == 0 {
		lines = append(lines, "    "+t.faint.Render("none: a port that is off, or without an address, has no routes"))
	}
	for i, x := range routes {
		if len(lines) >= room-1 && i < len(routes)-1 {
			lines = append(lines, "    "+t.faint.Render(fmt.Sprintf("… %d more; a taller window shows them", len(routes)-i)))
			break
		}
		r := &row{}
		to := x.To.String()
		if x.IsDefault() {
			to = "everything else, IPv4"
			if x.To.Addr().Is6() {
				to = "everything else, IPv6"
			}
		}
		r.at(4).put(t.text, to).at(32)
		switch {
		case x.Verdict != endpoint.Forward:
			r.put(t.state[verdict.Broken], x.Verdict.String())
		case x.Via.IsValid():
			r.put(t.text, fmt.Sprintf("by %v through %s", x.Via, x.Interface))
		default:
			r.put(t.text, "directly on "+x.Interface)
		}
		r.put(t.faint, "   set "+x.Origin.String())
		if x.Metric != 0 {
			r.put(t.faint, fmt.Sprintf(", metric %d", x.Metric))
		}
		lines = append(lines, r.cut(m.width))
	}
	return lines
}

func boolOrder(a, b bool) int {
	switch {
	case a == b:
		return 0
	case b:
		return -1
	}
	return 1
}

func repeat(s string, n int) string { return strings.Repeat(s, max(n, 0)) }
