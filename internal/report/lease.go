package report

import (
	"fmt"
	"io"
	"net/netip"
	"strings"
	"time"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/lease"
	"passepartout/internal/core/wording"
)

// LeaseSchema names the shape of the JSON of leases.
const LeaseSchema = "passepartout.lease/1"

type leaseJSON struct {
	Interface string           `json:"interface,omitempty"`
	Index     int              `json:"interface_index,omitempty"`
	Client    string           `json:"client,omitempty"`
	Family    int              `json:"family"`
	Address   string           `json:"address"`
	Prefix    int              `json:"prefix_length,omitempty"`
	Routers   []netip.Addr     `json:"routers"`
	Resolvers []netip.Addr     `json:"resolvers"`
	Domain    string           `json:"domain,omitempty"`
	Search    []string         `json:"search"`
	Server    string           `json:"server,omitempty"`
	Lease     int64            `json:"lease_s,omitempty"`
	Endless   bool             `json:"endless,omitempty"`
	Obtained  *time.Time       `json:"obtained,omitempty"`
	T1        *time.Time       `json:"t1,omitempty"`
	T2        *time.Time       `json:"t2,omitempty"`
	Expires   *time.Time       `json:"expires,omitempty"`
	State     lease.State      `json:"state,omitempty"`
	InForce   bool             `json:"in_force"`
	Source    string           `json:"source"`
	Options   []dhcp.Described `json:"options"`
	Remarks   []string         `json:"remarks"`
}

func moment(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	t = t.UTC()
	return &t
}

// LeasesJSON writes leases as the contract has them.
func LeasesJSON(w io.Writer, all []lease.Lease, flaws []lease.Flaw, now time.Time) error {
	out := struct {
		Schema  string       `json:"schema"`
		At      time.Time    `json:"at"`
		Leases  []leaseJSON  `json:"leases"`
		Skipped []lease.Flaw `json:"skipped"`
	}{LeaseSchema, now.UTC(), []leaseJSON{}, orEmpty(flaws)}
	for _, l := range all {
		t := l.Terms
		line := leaseJSON{Interface: l.Interface, Index: l.Index, Client: l.Client, Family: 4, Address: known(t.Address),
			Prefix: t.PrefixLength, Routers: orEmpty(t.Routers), Resolvers: orEmpty(t.Resolvers),
			Domain: t.Domain, Search: orEmpty(t.Search), Server: known(t.Server), Endless: l.Endless, Obtained: moment(l.Obtained),
			T1: moment(l.T1), T2: moment(l.T2), Expires: moment(l.Expires),
			State: l.At(now), InForce: l.InForce, Source: l.Source, Options: orEmpty(l.Options), Remarks: orEmpty(l.Remarks)}
		if !t.IsEndless() {
			line.Lease = int64(t.Lease / time.Second)
		}
		out.Leases = append(out.Leases, line)
	}
	return writeJSON(w, out)
}

// LeasesText writes leases for people.
func LeasesText(w io.Writer, all []lease.Lease, flaws []lease.Flaw, now time.Time) error {
	var b strings.Builder
	for i, l := range all {
		if i > 0 {
			b.WriteString("\n")
		}
		where := l.Interface
		if where == "" && l.Index > 0 {
			where = fmt.Sprintf("interface %d", l.Index)
		}
		if where == "" {
			where = "interface not told"
		}
		fmt.Fprintf(&b, "%s   %s   %s\n", where, LeaseStanding(l, now), by(l))
		line := func(what, value string) {
			if value != "" {
				fmt.Fprintf(&b, "  %-13s %s\n", what, value)
			}
		}
		t := l.Terms
		line("address", t.Prefix().String())
		line("routers", list(t.Routers))
		line("name servers", list(t.Resolvers))
		line("domain", t.Domain)
		line("search", strings.Join(t.Search, ", "))
		line("given by", known(t.Server))
		if t.Lease > 0 {
			line("for", LeaseTime(t.Lease))
		}
		for _, x := range LeaseMarks(l) {
			line(x.Name, x.At.Local().Format("2006-01-02 15:04:05")+"   "+Ago(x.At.Sub(now)))
		}
		line("from", l.Source)
		for _, o := range l.Options {
			switch o.Code {
			case dhcp.OptMask, dhcp.OptRouters, dhcp.OptResolvers, dhcp.OptDomain, dhcp.OptSearch, dhcp.OptServer, dhcp.OptLease,
				dhcp.OptType:
				continue // stand above
			}
			fmt.Fprintf(&b, "  option %-6d %s: %s\n", o.Code, o.Name, o.Value)
		}
		for _, r := range l.Remarks {
			fmt.Fprintf(&b, "  ! %s\n", r)
		}
	}
	switch {
	case len(all) == 0 && len(flaws) > 0:
		b.WriteString("No lease could be read here, and not everything was: the address may be set by hand, or leased.\n")
	case len(all) == 0:
		b.WriteString("No DHCP client has written down a lease here: the address is set by hand, or there is none.\n")
	}
	for _, f := range flaws {
		fmt.Fprintf(&b, "not read: %s: %s\n", f.Source, f.Why)
	}
	_, err := io.WriteString(w, b.String())
	return err
}

func list(addrs []netip.Addr) string {
	if len(addrs) == 0 {
		return ""
	}
	return wording.List(addrs)
}

func by(l lease.Lease) string {
	if l.Client == "" {
		return "no client's file speaks of it"
	}
	return "kept by " + l.Client
}

// LeaseStanding says in a few words how a lease stands.
func LeaseStanding(l lease.Lease, now time.Time) string {
	state := string(l.At(now))
	switch {
	case l.Endless:
		state = "bound, without end"
	case state == "":
		state = "times not known"
	}
	if !l.InForce {
		return "not in force: " + state
	}
	return "in force: " + state
}

// Mark is a moment in the life of a lease.
type Mark struct {
	Name string
	At   time.Time
}

// LeaseMarks are the known moments of a lease in order.
func LeaseMarks(l lease.Lease) (out []Mark) {
	for _, m := range []Mark{{"obtained", l.Obtained}, {"T1", l.T1}, {"T2", l.T2}, {"ends", l.Expires}} {
		if !m.At.IsZero() {
			out = append(out, m)
		}
	}
	return out
}

// Ago writes a distance from now: "in 12 min 5 s", or "12 min 5 s ago".
func Ago(d time.Duration) string {
	if d < 0 {
		return LeaseTime(-d) + " ago"
	}
	return "in " + LeaseTime(d)
}
