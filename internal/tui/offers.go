package tui

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/subnet"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wording"
	"passepartout/internal/report"
)

// settings are what a machine needs, as one side has them.
type settings struct {
	head  string
	cells [6]string // by settingNames
	more  string    // what else a server gives
}

var settingNames = [6]string{"address", "mask", "gateway", "name servers", "domain", "lease"}

// heldHere is what this machine has.
func (m *model) heldHere() settings {
	e := m.set.Endpoint
	s := settings{head: "held here",
		cells: [6]string{"none", "none", "none", listOrNone(e.AskedResolvers()), strings.Join(e.Search, ", "), ""}}
	i, ok := e.Interface(m.set.Interface)
	if !ok {
		return s
	}
	var own []netip.Addr
	for _, a := range i.Addresses {
		if a.Prefix.Addr().Is4() {
			own = append(own, a.Prefix.Addr())
			s.cells[1] = subnet.Mask(a.Prefix)
		}
	}
	s.cells[0] = listOrNone(own)
	if gw, ok := e.Gateway(i.Name, false); ok {
		s.cells[2] = gw.String()
	}
	if l, ok := e.Lease(i.Name); ok {
		if l.Terms.Domain != "" {
			s.cells[4] = l.Terms.Domain
		}
		if l.Terms.Lease > 0 {
			s.cells[5] = lasting(l.Terms.Lease)
		}
	}
	return s
}

// documentedHere is what the site sheet has for this machine's network.
func (m *model) documentedHere() (settings, bool) {
	i, ok := m.set.Endpoint.Interface(m.set.Interface)
	if !ok {
		return settings{}, false
	}
	n, ok := m.home(*i)
	if !ok {
		return settings{}, false
	}
	s := settings{head: "documented", cells: [6]string{"", "", "", listOrNone(n.Resolvers), n.Domain, ""}}
	if f, own := n.Machine(m.set.Endpoint.Host, i.Hardware); own {
		s.cells[0] = f.Address.String()
	}
	if p, ok := n.Prefix(false); ok {
		s.cells[1] = subnet.Mask(p)
	}
	if gw, ok := n.Gateway(false); ok {
		s.cells[2] = gw.String()
	}
	if len(n.Resolvers) == 0 {
		s.cells[3] = ""
	}
	if len(n.DHCP) > 0 {
		s.more = "DHCP servers documented: " + listOrNone(n.DHCP)
	}
	return s, true
}

func lasting(d time.Duration) string {
	if d == dhcp.Endless {
		return "without end"
	}
	return report.LeaseTime(d)
}

// offeredBy is what a server gives: an offer, or the answer to an INFORM, which has neither address nor lease.
func (m *model) offeredBy(o evidence.Offer, verb string) settings {
	s := settings{head: verb + " " + m.named(o.Server),
		cells: [6]string{"", "", listOrNone(o.Routers), listOrNone(o.Resolvers), o.Domain, ""}}
	if o.Address.IsValid() {
		s.cells[0], s.cells[1] = o.Address.Addr().String(), subnet.Mask(o.Address)
	} else if o.Terms.PrefixLength > 0 {
		s.cells[1] = subnet.Mask(netip.PrefixFrom(netip.IPv4Unspecified(), o.Terms.PrefixLength))
	}
	if o.Lease > 0 {
		s.cells[5] = lasting(o.Lease)
	}
	var more []string
	for _, x := range o.Options {
		switch x.Code {
		case dhcp.OptMask, dhcp.OptRouters, dhcp.OptResolvers, dhcp.OptDomain, dhcp.OptLease, dhcp.OptType, dhcp.OptServer, dhcp.OptT1,
			dhcp.OptT2, 28: // 28: the broadcast address, which follows from the mask
		default:
			more = append(more, fmt.Sprintf("%s %s", x.Name, x.Value))
		}
	}
	if o.Relay.IsValid() {
		more = append(more, fmt.Sprintf("through the relay %v", o.Relay))
	}
	s.more = strings.Join(more, "; ")
	return s
}

// offered puts what is held here beside what each server gives, and marks where they part. Brief leaves out what is of no use without the
// lease.
func (m *model) offered(width, room int, brief bool) []string {
	t := m.theme
	d := m.discovery()
	columns := []settings{m.heldHere()}
	if d != nil {
		for _, o := range d.Offers {
			columns = append(columns, m.offeredBy(o, "offered by"))
		}
		for _, o := range d.Answers {
			if !slices.ContainsFunc(d.Offers, func(x evidence.Offer) bool { return x.Server == o.Server }) {
				columns = append(columns, m.offeredBy(o, "told by"))
			}
		}
	}
	if home, ok := m.documentedHere(); ok {
		columns = append(columns, home)
	}
	const label, least = 16, 18
	most := max((width-label-10)/least, 1)
	hidden := max(len(columns)-most, 0)
	columns = columns[:len(columns)-hidden]
	cell := min((width-label-10)/max(len(columns), 2), 34)
	head := &row{}
	head.at(2).put(t.loud, "Settings")
	for k, c := range columns {
		style := t.faint
		if k == 0 {
			style = t.text
		}
		words := c.head
		if k > 0 && len(words) >= cell { // the address alone
			words = words[strings.LastIndex(words, " ")+1:]
		}
		head.at(label+k*cell).put(style, fit(words, cell-1))
	}
	lines := []string{head.cut(width)}
	for line, name := range settingNames {
		if brief && line > 3 {
			break
		}
		r := &row{}
		r.at(2).put(t.faint, name)
		parts := false
		for _, c := range columns[1:] {
			parts = parts || c.cells[line] != "" && line < 4 && !sameList(c.cells[line], columns[0].cells[line])
			for _, other := range columns[1:] {
				parts = parts || line > 0 && line < 4 && c.cells[line] != "" && other.cells[line] != "" &&
					!sameList(c.cells[line], other.cells[line])
			}
		}
		style := t.text
		if parts {
			style = t.state[verdict.Strained]
		}
		for k, c := range columns {
			text := c.cells[line]
			if text == "" {
				text = "·"
			}
			r.at(label+k*cell).put(style, fit(text, cell-1))
		}
		if parts {
			r.at(label+len(columns)*cell).put(style, "╍╍ differs")
		}
		lines = append(lines, r.cut(width))
	}
	if brief {
		if len(columns) > 1 {
			return lines
		}
		return append(lines, m.offersRemark(d, hidden, width)...)
	}
	lines = append(lines, m.offersRemark(d, hidden, width)...)
	for _, c := range columns[1:] {
		if c.more != "" && len(lines) < room {
			r := &row{}
			r.at(2).put(t.faint,
				fit("also "+strings.TrimPrefix(strings.TrimPrefix(c.head, "offered by "), "told by ")+": "+c.more, width-3))
			lines = append(lines, r.cut(width))
		}
	}
	return lines
}

// sameList reports whether two cells name the same addresses, in whatever order.
func sameList(a, b string) bool {
	x, y := strings.Split(a, ", "), strings.Split(b, ", ")
	slices.Sort(x)
	slices.Sort(y)
	return slices.Equal(x, y)
}

// offersRemark says how the servers were asked, and what else they let be heard.
func (m *model) offersRemark(d *evidence.Discovery, hidden, width int) []string {
	t := m.theme
	asking, began := m.lease().asking, m.lease().began
	var lines []string
	say := func(style paint, format string, args ...any) {
		lines = append(lines, "  "+style.Render(fit(fmt.Sprintf(format, args...), width-3)))
	}
	switch {
	case asking:
		say(t.accent, "asking DHCP servers … %.1f of %.0f s; no lease is taken", m.now.Sub(began).Seconds(), askFor.Seconds())
	case m.set.IsWithheld(evidence.DHCPOffer):
		say(t.faint, "DHCP servers could not be asked: it needs permission to send raw frames")
	case d == nil:
		say(t.faint, "DHCP servers have not been asked yet")
	case len(d.Offers) == 0:
		say(t.state[verdict.Strained], "no server offers anything: %s within %s", wording.Plural(d.Discovers, "discover", "discovers"),
			wording.Lasting(d.Waited))
	default:
		say(t.faint, "%s within %s; no lease was taken", wording.Plural(len(d.Offers), "offer", "offers"), wording.Lasting(d.Waited))
	}
	if d != nil {
		for _, s := range d.Refusals {
			say(t.state[verdict.Broken], "%s refused this machine", m.named(s))
		}
		for _, s := range d.Serving {
			say(t.faint, "%s was heard serving others", m.named(s))
		}
		for _, x := range d.Disagreements() {
			say(t.state[verdict.Broken], "━╳ %s and %s disagree: %s", m.named(x.A.Server), m.named(x.B.Server), strings.Join(x.Parts, ", "))
		}
	}
	if hidden > 0 {
		say(t.faint, "%s more; a wider window shows them", wording.Plural(hidden, "server", "servers"))
	}
	return lines
}

// advertised is what routers and DHCPv6 servers say of IPv6 on the segment.
func (m *model) advertised(width int) []string {
	t := m.theme
	var out []string
	say := func(words string) { out = append(out, "  "+t.text.Render(fit(words, width-3))) }
	for _, a := range m.set.Routers6 {
		var parts []string
		for _, p := range a.Prefixes {
			parts = append(parts, p.Prefix.String())
		}
		words := fmt.Sprintf("IPv6: router %v advertises %s", a.Router, strings.Join(parts, ", "))
		if a.Lifetime > 0 {
			words += ", gateway for " + report.LeaseTime(a.Lifetime)
		} else {
			words += ", no gateway"
		}
		if len(a.Resolvers) > 0 {
			words += ", name servers " + listOrNone(a.Resolvers)
		}
		if a.Managed {
			words += ", addresses by DHCPv6"
		}
		if a.CaptivePortal != "" {
			words += ", captive portal " + a.CaptivePortal
		}
		say(words)
	}
	for _, i := range m.set.Informed6 {
		words := "DHCPv6: name servers " + listOrNone(i.Resolvers)
		if len(i.Search) > 0 {
			words += ", search " + strings.Join(i.Search, ", ")
		}
		if i.CaptivePortal != "" {
			words += ", captive portal " + i.CaptivePortal
		}
		say(words)
	}
	return out
}
