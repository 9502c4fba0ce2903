package evidence

import (
	"net/netip"
	"slices"
	"strings"

	"passepartout/internal/core/library"
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
	got := s.SystemLookup()
	if got.Status != library.Found {
		return nil, ""
	}
	addrs = slices.Compact(slices.SortedFunc(slices.Values(got.Addresses), netip.Addr.Compare))
	if !got.ByDNS {
		return s.allowed(addrs), "hosts file"
	}
	return s.allowed(addrs), "DNS"
}

// SystemLookup is what a program on this machine gets for the target's name, and how long it waits for it, by all that is known of the
// servers so far. Who has not answered yet counts as silent.
func (s *Set) SystemLookup() library.Outcome {
	settings := library.Of(s.Endpoint, s.Target.Name)
	got := library.Resolve(settings, func(q library.Question) library.Reply {
		r := library.Reply{Fate: library.Silence}
		for _, l := range s.Lookups {
			if l.Server != q.Server.WithZone("") || l.Name != q.Name || !l.AboutTarget() {
				continue
			}
			is := fateOf(l, q.TCP)
			if l.Type == q.Type {
				return is
			}
			is.Addresses, is.Records, is.Truncated = nil, false, false // of a family that is not asked for, what was said of the other
			r = is
		}
		return r
	})
	open := slices.Contains(s.Open, NameLookup) || len(s.Lookups) == 0 && len(settings.Servers) > 0
	if open && !got.ByDNS && len(got.Asked) > 0 {
		return library.Outcome{} // the hosts file counts when DNS, which comes first, has nothing
	}
	return got
}

// fateOf is what the library makes of a look-up of ours.
func fateOf(l Lookup, tcp bool) library.Reply {
	switch l.Outcome {
	case Answered:
		if tcp && l.Cut {
			return library.Reply{Fate: library.Refused}
		}
		return library.Reply{Fate: library.Message, After: l.RTT, RCode: l.RCode, Addresses: l.Addresses, Records: len(l.Records) > 0,
			Truncated: l.Truncated && !tcp}
	case Refused, Unreachable, Expired, LocalError:
		return library.Reply{Fate: library.Refused, After: l.RTT}
	}
	return library.Reply{Fate: library.Silence}
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
