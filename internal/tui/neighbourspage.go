package tui

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"passepartout/internal/core/neighbours"
	"passepartout/internal/core/subnet"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wording"
	"passepartout/internal/oui"
	"passepartout/internal/probe/neighbourwatch"
	"passepartout/internal/report"
)

// neighboursPage shows the segment as a strip with its machines placed in it, and what is known of each.
func (m *model) neighboursPage() []string {
	t := m.theme
	lines := m.head()
	switch {
	case m.set == nil || m.set.Endpoint == nil:
		return append(lines, "", "  "+t.faint.Render("The machine's settings are being read."))
	case m.neighbours() == nil:
		return append(lines, "",
			"  "+t.faint.Render("This machine has no network interface besides loopback, and so no neighbours. Plug one in or load its "+
				"driver; r looks again."))
	}
	v := m.neighbours()
	p := m.segment().Picture
	if m.segment().watch == nil {
		return append(lines, "", "  "+t.faint.Render("The neighbour table is being read."))
	}
	shown := m.neighbourRows()
	if i := slices.IndexFunc(shown, func(r neighbours.Row) bool { return r.Address == v.chosen }); i >= 0 {
		v.selected = i
	}
	v.selected = min(max(v.selected, 0), max(len(shown)-1, 0))
	alive, wrong := 0, 0
	for _, r := range p.Rows {
		if r.Alive {
			alive++
		}
		if slices.ContainsFunc(r.Marks, neighbours.Mark.Wrong) {
			wrong++
		}
	}
	head := &row{}
	head.put(t.loud, "  Neighbours on "+v.iface)
	head.put(t.faint, fmt.Sprintf("   %d known, %d of them answered or spoke within a minute", len(p.Rows), alive))
	if wrong > 0 {
		head.put(t.state[verdict.Broken], fmt.Sprintf("   %s %d wrong", strands[verdict.Broken], wrong))
	}
	head.put(t.accent, m.onlyWords())
	lines = append(lines, head.cut(m.width))
	lines = append(lines, m.strip(p)...)
	lines = append(lines, m.cable(p)...)
	below := m.neighboursBelow(p)
	detail := m.neighbourDetail(shown)
	room := m.height - 2 - len(lines) - len(below) - len(detail) - 1
	lines = append(lines, m.neighbourTable(shown, max(room, 3))...)
	for len(lines) < m.height-2-len(below)-len(detail) {
		lines = append(lines, "")
	}
	return append(append(lines, detail...), below...)
}

// strip draws the segment from its first address to its last, and in each column what is there.
func (m *model) strip(p neighbourwatch.Picture) []string {
	t := m.theme
	_, prefix, ok := m.segment().watch.Size()
	if !ok {
		return []string{"  " + t.faint.Render("The interface has no IPv4 network that could be drawn as a strip."), ""}
	}
	first, last := prefix.Masked().Addr(), subnet.Last(prefix)
	left, right := tail(first, prefix), tail(last, prefix)
	width := m.width - 8 - len(left) - len(right)
	column := func(a netip.Addr) (int, bool) {
		x, in := subnet.Position(prefix, a)
		return min(int(x*float64(width)), width-1), in
	}
	type cell struct {
		shape string
		state verdict.State
		rank  int
	}
	cells := make([]cell, width)
	for i := range cells {
		cells[i] = cell{"─", verdict.StateUnknown, 0}
	}
	put := func(a netip.Addr, c cell) {
		if i, in := column(a); in && c.rank >= cells[i].rank {
			cells[i] = c
		}
	}
	if m.segment().watch.HasHome {
		for _, r := range m.segment().watch.Home.Ranges {
			from, in := column(r.From)
			to, inToo := column(r.To)
			for i := from; in && inToo && i <= to; i++ {
				cells[i] = cell{"╌", verdict.Skipped, 1}
			}
		}
	}
	for _, r := range p.Rows {
		c := cell{"○", verdict.StateUnknown, 2}
		switch {
		case slices.ContainsFunc(r.Marks, neighbours.Mark.Wrong):
			c = cell{"╳", verdict.Broken, 6}
		case slices.Contains(r.Marks, neighbours.IsGateway):
			c = cell{"◆", verdict.Holds, 4}
		case r.Alive:
			c = cell{"•", verdict.Holds, 3}
		case strings.HasSuffix(r.Words, "silent"):
			c = cell{"·", verdict.Strained, 3}
		}
		put(r.Address, c)
	}
	put(prefix.Addr(), cell{"●", verdict.Holds, 5})
	r := &row{}
	r.at(2).put(t.faint, left+" ├")
	for _, c := range cells {
		r.put(t.state[c.state], c.shape)
	}
	r.put(t.faint, "┤ "+right)
	under := &row{}
	if m.segment().watch.HasHome {
		for _, x := range m.segment().watch.Home.Ranges {
			if i, in := column(x.From); in && x.Use != "" {
				under.at(2+len(left)+2+i).put(t.faint, x.Use+" ")
			}
		}
	}
	return []string{"", r.cut(m.width), under.cut(m.width)}
}

// tail is the part of an address that differs within a prefix.
func tail(a netip.Addr, p netip.Prefix) string {
	parts := strings.Split(a.String(), ".")
	if len(parts) != 4 {
		return a.String()
	}
	return "." + strings.Join(parts[p.Bits()/8:], ".")
}

// cable says what the other end of the cable says of itself, beside what is documented.
func (m *model) cable(p neighbourwatch.Picture) []string {
	t, r := m.theme, &row{}
	home, documented := m.segment().watch.Home, m.segment().watch.HasHome
	r.at(2)
	switch {
	case m.recorded != nil:
		r.put(t.faint, "As the tests that began at "+wording.Clock(p.Began)+" found it.")
	case p.Switch != nil:
		r.put(t.text, "The cable leads to "+report.SwitchWords(*p.Switch)).put(t.faint, "   heard "+neighbours.Age(p.At.Sub(p.SwitchAt)))
		if documented &&
			(home.VLAN > 0 && p.Switch.VLAN > 0 && home.VLAN != p.Switch.VLAN || home.Switch != "" && p.Switch.Name != "" &&
				!strings.EqualFold(home.Switch, p.Switch.Name)) {
			r.put(t.state[verdict.Strained], fmt.Sprintf("   ╍╍ documented: %s VLAN %d", home.Switch, home.VLAN))
		}
	case p.Withheld != "":
		r.put(t.faint,
			"What is said on the segment cannot be heard: it "+p.Withheld+". The system's own table shows, and its own questions.")
	default:
		r.put(t.faint, "The switch has not said who it is (LLDP): many say it every 30 s, some never.")
	}
	return []string{r.cut(m.width), ""}
}

func (m *model) neighbourTable(shown []neighbours.Row, room int) []string {
	t, v := m.theme, m.neighbours()
	// columns: machine, address, hardware address, state, documented
	at := [5]int{4, 24, 41, 60, 92}
	wide := m.width >= 110
	if !wide {
		at = [5]int{4, 21, 37, 56, m.width}
	}
	if wide {
		longest := 16
		for _, x := range shown {
			longest = max(longest, min(len(x.Address.String()), 26))
		}
		for i := 2; i < len(at); i++ {
			at[i] += longest - 16
		}
	}
	head := &row{}
	for i, words := range []string{"machine", "address", "hardware address", "state", "documented"} {
		if i == 4 && (!m.segment().watch.HasHome || !wide) {
			continue
		}
		head.at(at[i]).put(t.faint, words)
	}
	lines := []string{head.cut(m.width)}
	if len(shown) == 0 && m.narrowed() != "" {
		return append(lines, "  "+t.faint.Render(m.nothingHas("neighbour")))
	}
	if len(shown) == 0 {
		return append(lines,
			indent(wrap("Nobody is known yet. a asks everybody on the segment; who speaks by themselves shows as well.", m.width-6, 3),
				t.faint)...)
	}
	rows := min(len(shown), room-1)
	from := min(max(v.selected-rows/2, 0), len(shown)-rows)
	for i := from; i < from+rows; i++ {
		x := shown[i]
		r := &row{}
		style, mark, state := t.text, " ", verdict.StateUnknown
		switch {
		case slices.ContainsFunc(x.Marks, neighbours.Mark.Wrong):
			mark, state = "╳", verdict.Broken
		case slices.Contains(x.Marks, neighbours.IsGateway):
			mark, state = "◆", verdict.Holds
		case x.Alive:
			mark, state = "•", verdict.Holds
		case strings.HasSuffix(x.Words, "silent"):
			mark, state = "·", verdict.Strained
		default:
			mark, style = "○", t.faint
		}
		r.put(t.accent, map[bool]string{true: " ▸", false: "  "}[i == v.selected]).put(t.state[state], mark)
		name := "·"
		if len(x.Names) > 0 {
			name = m.short(x.Names[0].Text)
		} else if same := m.sameCard(m.segment().Rows, x); same != "" {
			name = "as " + same
		}
		r.at(at[0]).put(style, fit(name, at[1]-at[0]-1)).at(at[1]).put(style, fit(x.Address.String(), at[2]-at[1]-1))
		r.at(at[2]).put(style, x.Hardware.String()).at(at[3])
		words, wordStyle := x.Words, style
		if len(x.Marks) > 0 && !(len(x.Marks) == 1 && x.Marks[0] == neighbours.IsGateway) {
			var marks []string
			for _, k := range x.Marks {
				if k != neighbours.IsGateway {
					marks = append(marks, k.String())
				}
			}
			words = strings.Join(marks, ", ") + "; " + words
			if slices.ContainsFunc(x.Marks, neighbours.Mark.Wrong) {
				wordStyle = t.state[verdict.Broken]
			}
		}
		r.put(wordStyle, fit(words, at[4]-at[3]-1))
		if m.segment().watch.HasHome && wide {
			r.at(at[4]).put(m.documented(x), fit(m.segment().watch.Home.Use(x.Address), m.width-at[4]-1))
		}
		lines = append(lines, r.cut(m.width))
	}
	if rest := len(shown) - rows; rest > 0 {
		lines[len(lines)-1] = "    " + t.faint.Render(fmt.Sprintf("… %d more; ↑ ↓ choose", rest+1))
	}
	return lines
}

// sameCard is the name of a neighbour that has the same hardware address: one machine with several addresses.
func (m *model) sameCard(rows []neighbours.Row, x neighbours.Row) string {
	for _, y := range rows {
		if y.Hardware == x.Hardware && !x.Hardware.IsZero() && len(y.Names) > 0 {
			return m.short(y.Names[0].Text)
		}
	}
	return ""
}

// documented is the style of what the sheet says: strained where the hardware address is another than documented.
func (m *model) documented(x neighbours.Row) (s paint) {
	f, ok := m.segment().watch.Home.Holder(x.Address)
	if ok && !f.Hardware.IsZero() && !x.Hardware.IsZero() && f.Hardware != x.Hardware {
		return m.theme.state[verdict.Strained]
	}
	return m.theme.faint
}

// neighbourDetail is what is known of the chosen one.
func (m *model) neighbourDetail(shown []neighbours.Row) []string {
	t, v := m.theme, m.neighbours()
	if len(shown) == 0 || m.height < 28 && !m.narrow() {
		return nil
	}
	x := shown[v.selected]
	if m.narrow() { // what its row has no room for
		r := (&row{}).at(2).put(t.loud, x.Address.String()).put(t.text, "   "+x.Words)
		for _, k := range x.Marks {
			r.put(t.text, ", "+k.String())
		}
		return append([]string{m.rule()}, r.fold(m.width, 4)...)
	}
	var names []string
	for _, n := range x.Names {
		names = append(names, fmt.Sprintf("%s by %v", n.Text, n.Source))
	}
	switch {
	case len(names) == 0 && m.recorded != nil:
		names = append(names, "its name was not asked for")
	case len(names) == 0:
		names = append(names, "no name: neither reverse DNS nor the machine itself (mDNS) gives one")
	}
	head := &row{}
	head.at(2).put(t.loud, x.Address.String()).put(t.text, "   "+strings.Join(names, ", "))
	lines := []string{m.rule(), head.cut(m.width)}
	card := &row{}
	card.at(4)
	if !x.Hardware.IsZero() {
		card.put(t.text, x.Hardware.String())
		if made := oui.Of(x.Hardware); made != "" {
			card.put(t.faint, "   "+made)
		}
	}
	card.put(t.faint, fmt.Sprintf("   the system's table says: %v", x.State))
	if x.RTT > 0 {
		card.put(t.faint, fmt.Sprintf("   answered after %.1f ms", float64(x.RTT)/float64(time.Millisecond)))
	}
	lines = append(lines, card.cut(m.width))
	for _, f := range x.Faces {
		if len(x.Faces) < 2 {
			break
		}
		r := &row{}
		how := "the system's table had it"
		if f.Said {
			how = "it claims the address"
		}
		r.at(4).put(t.state[verdict.Strained], f.Hardware.String()).put(t.text, "   "+how).
			put(t.faint,
				fmt.Sprintf("   first %s, last %s   %s", neighbours.Age(m.segment().At.Sub(f.First)), neighbours.Age(m.segment().At.Sub(f.Last)),
					oui.Of(f.Hardware)))
		lines = append(lines, r.cut(m.width))
	}
	return lines
}

// neighboursBelow is what was asked for: the segment, an address.
func (m *model) neighboursBelow(p neighbourwatch.Picture) []string {
	t := m.theme
	lines := []string{m.rule()}
	if g := p.Progress; g.Total > 0 {
		words := fmt.Sprintf("%d of %d addresses asked, at most %d a second: %d answer", g.Asked, g.Total, g.Rate, g.Answered)
		if p.Withheld != "" {
			words = fmt.Sprintf("%d of %d addresses asked, by the system on our behalf: %d answer", g.Asked, g.Total, g.Answered)
		}
		switch {
		case g.Over && g.Why != "":
			words += "; " + g.Why
		case g.Over:
			words += fmt.Sprintf(", in %s", neighbours.Seconds(g.Took))
		default:
			words += fmt.Sprintf("; %s so far, esc stops", neighbours.Seconds(g.Took))
		}
		lines = append(lines, "  "+t.text.Render(fit(words, m.width-3)))
	}
	if p.Trial != nil {
		prefix := m.segment().watch.Prefix(p.Trial.Address)
		s, sentence, limits := p.Trial.Result(prefix, m.segment().watch.Home, m.segment().watch.HasHome)
		state := map[neighbours.Standing]verdict.State{neighbours.Taken: verdict.Strained, neighbours.Claimed: verdict.Strained,
			neighbours.Quiet: verdict.Holds, neighbours.Nobody: verdict.Holds}[s]
		if p.Trial.Own && s == neighbours.Taken {
			state = verdict.Broken
		}
		lines = append(lines, "  "+t.state[state].Render(strands[state]+" "+fit(sentence, m.width-8)))
		if m.height >= 28 {
			for _, l := range limits {
				lines = append(lines, "     "+t.faint.Render(fit(l, m.width-6)))
			}
		}
	}
	if p.Missed > 0 {
		lines = append(lines,
			"  "+t.state[verdict.Strained].Render(
				fit(fmt.Sprintf("%d claims found no room here: somebody floods the segment", p.Missed), m.width-3)))
	}
	return lines
}
