package tui

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/topology"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wording"
)

// addressView draws the addresses in their prefix, and the routes.
var addressView = &view{
	key: "2", name: "address", short: "addr", sets: "address",
	does: "addresses in their prefix, and the routes", at: string(topology.Address), kept: true,
	marks: [][2]string{
		{"●", "this machine   ◆ gateway   ◇ gateway offered   ■ name server: inside the span, where the mask has them"},
		{"╳", "outside the span: an octet that differs is named"},
	},
	draw:   (*model).addressPage,
	export: (*model).exportCheck,
}

// addressPage draws each prefix of the port as a span with the addresses that matter placed in it, and the routes under it.
func (m *model) addressPage() []string {
	t := m.theme
	lines := append(m.head(), "")
	if m.set == nil || m.set.Endpoint == nil {
		lines = append(lines, "  "+t.faint.Render("The machine's settings are being read."))
		return lines
	}
	i, ok := m.set.Endpoint.Interface(m.set.Interface)
	if !ok {
		lines = append(lines,
			"  "+t.faint.Render(
				"This machine has no network interface besides loopback, and so no address. Plug one in or load its driver; r looks again."))
		return lines
	}
	lines = append(lines, "  "+t.loud.Render(i.Name)+t.faint.Render("   "+describePort(*i)+" · "+managedBy(*i)), "")
	marks := m.marks(i)
	if len(i.Addresses) == 0 {
		lines = append(lines,
			"  "+t.state[verdict.Broken].Render("No address.")+
				t.text.Render(" The gateway and the resolvers below cannot be used without one."), "")
	}
	for _, a := range i.Addresses {
		lines = append(lines, m.span(a, marks)...)
		lines = append(lines, "")
	}
	lines = append(append(lines, m.offered(m.width, 9, true)...), "")
	lines = append(lines, m.routeTable()...)
	return lines
}

// managedBy says who sets an interface again.
func managedBy(i endpoint.Interface) string { return "managed by " + cmp.Or(i.Manager, "nobody") }

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

func listOrNone(addrs []netip.Addr) string {
	if len(addrs) == 0 {
		return "none"
	}
	return wording.List(addrs)
}

// routeTable lists the routes of both families and the system's own answer for the target.
func (m *model) routeTable() []string {
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
		return cmp.Or(boolOrder(a.To.Addr().Is6(), b.To.Addr().Is6()), cmp.Compare(a.To.Bits(), b.To.Bits()),
			cmp.Compare(a.Metric, b.Metric))
	})
	if len(routes) == 0 {
		lines = append(lines, "    "+t.faint.Render("none: an interface that is off, or without an address, has no routes"))
	}
	for _, x := range routes {
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
		r.put(t.faint, "   "+x.Origin.Words())
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
