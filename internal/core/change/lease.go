package change

import (
	"errors"
	"fmt"
	"slices"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/lease"
)

// leastLeasedMTU is the least MTU that is taken from a server: every host takes packets of so many octets (RFC 791 §3.2), and less would
// take more than it gives.
const leastLeasedMTU = 576

// ErrUnmanaged is that of asking a manager where there is none.
var ErrUnmanaged = errors.New("nobody manages it")

// Askable refuses, with what to do instead, where the manager of an interface cannot be told while it runs.
func Askable(manager, iface string) error {
	switch manager {
	case lease.Dhcpcd, lease.NetworkManager, lease.Networkd:
		return nil
	case "":
		return fmt.Errorf("%s: %w: passepartout lease take takes a lease", iface, ErrUnmanaged)
	case lease.Dhclient:
		return fmt.Errorf("%s is managed by dhclient, which takes no word while it runs: dhclient -r %s ends it and gives the lease back, "+
			"dhclient %s begins anew", iface, iface, iface)
	}
	return fmt.Errorf("%s is managed by %s, which cannot be told from here: ifdown %s and ifup %s begin anew", iface, manager, iface, iface)
}

// ByClient reports whether steps are for the client of DHCP that manages an interface: it does them, and nobody can take them back.
func ByClient(steps []Op) bool {
	return slices.ContainsFunc(steps, func(o Op) bool { return o.Do == RenewLease || o.Do == ReleaseLease })
}

// Before says what comes before the steps of a change, and after its end; "" if nothing does.
func (c Change) Before() string {
	t := c.Lease()
	if t == nil {
		return ""
	}
	return fmt.Sprintf("first the lease is taken from %v, if nobody has %v; it is given back when the program ends", t.Server, t.Address)
}

// Lease is what a lease on offer makes of an interface: all of its settings by IPv4, in the place of those that it has.
func Lease(iface string, t dhcp.Terms, from Settings) Change {
	set := &Static{Interface: iface, Address: t.Prefix(), Resolvers: t.Resolvers, Search: t.Search, Leased: &t}
	if !t.IsEndless() {
		set.For = t.Lease
	}
	if len(t.Routers) > 0 {
		set.Gateway = t.Routers[0]
	}
	if len(set.Search) == 0 && t.Domain != "" {
		set.Search = []string{t.Domain}
	}
	c := Change{Set: set}
	if l, ok := from.Link(iface); ok && t.MTU >= leastLeasedMTU && t.MTU != l.MTU {
		c.Steps = append(c.Steps, Op{Do: SetMTU, Interface: iface, MTU: t.MTU})
	}
	for _, r := range t.Routes {
		o := Op{Do: AddRoute, Interface: iface, Prefix: r.To.Masked(), Via: r.Via}
		led := slices.ContainsFunc(from.Routes, func(x Route) bool { return x.entry() == o.Route().entry() })
		if r.To.Bits() > 0 && r.Via.IsValid() && !led {
			c.Steps = append(c.Steps, o)
		}
	}
	return c
}
