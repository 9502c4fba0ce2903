package change

import (
	"fmt"
	"net/netip"
	"slices"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/site"
)

// WarningID names a warning in the contract.
type WarningID string

// The warnings. The first four are not passed over without being told to.
const (
	CutsRemoteSession WarningID = "cuts-remote-session"
	TakesLastAddress  WarningID = "takes-last-address"
	TakesWayOut       WarningID = "takes-way-out"
	AddressInUse      WarningID = "address-in-use"
	GatewayOutside    WarningID = "gateway-outside"
	GatewaySilent     WarningID = "gateway-silent"
	ManagerUndoes     WarningID = "manager-undoes"
	DiffersFromLease  WarningID = "differs-from-lease"
	DiffersFromSheet  WarningID = "differs-from-sheet"
)

// Grave reports whether a warning stops a change until it is insisted on.
func (w WarningID) Grave() bool {
	return w == CutsRemoteSession || w == TakesLastAddress || w == TakesWayOut || w == AddressInUse
}

// Warning is what may go wrong.
type Warning struct {
	ID   WarningID `json:"id"`
	Text string    `json:"text"`
}

// Known is what else is known of the matter, from elsewhere than the settings. What is not known is zero, and warns of nothing.
type Known struct {
	Session struct{ Local, Remote netip.Addr } // the two ends of the login's own connection
	Held    map[netip.Addr]string              // the addresses that somebody else answers for, and who
	Silent  []netip.Addr                       // the gateways that were asked and keep silent
	Host    string                             // as this machine calls itself
	Manager map[string]string                  // who manages an interface, and sets it again as it has it
	Leased  map[string]Leased                  // what an interface's lease says
	Home    map[string]site.Network            // the documented network of an interface
}

// Leased is what a lease in force says.
type Leased struct {
	Address netip.Prefix
	Gateway netip.Addr
}

func warnings(from, to Settings, k Known) (out []Warning) {
	warn := func(id WarningID, format string, args ...any) {
		out = append(out, Warning{id, fmt.Sprintf(format, args...)})
	}
	if why := cuts(&from, &to, k); why != "" {
		warn(CutsRemoteSession, "%s", why)
	}
	for _, l := range from.Links {
		had, has := usableOf(&from, l.Interface), usableOf(&to, l.Interface)
		if len(had) > 0 && len(has) == 0 {
			warn(TakesLastAddress, "%s has no address any more", l.Interface)
		}
	}
	for _, v6 := range []bool{false, true} {
		if leadsOut(&from, v6) && !leadsOut(&to, v6) {
			warn(TakesWayOut, "no route leads out of the local network any more%s", map[bool]string{true: ", by IPv6"}[v6])
		}
	}
	for _, a := range to.Addresses {
		if slices.Contains(from.Addresses, a) {
			continue
		}
		if who, held := k.Held[a.Prefix.Addr()]; held {
			warn(AddressInUse, "%v is in use: %s answers for it", a.Prefix.Addr(), who)
		}
		if l, ok := k.Leased[a.Interface]; ok && a.Prefix.Addr().Is4() && l.Address != a.Prefix &&
			!slices.Contains(to.Addresses, Address{a.Interface, l.Address}) {
			warn(DiffersFromLease, "the lease of %s is of %v", a.Interface, l.Address)
		}
		if why := undocumented(k.Home[a.Interface], k.Host, a.Prefix); why != "" {
			warn(DiffersFromSheet, "%s", why)
		}
	}
	was, is := from.bench(), to.bench()
	for _, r := range to.Routes {
		outside := !is.reaches(r.Interface, r.Via)
		if !r.Via.IsValid() || was.has(r) && (!outside || !was.reaches(r.Interface, r.Via)) {
			continue
		}
		if outside {
			warn(GatewayOutside, "the gateway %v lies in no network of %s", r.Via, r.Interface)
		}
		if slices.Contains(k.Silent, r.Via) {
			warn(GatewaySilent, "the gateway %v does not answer from here", r.Via)
		}
		if l, ok := k.Leased[r.Interface]; ok && r.IsDefault() && r.To.Addr().Is4() && l.Gateway.IsValid() && l.Gateway != r.Via {
			warn(DiffersFromLease, "the lease of %s names the gateway %v", r.Interface, l.Gateway)
		}
		gateways := slices.DeleteFunc(slices.Clone(k.Home[r.Interface].Gateways),
			func(g netip.Addr) bool { return g.Is6() != r.Via.Is6() })
		if r.IsDefault() && len(gateways) > 0 && !slices.Contains(gateways, r.Via) {
			warn(DiffersFromSheet, "the documented gateway is %v", gateways[0])
		}
	}
	for _, l := range to.Links {
		if by := k.Manager[l.Interface]; by != "" && !sameOn(&from, &to, l.Interface) {
			warn(ManagerUndoes, "%s manages %s, and sets it again as it has it", by, l.Interface)
		}
	}
	return out
}

// undocumented says what the site sheet has against an address; "" for nothing. One that stands alone is a visitor's.
func undocumented(home site.Network, host string, a netip.Prefix) string {
	prefixes := slices.DeleteFunc(slices.Clone(home.Prefixes), func(p netip.Prefix) bool { return p.Addr().Is6() != a.Addr().Is6() })
	if a.IsSingleIP() || len(prefixes) == 0 {
		return ""
	}
	if !slices.Contains(prefixes, a.Masked()) {
		return fmt.Sprintf("the documented network is %v", prefixes[0])
	}
	if own, ok := home.Machine(host, endpoint.HardwareAddr{}); ok && own.Address == a.Addr() {
		return ""
	}
	if use := home.Use(a.Addr()); use != "" {
		return fmt.Sprintf("%v is documented as: %s", a.Addr(), use)
	}
	return ""
}

// usableOf are the addresses of an interface by which others reach it.
func usableOf(s *Settings, name string) []netip.Prefix {
	return slices.DeleteFunc(slices.Concat(s.On(name, false), s.On(name, true)), func(p netip.Prefix) bool {
		return p.Addr().IsLinkLocalUnicast()
	})
}

func leadsOut(s *Settings, v6 bool) bool {
	return slices.ContainsFunc(s.Routes, func(r Route) bool { return r.IsDefault() && r.To.Addr().Is6() == v6 })
}

// cuts says why the login's own connection would not go on.
func cuts(from, to *Settings, k Known) string {
	local, remote := k.Session.Local, k.Session.Remote
	has := func(s *Settings) (string, bool) {
		for _, a := range s.Addresses {
			if a.Prefix.Addr() == local {
				return a.Interface, true
			}
		}
		return "", false
	}
	name, had := has(from)
	if !had {
		return ""
	}
	link, _ := to.Link(name)
	switch _, stays := has(to); {
	case !stays:
		return fmt.Sprintf("you are logged in from %v at %v, which goes", remote, local)
	case !link.Up:
		return fmt.Sprintf("you are logged in from %v by %s, which is switched off", remote, name)
	case carries(from, remote) && !carries(to, remote):
		return fmt.Sprintf("you are logged in from %v, to which no route leads any more", remote)
	}
	return ""
}

// carries reports whether some network or route of the settings leads to an address.
func carries(s *Settings, a netip.Addr) bool {
	if slices.ContainsFunc(s.Addresses, func(x Address) bool { return x.Prefix.Masked().Contains(a) }) {
		return true
	}
	return slices.ContainsFunc(s.Routes, func(r Route) bool { return r.To.Contains(a) })
}

// sameOn reports whether nothing of an interface parts two settings.
func sameOn(a, b *Settings, name string) bool {
	la, _ := a.Link(name)
	lb, _ := b.Link(name)
	mine := func(s *Settings) (out []Route) {
		for _, r := range s.Routes {
			if r.Interface == name {
				out = append(out, r)
			}
		}
		return out
	}
	return la == lb && slices.Equal(a.On(name, false), b.On(name, false)) && slices.Equal(a.On(name, true), b.On(name, true)) &&
		slices.Equal(mine(a), mine(b))
}
