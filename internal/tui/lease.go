package tui

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"passepartout/internal/core/lease"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wording"
	"passepartout/internal/report"
)

// leasePage shows the lease as a span of time, what is held beside what is offered, and the exchanges.
func (m *model) leasePage() []string {
	t := m.theme
	lines := m.head()
	if m.set == nil || m.set.Endpoint == nil {
		return append(lines, "", "  "+t.faint.Render("The machine's settings are being read."))
	}
	if _, ok := m.set.Endpoint.Interface(m.set.Interface); !ok {
		return append(lines, "",
			"  "+t.faint.Render(
				"This machine has no network interface besides loopback, and so no lease. Plug one in or load its driver; r looks again."))
	}
	tall := m.height >= 34
	if tall {
		lines = append(lines, "")
	}
	lines = append(lines, m.leaseSpan(m.width, tall)...)
	room := m.height - 2 - len(lines)
	switch {
	case tall:
		a := append(m.offered(m.width, room/2, false), m.advertised(m.width)...)
		lines = append(append(lines, a...), "")
		lines = append(lines, m.talkPane(m.width, room-len(a)-1)...)
	case m.lease().talk:
		lines = append(lines, m.talkPane(m.width, room)...)
	default:
		shown, _, _ := m.talks()
		if n := len(lines); n > 0 && lines[n-1] == "" {
			lines = lines[:n-1]
		}
		lines = append(lines, "  "+t.key.Render("tab")+t.faint.Render(fmt.Sprintf(" shows the exchanges: %d heard", len(shown))))
		lines = append(lines, m.offered(m.width, room-1, false)...)
		lines = append(lines, m.advertised(m.width)...)
	}
	return lines
}

// leaseSpan is the lease in force, drawn from the moment it was obtained to its end.
func (m *model) leaseSpan(width int, tall bool) []string {
	t := m.theme
	e := m.set.Endpoint
	now := m.now
	l, ok := e.Lease(m.set.Interface)
	head := &row{}
	head.put(t.loud, "  "+m.set.Interface)
	if !ok {
		own := "no address"
		if i, ok := e.Interface(m.set.Interface); ok {
			if usable := i.Usable(false); len(usable) > 0 {
				own = fmt.Sprintf("%v, %s", usable[0].Prefix, usable[0].Origin.Words())
			} else if self, is := i.SelfAssigned(); is {
				own = fmt.Sprintf("%v, which the machine gave itself (RFC 3927)", self.Prefix.Addr())
			}
		}
		why := "no lease is in force, and no DHCP client's file speaks for this interface"
		if len(e.LeaseFlaws) > 0 {
			why = fmt.Sprintf("no lease is known; %s: %s", e.LeaseFlaws[0].Source, e.LeaseFlaws[0].Why)
		}
		head.put(t.text, "   "+own).put(t.faint, "   "+why)
		out := []string{head.cut(width)}
		for _, old := range e.Leases {
			if old.Interface == m.set.Interface {
				r := &row{}
				r.at(4).put(t.faint,
					fit(fmt.Sprintf("left over: %v by %s, %s, in %s", old.Terms.Prefix(), old.Client, report.LeaseStanding(old, now),
						old.Source), width-5))
				out = append(out, r.cut(width))
				break
			}
		}
		return append(out, "")
	}
	state := l.At(now)
	head.put(t.text, "   "+l.Terms.Prefix().String()).put(t.faint, "   ")
	style := map[lease.State]verdict.State{lease.Bound: verdict.Holds, lease.Renewing: verdict.Holds, lease.Rebinding: verdict.Strained,
		lease.Expired: verdict.Broken}[state]
	words := string(state)
	if l.Endless {
		words = "bound, without end"
	}
	head.put(t.state[style], strands[style]+" "+words)
	who := "by " + l.Client
	if l.Client == "" {
		who = "as the kernel has it; no client's file speaks of it"
	}
	if l.Terms.Server.IsValid() {
		who += fmt.Sprintf(", from %s", m.named(l.Terms.Server))
	}
	head.put(t.faint, fit("   "+who+"   "+l.Source, width-head.width-2))
	out := []string{head.cut(width)}
	if tall {
		out = append(out, "")
	}
	if !l.Endless && !l.Expires.IsZero() && !l.Obtained.IsZero() {
		out = append(out, spanOfTime(t, l, now, width)...)
	}
	r := &row{}
	out = append(out, r.at(2).put(t.text, leaseMeans(l, now)).fold(width, 2)...)
	for _, remark := range l.Remarks {
		if !tall || strings.HasPrefix(remark, "the client means to renew") { // that stands above
			continue
		}
		r := &row{}
		out = append(out, r.at(2).put(t.faint, "· "+remark).fold(width, 4)...)
	}
	return append(out, "")
}

// named is an address with its name, where one is known.
func (m *model) named(a netip.Addr) string {
	if name := m.set.NameOf(a); name != "" {
		name, _, _ = strings.Cut(name, ".")
		return fmt.Sprintf("%s %v", name, a)
	}
	return a.String()
}

// leaseMeans says what follows from the times now.
func leaseMeans(l lease.Lease, now time.Time) string {
	in := func(at time.Time) string { return report.LeaseTime(at.Sub(now).Round(time.Second)) }
	switch l.At(now) {
	case lease.Bound:
		if l.Endless {
			return "It never ends, and is never renewed."
		}
		if l.T1.IsZero() {
			return "It is valid; when it will be renewed is not known."
		}
		when := l.T1
		if l.Plan.After(now) {
			when = l.Plan
		}
		return fmt.Sprintf("The client renews by itself at %s, in %s, by asking the server that gave it; from T2 on any server.",
			wording.Clock(when.Local()), in(when))
	case lease.Renewing:
		return fmt.Sprintf("T1 is past: the client is asking the server that gave it. In %s it will ask any server; in %s the lease ends.",
			in(l.T2), in(l.Expires))
	case lease.Rebinding:
		return fmt.Sprintf(
			"T2 is past and nobody has renewed it: the client is asking any server. In %s the lease ends, and the address with it.",
			in(l.Expires))
	case lease.Expired:
		return fmt.Sprintf("It ran out %s ago. An address that is used on may belong to somebody else by now.",
			report.LeaseTime(now.Sub(l.Expires).Round(time.Second)))
	}
	return "Its times are not known."
}

// spanOfTime draws the lease's life: what is past solid, what is to come dotted, its marks, and now.
func spanOfTime(t theme, l lease.Lease, now time.Time, width int) []string {
	from, to := l.Obtained, l.Expires
	if now.After(to) {
		to = now
	}
	first, last := clockOf(from, to), clockOf(to, from)
	left := 2 + len(first) + 1
	right := width - len(last) - 3
	column := func(at time.Time) int {
		share := float64(at.Sub(from)) / float64(max(to.Sub(from), 1))
		return left + int(share*float64(right-left-1)+.5)
	}
	nowAt := min(max(column(now), left), right-1)
	type sign struct {
		at    int
		shape string
		name  string
		style verdict.State
	}
	marks := []sign{{column(from), "├", "obtained", verdict.Holds}, {column(l.T1), "┊", "T1", verdict.Holds},
		{column(l.T2), "┊", "T2", verdict.Strained},
		{column(l.Expires), map[bool]string{false: "┤", true: "╳"}[now.After(l.Expires)], "ends", verdict.Broken}}
	bar, names := &row{}, &row{}
	bar.at(2).put(t.faint, first+" ")
	for c := left; c < right; c++ {
		shape, style := "━", t.state[verdict.Holds]
		switch {
		case c > column(l.Expires):
			shape, style = "╌", t.state[verdict.Broken]
		case c > nowAt:
			shape, style = "┈", t.faint
		case !l.T2.IsZero() && c >= column(l.T2):
			shape, style = "╍", t.state[verdict.Strained]
		}
		for _, x := range marks {
			if x.at == c {
				shape = x.shape
			}
		}
		if c == nowAt {
			shape, style = "●", t.accent
		}
		bar.put(style, shape)
	}
	bar.put(t.faint, " "+last)
	put := func(at int, text string, style verdict.State, accent bool) {
		if at < names.width+1 && names.width > 0 {
			at = names.width + 1
		}
		at = min(at, width-len(text)-1)
		if at < names.width {
			return
		}
		s := t.faint
		if accent {
			s = t.accent
		} else if style == verdict.Broken {
			s = t.text
		}
		names.at(at).put(s, text)
	}
	marks = append(marks, sign{nowAt, "●", "now", verdict.StateUnknown})
	slices.SortStableFunc(marks, func(a, b sign) int { return a.at - b.at })
	for _, x := range marks {
		at := x.at
		if x.name == "ends" {
			at = x.at - 3
		}
		put(at, x.name, x.style, x.name == "now")
	}
	return []string{bar.cut(width), names.cut(width)}
}

// clockOf writes a time of day, with the day where the other end lies on another.
func clockOf(at, other time.Time) string {
	at, other = at.Local(), other.Local()
	if at.YearDay() != other.YearDay() || at.Year() != other.Year() {
		return at.Format("2 Jan 15:04")
	}
	return at.Format("15:04")
}
