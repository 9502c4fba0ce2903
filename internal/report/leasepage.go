package report

import (
	"encoding/json"
	"fmt"
	"io"
	"time"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/draw"
)

// LeaseExport is the lease view as it is written: the lease in force with the chosen exchange as a drawing, all leases or all exchanges as
// data.
func LeaseExport(e *endpoint.Endpoint, iface string, chosen *dhcp.Exchange, all []*dhcp.Exchange, at time.Time) Export {
	return Export{
		Page: func() draw.Page { return leasePage(e, iface, chosen, at) },
		Data: map[string]func(io.Writer) error{
			".json":  func(w io.Writer) error { return LeasesJSON(w, e.Leases, e.LeaseFlaws, at) },
			".txt":   func(w io.Writer) error { return LeasesText(w, e.Leases, e.LeaseFlaws, at) },
			".jsonl": func(w io.Writer) error { return exchangeLines(w, all) },
		},
	}
}

func leasePage(e *endpoint.Endpoint, iface string, chosen *dhcp.Exchange, at time.Time) draw.Page {
	p := draw.Page{Title: "The lease of " + e.Host + ", " + iface, At: at}
	l, ok := e.Lease(iface)
	switch {
	case !ok:
		p.Lines = append(p.Lines, "no lease is in force")
	default:
		p.Lines = append(p.Lines,
			fmt.Sprintf("%v  ·  %s  ·  %s  ·  from %s", l.Terms.Prefix(), LeaseStanding(l, at), by(l), known(l.Terms.Server)),
			fmt.Sprintf("router %s  ·  name servers %s  ·  domain %s  ·  for %s", list(l.Terms.Routers), list(l.Terms.Resolvers),
				l.Terms.Domain, LeaseTime(l.Terms.Lease)))
		p.Lines = append(p.Lines, l.Remarks...)
		if !l.Endless && !l.Obtained.IsZero() && !l.Expires.IsZero() {
			p.Parts = append(p.Parts, draw.Span{From: l.Obtained, T1: l.T1, T2: l.T2, To: l.Expires, Now: at})
		}
	}
	if chosen != nil {
		ladder := chosen.Ladder()
		figure := draw.Ladder{Ladder: ladder}
		for i := range ladder.Parties {
			figure.Names = append(figure.Names, PartyName(ladder, i))
		}
		who := chosen.Client.String()
		if chosen.Hostname != "" {
			who = chosen.Hostname + " " + who
		}
		p.Lines = append(p.Lines, fmt.Sprintf("exchange of %s: %s", who, ExchangeWords(chosen)))
		p.Lines = append(p.Lines, chosen.Remarks...)
		p.Parts = append(p.Parts, figure)
	}
	return p
}

// exchangeLines writes each exchange as a line of JSON.
func exchangeLines(w io.Writer, all []*dhcp.Exchange) error {
	enc := json.NewEncoder(w)
	for _, e := range all {
		if err := enc.Encode(struct {
			Schema string `json:"schema"`
			exchangeJSON
		}{DHCPSchema, toExchangeJSON(e)}); err != nil {
			return err
		}
	}
	return nil
}
