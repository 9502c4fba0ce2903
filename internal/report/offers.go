package report

import (
	"fmt"
	"io"
	"net/netip"
	"strings"
	"time"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/wording"
)

// Asked is what came when DHCP servers, IPv6 routers and DHCPv6 servers were asked for settings.
type Asked struct {
	Endpoint  *endpoint.Endpoint
	Interface string
	At        time.Time
	Discovery evidence.Discovery
	Routers6  []evidence.Advertisement
	Informed6 []evidence.Information
}

// OffersSchema names the shape of the JSON of offers.
const OffersSchema = "passepartout.offers/1"

type offerJSON struct {
	Server    string           `json:"server"`
	Hardware  string           `json:"hardware_address"`
	Relay     string           `json:"relay"`
	Address   string           `json:"address"`
	Prefix    int              `json:"prefix_length,omitempty"`
	Routers   []netip.Addr     `json:"routers"`
	Resolvers []netip.Addr     `json:"resolvers"`
	Domain    string           `json:"domain"`
	Lease     int64            `json:"lease_s,omitempty"`
	After     float64          `json:"after_ms"`
	Options   []dhcp.Described `json:"options"`
}

func toOfferJSON(list []evidence.Offer) []offerJSON {
	out := []offerJSON{}
	for _, o := range list {
		out = append(out,
			offerJSON{Server: known(o.Server), Hardware: o.Hardware.String(), Relay: known(o.Relay), Address: known(o.Terms.Address),
				Prefix:  o.Terms.PrefixLength,
				Routers: orEmpty(o.Routers), Resolvers: orEmpty(o.Resolvers), Domain: o.Domain, Lease: int64(o.Lease / time.Second),
				After: float64(o.RTT.Microseconds()) / 1000, Options: orEmpty(o.Options)})
	}
	return out
}

// disagreements says which servers part, and in what.
func (a Asked) disagreements() []string {
	out := []string{}
	for _, x := range a.Discovery.Disagreements() {
		out = append(out, fmt.Sprintf("%v and %v disagree: %s", x.A.Server, x.B.Server, strings.Join(x.Parts, ", ")))
	}
	return out
}

// WriteJSON writes everything as one object.
func (a Asked) WriteJSON(w io.Writer) error {
	type router struct {
		Router    string       `json:"router"`
		Lifetime  int64        `json:"lifetime_s"`
		Managed   bool         `json:"managed"`
		Other     bool         `json:"other"`
		Prefixes  []string     `json:"prefixes"`
		Resolvers []netip.Addr `json:"resolvers"`
		Search    []string     `json:"search"`
		Portal    string       `json:"captive_portal"`
	}
	type server struct {
		From      string       `json:"from"`
		Server    string       `json:"duid"`
		Resolvers []netip.Addr `json:"resolvers"`
		Search    []string     `json:"search"`
		Portal    string       `json:"captive_portal"`
	}
	out := struct {
		Schema    string       `json:"schema"`
		At        time.Time    `json:"at"`
		Interface string       `json:"interface"`
		Waited    float64      `json:"waited_s"`
		Discovers int          `json:"discovers"`
		Offers    []offerJSON  `json:"offers"`
		Answers   []offerJSON  `json:"inform_answers"`
		Refusals  []netip.Addr `json:"refused_by"`
		Serving   []netip.Addr `json:"serving_others"`
		Disagree  []string     `json:"disagreements"`
		Routers   []router     `json:"ipv6_routers"`
		Servers   []server     `json:"dhcpv6"`
	}{OffersSchema, a.At.UTC(), a.Interface, a.Discovery.Waited.Seconds(), a.Discovery.Discovers, toOfferJSON(a.Discovery.Offers),
		toOfferJSON(a.Discovery.Answers),
		orEmpty(a.Discovery.Refusals), orEmpty(a.Discovery.Serving), a.disagreements(), []router{}, []server{}}
	for _, r := range a.Routers6 {
		x := router{r.Router.String(), int64(r.Lifetime / time.Second), r.Managed, r.Other, []string{}, orEmpty(r.Resolvers),
			orEmpty(r.Search), r.CaptivePortal}
		for _, p := range r.Prefixes {
			x.Prefixes = append(x.Prefixes, p.Prefix.String())
		}
		out.Routers = append(out.Routers, x)
	}
	for _, i := range a.Informed6 {
		out.Servers = append(out.Servers, server{i.From.String(), i.Server, orEmpty(i.Resolvers), orEmpty(i.Search), i.CaptivePortal})
	}
	return writeJSON(w, out)
}

// WriteText writes it for people.
func (a Asked) WriteText(w io.Writer) error {
	var b strings.Builder
	d := a.Discovery
	fmt.Fprintf(&b, "asked on %s for %s; no lease was taken\n", a.Interface, wording.Lasting(d.Waited))
	if l, ok := a.Endpoint.Lease(a.Interface); ok {
		fmt.Fprintf(&b, "held here         %v, router %s, name servers %s, by %s from %s\n", l.Terms.Prefix(), list(l.Terms.Routers),
			list(l.Terms.Resolvers), l.Client, known(l.Terms.Server))
	}
	for _, o := range d.Offers {
		fmt.Fprintf(&b, "%-17v offers %v, router %s, name servers %s, for %s, after %s\n", o.Server, o.Address, list(o.Routers),
			list(o.Resolvers), LeaseTime(o.Lease), wording.Millis(o.RTT))
	}
	for _, o := range d.Answers {
		fmt.Fprintf(&b, "%-17v told, when informed of the address held: router %s, name servers %s\n", o.Server, list(o.Routers),
			list(o.Resolvers))
	}
	for _, s := range d.Refusals {
		fmt.Fprintf(&b, "%-17v refused this machine\n", s)
	}
	for _, s := range d.Serving {
		fmt.Fprintf(&b, "%-17v was heard serving others\n", s)
	}
	if len(d.Offers) == 0 {
		b.WriteString("no DHCP server offers anything\n")
	}
	for _, line := range a.disagreements() {
		fmt.Fprintf(&b, "! %s\n", line)
	}
	for _, r := range a.Routers6 {
		var prefixes []string
		for _, p := range r.Prefixes {
			prefixes = append(prefixes, p.Prefix.String())
		}
		fmt.Fprintf(&b, "IPv6 router %v advertises %s, name servers %s%s\n", r.Router, strings.Join(prefixes, ", "), list(r.Resolvers),
			portalWords(r.CaptivePortal))
	}
	for _, i := range a.Informed6 {
		fmt.Fprintf(&b, "DHCPv6 server %v: name servers %s%s\n", i.From, list(i.Resolvers), portalWords(i.CaptivePortal))
	}
	_, err := io.WriteString(w, b.String())
	return err
}

func portalWords(uri string) string {
	if uri == "" {
		return ""
	}
	return ", captive portal " + uri
}
