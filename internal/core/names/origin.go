package names

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"passepartout/internal/core/evidence"
)

// Server is a name server that this machine asks, or that somebody names for it.
type Server struct {
	Address netip.Addr
	Set     bool     // this machine asks it, itself or through its forwarder
	Origin  []string // where the setting comes from, or who names it
}

// Servers lists the name servers that are set, in the order in which they are asked, then those that the lease, an offer, a router or the
// site sheet names in vain.
func Servers(s *evidence.Set) (out []Server) {
	if s == nil || s.Endpoint == nil {
		return nil
	}
	e := s.Endpoint
	by := map[netip.Addr][]string{}
	add := func(who string, addrs ...netip.Addr) {
		for _, a := range addrs {
			if a.IsValid() && !slices.Contains(by[a], who) {
				by[a] = append(by[a], who)
			}
		}
	}
	var named []netip.Addr
	note := func(who string, addrs []netip.Addr) {
		add(who, addrs...)
		for _, a := range addrs {
			if !slices.Contains(named, a) {
				named = append(named, a)
			}
		}
	}
	if l, ok := e.Lease(s.Interface); ok {
		note("lease", l.Terms.Resolvers)
	}
	if s.Discovery != nil {
		for _, o := range slices.Concat(s.Discovery.Offers, s.Discovery.Answers) {
			note(fmt.Sprintf("offer of %v", o.Server), o.Resolvers)
		}
	}
	for _, r := range s.Routers6 {
		note("router advertisement", r.Resolvers)
	}
	for _, i := range s.Informed6 {
		note("DHCPv6", i.Resolvers)
	}
	if i, ok := e.Interface(s.Interface); ok {
		if home, ok := s.Sheet.Home(e.Host, i.Hardware); ok {
			note("site sheet", home.Resolvers)
		}
	}
	for _, a := range e.AskedResolvers() {
		x := Server{Address: a, Set: true}
		for _, r := range e.Resolvers {
			if r.Address != a {
				continue
			}
			switch {
			case r.Stub:
				x.Origin = append(x.Origin, "forwarder on this machine")
			case r.Behind && e.Behind(a):
				x.Origin = append(x.Origin, "behind the forwarder")
			}
		}
		if len(by[a]) == 0 && len(x.Origin) == 0 {
			x.Origin = append(x.Origin, "by hand")
		}
		x.Origin = append(x.Origin, by[a]...)
		out = append(out, x)
	}
	for _, a := range named {
		if !slices.ContainsFunc(out, func(x Server) bool { return x.Address == a }) {
			out = append(out, Server{Address: a, Origin: by[a]})
		}
	}
	return out
}

// From writes where a server's setting comes from, the first word telling the most.
func (s Server) From() string {
	words := strings.Join(s.Origin, ", ")
	if !s.Set {
		return "not set here; named by " + words
	}
	return words
}
