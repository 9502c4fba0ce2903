package evidence

import (
	"net/netip"
	"slices"
	"strings"

	"passepartout/internal/core/endpoint"
)

// OwnName is where addresses come from that belong to a name of this machine for itself.
const OwnName = "this machine itself"

// TargetAddresses returns the addresses under which the target is to be reached, and where they come from: given outright, from the hosts
// file or the resolvers, as the system goes about it. Empty while none is known.
func (s *Set) TargetAddresses() (addrs []netip.Addr, source string) {
	if s.Target.Addr.IsValid() {
		return []netip.Addr{s.Target.Addr}, "given"
	}
	if s.Endpoint == nil || s.Target.Name == "" {
		return nil, ""
	}
	if own := strings.ToLower(s.Target.Name); own == "localhost" || strings.HasSuffix(own, ".localhost") { // RFC 6761 §6.3
		return s.allowed([]netip.Addr{netip.MustParseAddr("127.0.0.1"), netip.IPv6Loopback()}), OwnName
	}
	open := false // a way that comes before has not come to its end
	for _, way := range s.Endpoint.NameWays() {
		switch way {
		case endpoint.ByHostsFile:
			if found := s.Endpoint.HostsEntries(s.Target.Name); len(found) > 0 && !open {
				return s.allowed(found), "hosts file"
			}
		case endpoint.ByDNS:
			if addrs = s.lookedUp(); len(addrs) > 0 {
				return s.allowed(addrs), "DNS"
			}
			open = slices.Contains(s.Open, NameLookup) || len(s.Lookups) == 0 && len(s.Endpoint.AskedResolvers()) > 0
		}
	}
	return nil, ""
}

// lookedUp are the addresses that programs get by DNS.
func (s *Set) lookedUp() (addrs []netip.Addr) {
	names, _ := s.Endpoint.Completed(s.Target.Name)
	for _, name := range names {
		for _, server := range s.Endpoint.AskedResolvers() {
			if s.Endpoint.Behind(server) {
				continue // programs ask the stub: what it cannot say does not help them
			}
			denied := false
			for _, l := range s.Lookups {
				if l.Server == server && l.Name == name && l.Outcome == Answered {
					denied = denied || l.RCode == "NXDOMAIN" && l.AboutTarget()
					for _, a := range l.Addresses {
						if !slices.Contains(addrs, a) {
							addrs = append(addrs, a)
						}
					}
				}
			}
			if len(addrs) > 0 {
				slices.SortFunc(addrs, netip.Addr.Compare)
				return addrs
			}
			if denied { // "no such name" ends it: the servers that follow are not asked (resolv.conf(5))
				break
			}
		}
	}
	return nil
}

// OtherAddresses are those that resolvers give for the target's name and that programs here do not get: another server's answer, or DNS's
// own where the hosts file says something else.
func (s *Set) OtherAddresses() (out []netip.Addr) {
	if s.Target.Name == "" || s.Endpoint == nil {
		return nil
	}
	used, _ := s.TargetAddresses()
	names, _ := s.Endpoint.Completed(s.Target.Name)
	for _, l := range slices.Concat(s.Lookups, s.Elsewhere) {
		if !l.AboutTarget() || !slices.Contains(names, l.Name) {
			continue
		}
		for _, a := range l.Addresses {
			if !slices.Contains(used, a) && !slices.Contains(out, a) {
				out = append(out, a)
			}
		}
	}
	slices.SortFunc(out, netip.Addr.Compare)
	return s.allowed(out)
}

func (s *Set) allowed(addrs []netip.Addr) []netip.Addr {
	return slices.DeleteFunc(slices.Clone(addrs), func(a netip.Addr) bool { return !s.Families.Allows(a) })
}
