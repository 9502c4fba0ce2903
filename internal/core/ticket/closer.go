package ticket

import (
	"fmt"
	"slices"
	"strings"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/core/wording"
)

// settingRows are the settings as they are held here, as the network says them, and as they are documented: where two of the three are
// known.
func settingRows(set *evidence.Set, f *facts.Facts) (rows []Row) {
	if f.Iface == nil || set.Endpoint == nil {
		return nil
	}
	home, documented := set.Sheet.Home(set.Endpoint.Host, f.Iface.Hardware)
	offers, _ := f.OffersSeen()
	add := func(name string, held string, offered func(evidence.Offer) string, paper string) {
		parts := []string{}
		if held == "" {
			held = "none"
		}
		parts = append(parts, "held "+held)
		for _, o := range offers {
			if says := offered(o); says != "" {
				parts = append(parts, fmt.Sprintf("%v says %s", o.Server, says))
			}
		}
		if documented && paper != "" {
			parts = append(parts, "documented "+paper)
		}
		if len(parts) > 1 {
			rows = append(rows, Row{name, strings.Join(parts, " · ")})
		}
	}
	held := ""
	if a, ok := f.Address4(); ok {
		held = a.Prefix.String()
	}
	var prefixes []string
	for _, p := range home.Prefixes {
		prefixes = append(prefixes, p.String())
	}
	add("address", held, func(o evidence.Offer) string { return o.Address.String() }, strings.Join(prefixes, ", "))
	held = ""
	if gw, ok := set.Endpoint.Gateway(f.Iface.Name, false); ok {
		held = gw.String()
	}
	add("gateway", held, func(o evidence.Offer) string { return wording.List(o.Routers) }, wording.List(home.Gateways))
	add("name servers", wording.List(set.Endpoint.AskedResolvers()), func(o evidence.Offer) string { return wording.List(o.Resolvers) },
		wording.List(home.Resolvers))
	add("domain", strings.Join(set.Endpoint.Search, ", "), func(o evidence.Offer) string { return o.Domain }, home.Domain)
	return rows
}

// mostHeard is how many answers of one check are written out.
const mostHeard = 6

// checkRows are all checks with what was asked and what came back: for who looks closer.
func checkRows(r verdict.Result) (rows []Row) {
	for _, c := range r.Checks {
		if c.State == verdict.Skipped && len(c.Heard) == 0 {
			continue
		}
		rows = append(rows, Row{c.Label, c.State.String() + ": " + c.Fact})
		if c.Asked != "" {
			rows = append(rows, Row{"", "asked: " + c.Asked})
		}
		for _, heard := range c.Heard[:min(len(c.Heard), mostHeard)] {
			rows = append(rows, Row{"", heard})
		}
		if more := len(c.Heard) - mostHeard; more > 0 {
			rows = append(rows, Row{"", fmt.Sprintf("and %d more", more)})
		}
	}
	return rows
}

// Closer is what stands behind a ticket, for who looks closer: the evidence, check by check, and against whom it speaks.
func Closer(r verdict.Result) []Section {
	var t Ticket
	t.add("The evidence, check by check", checkRows(r))
	var against []Row
	for _, s := range r.Suspects {
		if len(s.For) > 0 {
			against = append(against, Row{string(s.Fault.ID), s.Standing.String() + ": " + strings.Join(slices.Clone(s.For), "; ")})
		}
	}
	t.add("What speaks for which fault", against)
	for _, s := range t.Sections {
		for i := range s.Rows {
			s.Rows[i].Name = wiretext.Clean(s.Rows[i].Name)
		}
	}
	return t.Sections
}
