package tui

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/core/wording"
)

// waysAsked are the addresses for which the system was asked how it would reach them, the last one first.
type waysAsked struct {
	answers []wayAsked
}

// wayAsked is the system's answer at a moment.
type wayAsked struct {
	endpoint.RouteAnswer
	at time.Time
}

// mostWays is how many of them are kept.
const mostWays = 8

// pressAddress asks for the way to another address.
func (m *model) pressAddress(k tea.KeyPressMsg) (tea.Cmd, bool) {
	if k.String() != "a" || m.case_ == nil || m.set == nil {
		return nil, false
	}
	return m.openEntry("how would this machine reach the address", "", func(text string) (tea.Cmd, error) {
		to, err := netip.ParseAddr(text)
		if err != nil {
			return nil, fmt.Errorf("“%s” is no address such as 192.0.2.7 or 2001:db8::7; 5 looks names up", fit(wiretext.Clean(text), 24))
		}
		ctx, machine := m.ctx, m.case_.Machine()
		return m.inBackground("the system is asked for its way", func() func(*model) tea.Cmd {
			answer, err := machine.Route(ctx, to, "")
			if err != nil {
				answer = endpoint.RouteAnswer{To: to, Verdict: endpoint.NoRoute, Reason: err.Error()}
			}
			return func(m *model) tea.Cmd {
				m.tookWay(answer)
				return nil
			}
		}), nil
	}), true
}

// tookWay puts an answer first, in the place of an earlier one for the same address.
func (m *model) tookWay(answer endpoint.RouteAnswer) {
	w := hold[waysAsked](m)
	if w == nil {
		w = &waysAsked{}
		keep(m, w)
	}
	rest := slices.DeleteFunc(w.answers, func(a wayAsked) bool { return a.To == answer.To })
	w.answers = append([]wayAsked{{answer, m.now}}, rest[:min(len(rest), mostWays-1)]...)
}

// ways lists the system's own answers: for the addresses asked for here, and for those of the target.
func (m *model) ways() (lines []string) {
	t := m.theme
	lines = append(lines, "  "+t.loud.Render("How this machine would reach"))
	if w := hold[waysAsked](m); w != nil {
		for _, a := range w.answers {
			lines = append(lines, m.way(a.RouteAnswer, "asked at "+wording.Clock(a.at))...)
		}
	}
	answers := slices.Clone(m.set.Routes)
	slices.SortFunc(answers, func(a, b endpoint.RouteAnswer) int { return a.To.Compare(b.To) })
	for _, a := range answers {
		lines = append(lines, m.way(a, "")...)
	}
	if len(answers) == 0 {
		lines = append(lines, "    "+t.faint.Render("the target: its address is not known"))
	}
	return lines
}

func (m *model) way(a endpoint.RouteAnswer, why string) []string {
	t, r := m.theme, &row{}
	r.at(4).put(t.text, a.To.String()).at(m.routeColumn())
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
	if why != "" {
		r.put(t.faint, "   "+why)
	}
	return r.fold(m.width, 6)
}

// routeColumn is where it stands what a destination is reached by.
func (m *model) routeColumn() int {
	if m.narrow() {
		return 26
	}
	return 32
}

// routeTable lists the system's own answers, and the routes of both families by the table in which they stand.
func (m *model) routeTable() []string {
	t := m.theme
	lines := append(m.ways(), "", "  "+t.loud.Render("Routes in force")+t.accent.Render(m.onlyWords()))
	routes := slices.Clone(m.set.Endpoint.Routes)
	table := func(r endpoint.Route) int { // 0: the main one, to which no rule need lead
		if m.set.Endpoint.OfMain(r) {
			return 0
		}
		return r.Table
	}
	slices.SortStableFunc(routes, func(a, b endpoint.Route) int {
		return cmp.Or(cmp.Compare(table(a), table(b)),
			boolOrder(a.To.Addr().Is6(), b.To.Addr().Is6()), cmp.Compare(a.To.Bits(), b.To.Bits()), cmp.Compare(a.Metric, b.Metric))
	})
	if len(routes) == 0 {
		lines = append(lines, "    "+t.faint.Render("none: an interface that is off, or without an address, has no routes"))
	}
	if words := m.sought(); len(words) > 0 {
		routes = slices.DeleteFunc(routes, func(x endpoint.Route) bool {
			row := ansi.Strip(strings.Join(m.routeRow(x), " "))
			return !containsAll(strings.ToLower(fmt.Sprintf("%s %v table %d", row, x.To, x.Table)), words)
		})
		if len(routes) == 0 {
			lines = append(lines, "    "+t.faint.Render(m.nothingHas("route")))
		}
	}
	last := 0
	for _, x := range routes {
		if n := table(x); n != last {
			last = n
			lines = append(lines, "", "  "+t.loud.Render(fmt.Sprintf("Table %d", n))+t.faint.Render("   "+m.ruledTo(n)))
		}
		lines = append(lines, m.routeRow(x)...)
	}
	return lines
}

// ruledTo says by which rules a table is looked up.
func (m *model) ruledTo(table int) string {
	var rules []string
	for _, r := range m.set.Endpoint.Rules {
		words := strings.TrimSuffix(r.String(), fmt.Sprintf(": table %d", table))
		if r.Table == table && !r.Refuses && !slices.Contains(rules, words) {
			rules = append(rules, words)
		}
	}
	if len(rules) == 0 {
		return "no rule leads to it: nothing goes by it"
	}
	return strings.Join(rules, "; ")
}

func (m *model) routeRow(x endpoint.Route) []string {
	t, r := m.theme, &row{}
	to := x.To.String()
	if x.IsDefault() {
		to = "everything else, IPv4"
		if x.To.Addr().Is6() {
			to = "everything else, IPv6"
		}
	}
	r.at(4).put(t.text, to).at(m.routeColumn())
	switch {
	case x.Verdict != endpoint.Forward:
		r.put(t.state[verdict.Broken], x.Verdict.String())
	case x.Via.IsValid():
		r.put(t.text, fmt.Sprintf("by %v through %s", x.Via, x.Interface))
	default:
		r.put(t.text, "directly on "+x.Interface)
	}
	r.put(t.faint, "   "+x.Origin.Words())
	if x.Metric != 0 {
		r.put(t.faint, fmt.Sprintf(", metric %d", x.Metric))
	}
	return r.fold(m.width, 6)
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
