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
	does: "addresses in their prefix, the routes, and how any address would be reached", at: string(topology.Address), kept: true,
	marks: [][2]string{
		{"●", "this machine   ◆ gateway   ◇ gateway offered   ■ name server: inside the span, where the mask has them"},
		{"╳", "outside the span: an octet that differs is named"},
	},
	deeds: []deed{
		{"a", "another way", "how this machine would reach another address, by the system's own answer", false},
	},
	narrows: "a destination, a router, an interface",
	draw:    (*model).addressPage,
	press:   (*model).pressAddress,
	export:  (*model).exportCheck,
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
	own := (&row{}).at(2).put(t.loud, i.Name).put(t.faint, "   "+describePort(*i)+" · "+managedBy(*i))
	lines = append(append(lines, own.fold(m.width, 4)...), "")
	marks := m.marks(i)
	if len(i.Addresses) == 0 {
		lines = append(lines,
			"  "+t.state[verdict.Broken].Render("No address.")+
				t.text.Render(" The gateway and the name servers below cannot be used without one."), "")
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

// marks are the addresses that a technician compares: the machine's own, its gateways, its name servers.
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
			out[k].what += ", name server"
			continue
		}
		out = append(out, mark{a, "■", "name server", verdict.StateUnknown})
	}
	return out
}

func listOrNone(addrs []netip.Addr) string {
	if len(addrs) == 0 {
		return "none"
	}
	return wording.List(addrs)
}

func repeat(s string, n int) string { return strings.Repeat(s, max(n, 0)) }
