package endpoint

import (
	"cmp"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"passepartout/internal/core/lease"
	"passepartout/internal/core/subnet"
)

// Interface returns the interface of that name.
func (e *Endpoint) Interface(name string) (*Interface, bool) {
	for i := range e.Interfaces {
		if e.Interfaces[i].Name == name {
			return &e.Interfaces[i], true
		}
	}
	return nil, false
}

// ErrNoInterface is the error for an interface that the machine does not have.
var ErrNoInterface = errors.New("no such interface")

// Check refuses a name that no interface of the machine has; the empty name means any.
func (e *Endpoint) Check(name string) error {
	if _, ok := e.Interface(name); ok || name == "" {
		return nil
	}
	var names []string
	for _, i := range e.Interfaces {
		names = append(names, i.Name)
	}
	return fmt.Errorf("%w: %q; this machine has %s", ErrNoInterface, name, strings.Join(names, ", "))
}

// CheckTarget refuses an address that means all hosts of a network of this machine (RFC 919 §7): nobody answers for it, and the system
// sends nothing there.
func (e *Endpoint) CheckTarget(a netip.Addr) error {
	for _, i := range e.Interfaces {
		for _, own := range i.Addresses {
			if p := own.Prefix; p.Contains(a) && !subnet.Usable(p, a) && subnet.Last(p) == a && !e.Owns(a) {
				return fmt.Errorf("%v means all hosts of %v, the network of %s, and not one; give one of them, or correct the mask if it is wrong",
					a, p.Masked(), i.Name)
			}
		}
	}
	return nil
}

// mainTable is the routing table that is used where no rule says otherwise (RT_TABLE_MAIN).
const mainTable = 254

// DefaultRoutes returns the routes of the main table that lead everywhere in the given family, the one in force first.
// Routes that refuse traffic count: they are in force too.
func (e *Endpoint) DefaultRoutes(v6 bool) []Route {
	var out []Route
	for _, r := range e.Routes {
		if r.IsDefault() && r.To.Addr().Is6() == v6 && (r.Table == 0 || r.Table == mainTable) {
			out = append(out, r)
		}
	}
	slices.SortStableFunc(out, func(a, b Route) int { return a.Metric - b.Metric })
	return out
}

// SeveralDefaults reports whether there is more than one default route in any family.
func (e *Endpoint) SeveralDefaults() bool {
	return len(e.DefaultRoutes(false)) > 1 || len(e.DefaultRoutes(true)) > 1
}

// Gateway returns the default gateway in force in the given family on that interface.
func (e *Endpoint) Gateway(iface string, v6 bool) (netip.Addr, bool) {
	for _, r := range e.DefaultRoutes(v6) {
		if r.Interface == iface && r.Via.IsValid() {
			return r.Via, true
		}
	}
	return netip.Addr{}, false
}

// Leaves names the interface by which traffic to an address leaves, by the most specific route of the main table; "" if there is none.
func (e *Endpoint) Leaves(a netip.Addr) (iface string) {
	r, _ := e.route(a)
	return r.Interface
}

// NextHop is the router that the tables name for an address; false where they name none.
func (e *Endpoint) NextHop(a netip.Addr) (via netip.Addr, ok bool) {
	r, _ := e.route(a)
	return r.Via, r.Via.IsValid()
}

// route is the entry for an address: of the table to which a rule leads, else of the main one.
func (e *Endpoint) route(a netip.Addr) (best Route, found bool) {
	if _, best, ruled := e.Ruled(a); ruled {
		return best, best.To.IsValid()
	}
	return e.MainRoute(a)
}

// OfMain reports whether a route stands in the main table.
func (e *Endpoint) OfMain(r Route) bool { return cmp.Or(r.Table, mainTable) == mainTable }

// MainRoute is the main table's entry for an address.
func (e *Endpoint) MainRoute(a netip.Addr) (Route, bool) { return e.lookUp(a, mainTable, 0) }

// lookUp is a table's entry for an address: the most specific one, and of those the one with the lowest metric. Entries for less than so
// many bits do not count.
func (e *Endpoint) lookUp(a netip.Addr, table, least int) (best Route, found bool) {
	for _, r := range e.Routes {
		if cmp.Or(r.Table, mainTable) != table || r.To.Bits() < least || !r.To.Masked().Contains(a) ||
			found && (r.To.Bits() < best.To.Bits() || r.To.Bits() == best.To.Bits() && r.Metric >= best.Metric) {
			continue
		}
		best, found = r, true
	}
	return best, found
}

// OnLink reports whether a lies within a prefix of the interface, so that it is asked for directly and not through a gateway.
// IPv6 link-local addresses always do.
func (i *Interface) OnLink(a netip.Addr) bool {
	_, ok := i.PrefixFor(a)
	return ok
}

// PrefixFor returns the longest prefix of the interface that holds a.
func (i *Interface) PrefixFor(a netip.Addr) (netip.Prefix, bool) {
	a = a.WithZone("")
	var best netip.Prefix
	for _, own := range i.Addresses {
		if own.Prefix.Masked().Contains(a) && (!best.IsValid() || own.Prefix.Bits() > best.Bits()) {
			best = own.Prefix
		}
	}
	return best, best.IsValid()
}

// Usable returns the interface's addresses of a family with which traffic can be expected to leave the segment: no
// self-assigned, link-local or duplicate ones.
func (i *Interface) Usable(v6 bool) []Address {
	var out []Address
	for _, a := range i.Addresses {
		if a.Prefix.Addr().Is6() == v6 && subnet.KindOf(a.Prefix.Addr()).Routable() && !a.Duplicate {
			out = append(out, a)
		}
	}
	return out
}

// LinkLocal returns the IPv6 link-local address under which the machine speaks with its routers; false if there is none that may be used.
func (i *Interface) LinkLocal() (netip.Addr, bool) {
	for _, a := range i.Addresses {
		if own := a.Prefix.Addr(); own.Is6() && own.IsLinkLocalUnicast() && !a.Tentative && !a.Duplicate {
			return own, true
		}
	}
	return netip.Addr{}, false
}

// SelfAssigned returns the 169.254.0.0/16 address that the machine gave itself (RFC 3927), if it has one.
func (i *Interface) SelfAssigned() (Address, bool) {
	for _, a := range i.Addresses {
		if subnet.KindOf(a.Prefix.Addr()) == subnet.SelfAssigned {
			return a, true
		}
	}
	return Address{}, false
}

// Owns reports whether a is an address of this machine: one of its interfaces', or any of 127.0.0.0/8, of which an interface shows one
// (RFC 1122 §3.2.1.3).
func (e *Endpoint) Owns(a netip.Addr) bool {
	a = a.WithZone("")
	if a.IsLoopback() {
		return true
	}
	for _, i := range e.Interfaces {
		for _, own := range i.Addresses {
			if own.Prefix.Addr() == a {
				return true
			}
		}
	}
	return false
}

// HostsEntries returns the addresses that the hosts file gives to name.
func (e *Endpoint) HostsEntries(name string) []netip.Addr {
	var out []netip.Addr
	for _, line := range e.Hosts {
		if slices.ContainsFunc(line.Names, func(n string) bool { return strings.EqualFold(n, name) }) &&
			!slices.Contains(out, line.Address) {
			out = append(out, line.Address)
		}
	}
	return out
}

// AskedResolvers returns the addresses of the resolvers that are asked, each once: by programs, then those behind a local stub.
func (e *Endpoint) AskedResolvers() []netip.Addr {
	var out []netip.Addr
	for _, behind := range []bool{false, true} {
		for _, r := range e.Resolvers {
			if r.Behind == behind && !r.Passed && !slices.Contains(out, r.Address) {
				out = append(out, r.Address)
			}
		}
	}
	return out
}

// Behind reports whether a resolver is asked by a local stub only, and not by programs.
func (e *Endpoint) Behind(a netip.Addr) bool {
	return !slices.ContainsFunc(e.Resolvers, func(r Resolver) bool { return r.Address == a && !r.Behind })
}

// Choose names the interface that a technician would mean when none was named: the one of the best default route, else one that a cable or
// an antenna leads to, and of those the one that looks most alive. It is false on a machine that has loopback alone.
func (e *Endpoint) Choose() (string, bool) {
	for _, v6 := range []bool{false, true} {
		for _, r := range e.DefaultRoutes(v6) {
			if i, ok := e.Interface(r.Interface); ok && i.Kind != LoopbackKind {
				return r.Interface, true
			}
		}
	}
	best, bestRank := "", -1
	for _, i := range e.Interfaces {
		if i.Kind == LoopbackKind {
			continue
		}
		if rank := e.rank(i); rank > bestRank {
			best, bestRank = i.Name, rank
		}
	}
	return best, best != ""
}

// rank is how much an interface looks like the one by which this machine is connected. What containers, virtual machines and tunnels bring
// is alive on every machine that has them, whether or not that is.
func (e *Endpoint) rank(i Interface) (rank int) {
	if e.outward(i) {
		rank += 64
	}
	if i.Master != "" { // what it is a member of has the addresses
		rank -= 32
	}
	if _, asked := i.SelfAssigned(); asked || len(i.Usable(false))+len(i.Usable(true)) > 0 { // or it has asked for one, in vain
		rank += 16
	}
	if i.Up && i.Carrier == CarrierPresent {
		rank += 8
	}
	if i.Up {
		rank += 4
	}
	switch i.Kind {
	case Wired:
		rank += 2
	case Wireless:
		rank++
	}
	return rank
}

// RoutedIn reports whether a table has a default route.
func (e *Endpoint) RoutedIn(table int, v6 bool) bool {
	return slices.ContainsFunc(e.Routes, func(r Route) bool { return r.Table == table && r.To.Bits() == 0 && r.To.Addr().Is6() == v6 })
}

// Inside reports whether an interface is a bridge of this machine to which no cable or antenna leads: what stands on it are containers or
// virtual machines of its own.
func (e *Endpoint) Inside(i Interface) bool { return i.Kind == Bridge && !e.outward(i) }

// outward reports whether a cable or an antenna leads to an interface, be it by one of its members. The cable to a container, which is a
// member of a bridge as well, is none.
func (e *Endpoint) outward(i Interface) bool {
	if i.Kind == Wired || i.Kind == Wireless {
		return i.Master == "" || i.Driver != containerCable
	}
	return slices.ContainsFunc(e.Interfaces, func(m Interface) bool { return m.Master == i.Name && e.outward(m) })
}

// containerCable is the driver of the cables that lead to containers (veth(4)).
const containerCable = "veth"

// OnLink reports whether an address lies on a segment of any of the machine's interfaces.
func (e *Endpoint) OnLink(a netip.Addr) bool {
	return slices.ContainsFunc(e.Interfaces, func(i Interface) bool { return i.OnLink(a) })
}

// TakeLeases takes in what the clients' files say, and decides by the kernel's addresses which of them is in force. An address that a lease
// in force names is not set by hand, though it may look static: leases without an end leave no lifetime.
func (e *Endpoint) TakeLeases(found []lease.Lease, flaws []lease.Flaw) {
	var held []lease.Held
	for _, i := range e.Interfaces {
		for _, a := range i.Addresses {
			if a.Prefix.Addr().Is4() && subnet.KindOf(a.Prefix.Addr()).Routable() {
				h := lease.Held{Interface: i.Name, Index: i.Index, Address: a.Prefix}
				if a.Limited {
					h.Expires = e.At.Add(a.Valid)
				}
				held = append(held, h)
			}
		}
	}
	for i := range found { // numbers of interfaces that have no address now
		for _, known := range e.Interfaces {
			if found[i].Interface == "" && found[i].Index == known.Index {
				found[i].Interface = known.Name
			}
		}
	}
	e.Leases, e.LeaseFlaws = lease.Settle(found, held, e.At), flaws
	for _, l := range e.Leases {
		if !l.InForce || l.Client == "" {
			continue
		}
		for i := range e.Interfaces {
			for k := range e.Interfaces[i].Addresses {
				if a := &e.Interfaces[i].Addresses[k]; e.Interfaces[i].Name == l.Interface && a.Prefix.Addr() == l.Terms.Address {
					a.Origin = ByDHCP
				}
			}
		}
	}
}

// Lease gives the lease in force of an interface.
func (e *Endpoint) Lease(iface string) (lease.Lease, bool) { return lease.For(e.Leases, iface) }
