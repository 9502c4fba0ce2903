// Package change says what is to be different on this machine, and works out by which steps, from the settings as they are: pure, without a
// system to do it on. A plan knows its way back.
package change

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/subnet"
)

// Settings are those of a machine's settings that can be changed here. What the system makes by itself of others (routes of its addresses,
// link-local addresses, what routers advertise) is none of them.
type Settings struct {
	Links      []Link       `json:"links"`
	Addresses  []Address    `json:"addresses"`
	Routes     []Route      `json:"routes"`
	Neighbours []Neighbour  `json:"neighbours"` // set by hand
	Resolvers  []netip.Addr `json:"name_servers"`
	Search     []string     `json:"search"`
	Rules      []Rule       `json:"rules"`
	Hosts      []Host       `json:"hosts"`   // of a hosts file that is no list of thousands
	Sources    string       `json:"sources"` // where programs look for hosts, as nsswitch.conf(5) has it; "": it says nothing
	// Stored is what managers keep of interfaces, and set again.
	Stored []endpoint.Stored `json:"stored,omitempty"`
	// Made are addresses that the interfaces gave themselves from what routers advertise: nobody sets them, and what they carry counts.
	Made []Address `json:"made,omitempty"`
}

// Link is an interface's own.
type Link struct {
	Interface string `json:"interface"`
	Up        bool   `json:"on"`
	MTU       int    `json:"mtu"` // octets of an IP packet
}

// Address is one address of an interface.
type Address struct {
	Interface string       `json:"interface"`
	Prefix    netip.Prefix `json:"address"` // host bits kept
}

// Route is one entry of the main table.
type Route struct {
	To        netip.Prefix `json:"to"`
	Via       netip.Addr   `json:"via,omitzero"` // zero: on the link itself
	Interface string       `json:"interface"`
	Source    netip.Addr   `json:"source,omitzero"` // preferred, or zero
	Metric    int          `json:"metric,omitempty"`
	Protocol  int          `json:"protocol"`          // who set it (rtnetlink(7))
	OnLink    bool         `json:"on_link,omitempty"` // no network of the interface holds the gateway: it is declared to be on the link
}

// Neighbour is an entry of the neighbour table that is not asked for.
type Neighbour struct {
	Interface string                `json:"interface"`
	Address   netip.Addr            `json:"address"`
	Hardware  endpoint.HardwareAddr `json:"hardware"`
}

// Rule is a rule by which packets are looked up in a table of their own: those that are told by nothing but source and destination.
type Rule struct {
	Priority int          `json:"priority"`
	IPv6     bool         `json:"ipv6,omitempty"`
	From     netip.Prefix `json:"from,omitzero"`
	To       netip.Prefix `json:"to,omitzero"`
	Table    int          `json:"table"`
}

// Host is a name to which the hosts file gives an address.
type Host struct {
	Address netip.Addr `json:"address"`
	Name    string     `json:"name"`
}

// mostHosts is how many names of the hosts file are settings: longer ones are lists that somebody else keeps.
const mostHosts = 500

// byHand is the number of routes that an administrator sets (RTPROT_BOOT, rtnetlink(7)).
const byHand = 3

// Of reads them from what a machine says of itself.
func Of(e *endpoint.Endpoint) (s Settings) {
	for _, i := range e.Interfaces {
		if i.Kind == endpoint.LoopbackKind {
			continue
		}
		s.Links = append(s.Links, Link{i.Name, i.Up, i.MTU})
		for _, a := range i.Addresses {
			switch own := (Address{i.Name, a.Prefix}); {
			case !ownMaking(a):
				s.Addresses = append(s.Addresses, own)
			case a.Origin == endpoint.ByRouterAdvertisement:
				s.Made = append(s.Made, own)
			}
		}
	}
	for _, r := range e.Routes {
		if mine, ok := ofMain(r); ok && e.OfMain(r) {
			s.Routes = append(s.Routes, mine)
		}
	}
	for _, n := range e.Neighbours {
		if n.State == endpoint.Permanent && subnet.KindOf(n.Address) != subnet.Multicast {
			s.Neighbours = append(s.Neighbours, Neighbour{n.Interface, n.Address, n.Hardware})
		}
	}
	for _, r := range e.Resolvers {
		if !r.Behind {
			s.Resolvers = append(s.Resolvers, r.Address)
		}
	}
	s.Search = slices.Clone(e.Search)
	for _, r := range e.Rules {
		if mine, ok := ruleOf(r); ok {
			s.Rules = append(s.Rules, mine)
		}
	}
	for _, l := range e.Hosts {
		for _, name := range l.Names {
			s.Hosts = append(s.Hosts, Host{l.Address, name})
		}
	}
	s.Sources = sourcesOf(e.Switching)
	s.Stored = slices.Clone(e.Stored)
	if len(s.Hosts) > mostHosts {
		s.Hosts = nil
	}
	s.sort()
	return s
}

// ofMain is a route as one of the settings; false for those that the system makes by itself of others, and for those that lead nowhere.
func ofMain(r endpoint.Route) (Route, bool) {
	made := r.Origin == endpoint.ByKernel || r.Origin == endpoint.ByRouterAdvertisement
	return Route{r.To.Masked(), r.Via, r.Interface, r.Source, r.Metric, r.Protocol, r.OnLink},
		!made && r.Verdict == endpoint.Forward && r.Interface != ""
}

// ruleOf is a rule as one of the settings; false for those that are told by more.
func ruleOf(r endpoint.Rule) (Rule, bool) {
	plain := !r.Mark && !r.Incoming && !r.Other && !r.Not && !r.Refuses && r.LeastBits == 0
	return Rule{r.Priority, r.IPv6, r.From, r.To, r.Table}, plain
}

// RuleRemoval is the step that takes a rule away; false for one that cannot be.
func RuleRemoval(r endpoint.Rule) (Op, bool) {
	mine, ok := ruleOf(r)
	return ruleOp(RemoveRule, mine), ok
}

// Removal is the step that takes a route of the main table away; false for one that cannot be.
func Removal(r endpoint.Route) (Op, bool) {
	mine, ok := ofMain(r)
	return routeOp(RemoveRoute, mine), ok
}

// ownMaking reports whether the system gave itself an address: it comes and goes with the interface.
func ownMaking(a endpoint.Address) bool {
	return a.Prefix.Addr().Is6() && (a.Prefix.Addr().IsLinkLocalUnicast() || a.Origin == endpoint.ByRouterAdvertisement) ||
		a.Prefix.Addr().IsLoopback()
}

// sort brings the parts into the order in which they are compared; that of the addresses of one interface and family stays.
func (s *Settings) sort() {
	slices.SortStableFunc(s.Addresses, func(a, b Address) int {
		return cmp.Or(cmp.Compare(a.Interface, b.Interface), cmp.Compare(a.Prefix.Addr().BitLen(), b.Prefix.Addr().BitLen()))
	})
	s.bench().settle()
	slices.SortFunc(s.Links, func(a, b Link) int { return cmp.Compare(a.Interface, b.Interface) })
	slices.SortFunc(s.Routes, Route.compare)
	slices.SortFunc(s.Neighbours, func(a, b Neighbour) int {
		return cmp.Or(cmp.Compare(a.Interface, b.Interface), a.Address.Compare(b.Address))
	})
	slices.SortStableFunc(s.Rules, func(a, b Rule) int {
		return cmp.Or(cmp.Compare(a.Priority, b.Priority), strings.Compare(fmt.Sprint(a), fmt.Sprint(b)))
	})
	slices.SortStableFunc(s.Hosts, func(a, b Host) int { return cmp.Or(cmp.Compare(a.Name, b.Name), a.Address.Compare(b.Address)) })
}

// compare has routes on the link itself before those by a gateway, which they may carry.
func (r Route) compare(o Route) int {
	through := func(r Route) int {
		if r.Via.IsValid() {
			return 1
		}
		return 0
	}
	return cmp.Or(cmp.Compare(through(r), through(o)), -cmp.Compare(r.To.Bits(), o.To.Bits()), r.To.Addr().Compare(o.To.Addr()),
		cmp.Compare(r.Metric, o.Metric), cmp.Compare(r.Interface, o.Interface), r.Via.Compare(o.Via), r.Source.Compare(o.Source),
		cmp.Compare(r.Protocol, o.Protocol))
}

// IsDefault reports whether it leads everywhere.
func (r Route) IsDefault() bool { return r.To.Bits() == 0 }

// Clone is a copy that shares nothing.
func (s *Settings) Clone() Settings {
	return Settings{slices.Clone(s.Links), slices.Clone(s.Addresses), slices.Clone(s.Routes), slices.Clone(s.Neighbours),
		slices.Clone(s.Resolvers), slices.Clone(s.Search), slices.Clone(s.Rules), slices.Clone(s.Hosts), s.Sources,
		slices.Clone(s.Stored), slices.Clone(s.Made)}
}

// Equal reports whether two are the same, whatever addresses the interfaces gave themselves. The order of addresses counts: the first one
// is spoken from.
func (s *Settings) Equal(o *Settings) bool {
	return slices.Equal(s.Links, o.Links) && slices.Equal(s.Addresses, o.Addresses) && slices.Equal(s.Routes, o.Routes) &&
		slices.Equal(s.Neighbours, o.Neighbours) && slices.Equal(s.Resolvers, o.Resolvers) && slices.Equal(s.Search, o.Search) &&
		slices.Equal(s.Rules, o.Rules) && slices.Equal(s.Hosts, o.Hosts) && s.Sources == o.Sources && slices.Equal(s.Stored, o.Stored)
}

// Link is that of an interface.
func (s *Settings) Link(name string) (Link, bool) {
	for _, l := range s.Links {
		if l.Interface == name {
			return l, true
		}
	}
	return Link{}, false
}

// On are the addresses of an interface, of one family.
func (s *Settings) On(name string, v6 bool) (out []netip.Prefix) {
	for _, a := range s.Addresses {
		if a.Interface == name && a.Prefix.Addr().Is6() == v6 {
			out = append(out, a.Prefix)
		}
	}
	return out
}
