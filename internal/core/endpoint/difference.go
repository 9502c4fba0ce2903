package endpoint

import (
	"fmt"
	"slices"

	"passepartout/internal/core/lease"
	"passepartout/internal/core/wording"
)

// Aspect is a part of a machine's settings in which two readings of it can differ.
type Aspect uint8

// The aspects, those that others follow from first.
const (
	AspectLink Aspect = iota
	AspectAddress
	AspectRoute
	AspectResolver
	AspectHosts
	AspectProxy
	AspectLease
)

// Difference is one way in which a machine is no longer as it was.
type Difference struct {
	In   Aspect
	What string
	// Broken: what stood there does not stand any more, so that whatever rested on it has gone with it.
	Broken bool
	// Renewed: a lease that goes on; nothing rests on it otherwise than before.
	Renewed bool
}

// Differences lists what has changed in a machine's settings between two readings, and is empty where nothing has that matters.
func Differences(was, is *Endpoint) (out []Difference) {
	add := func(in Aspect, broken bool, format string, args ...any) {
		out = append(out, Difference{In: in, What: fmt.Sprintf(format, args...), Broken: broken})
	}
	for _, old := range was.Interfaces {
		now, ok := is.Interface(old.Name)
		switch {
		case !ok:
			add(AspectLink, true, "%s has gone", old.Name)
			continue
		case old.Up != now.Up && !now.Up:
			add(AspectLink, true, "%s was switched off", old.Name)
		case old.Up != now.Up:
			add(AspectLink, false, "%s was switched on", old.Name)
		case old.Carrier != now.Carrier && now.Carrier == CarrierAbsent:
			add(AspectLink, true, "%s has lost its signal", old.Name)
		case old.Carrier != now.Carrier && now.Carrier == CarrierPresent:
			add(AspectLink, false, "%s has a signal again", old.Name)
		}
		if old.MTU != now.MTU {
			add(AspectLink, false, "%s takes packets of up to %d octets now, before %d", old.Name, now.MTU, old.MTU)
		}
		out = append(out, addressDifferences(&old, now)...)
	}
	for _, now := range is.Interfaces {
		if _, known := was.Interface(now.Name); !known {
			add(AspectLink, false, "%s has come", now.Name)
		}
	}
	if d := routeDifference(was.Routes, is.Routes); d != "" {
		add(AspectRoute, false, "%s", d)
	}
	if !slices.Equal(was.Rules, is.Rules) {
		add(AspectRoute, false, "the rules by which routes are chosen were changed")
	}
	if !slices.Equal(was.Resolvers, is.Resolvers) || !slices.Equal(was.Search, is.Search) {
		add(AspectResolver, false, "the name servers were changed")
	}
	if !slices.Equal(was.Switching, is.Switching) {
		add(AspectResolver, false, "where programs look for names was changed")
	}
	if !slices.EqualFunc(was.Hosts, is.Hosts,
		func(a, b HostsLine) bool { return a.Address == b.Address && slices.Equal(a.Names, b.Names) }) {
		add(AspectHosts, false, "the hosts file was changed")
	}
	if !slices.Equal(was.Proxies, is.Proxies) {
		add(AspectProxy, false, "the proxy settings were changed")
	}
	return append(out, leaseDifferences(was.Leases, is.Leases)...)
}

func addressDifferences(old, now *Interface) (out []Difference) {
	has := func(list []Address, a Address) bool {
		return slices.ContainsFunc(list, func(b Address) bool { return a.Prefix == b.Prefix && a.Duplicate == b.Duplicate })
	}
	for _, a := range old.Addresses {
		if !has(now.Addresses, a) {
			out = append(out,
				Difference{In: AspectAddress, What: fmt.Sprintf("%s has lost the address %v", old.Name, a.Prefix), Broken: true})
		}
	}
	for _, a := range now.Addresses {
		if !has(old.Addresses, a) {
			out = append(out, Difference{In: AspectAddress, What: fmt.Sprintf("%s has got the address %v", old.Name, a.Prefix)})
		}
	}
	return out
}

// without gives those of a list that another lacks. Machines have ten thousand routes, and notices come often.
func without[T comparable](list, other []T) (out []T) {
	if slices.Equal(list, other) {
		return nil
	}
	has := make(map[T]bool, len(other))
	for _, x := range other {
		has[x] = true
	}
	for _, x := range list {
		if !has[x] {
			out = append(out, x)
		}
	}
	return out
}

func routeDifference(was, is []Route) string {
	gone, come := without(was, is), without(is, was)
	byDefault := func(list []Route) (Route, bool) {
		i := slices.IndexFunc(list, Route.IsDefault)
		if i < 0 {
			return Route{}, false
		}
		return list[i], true
	}
	d, lost := byDefault(gone)
	n, got := byDefault(come)
	switch {
	case len(gone)+len(come) == 0:
		return ""
	case lost && got:
		return fmt.Sprintf("the default route leads by %s now, before by %s", way(n), way(d))
	case lost:
		return fmt.Sprintf("the default route by %s has gone", way(d))
	case got:
		return fmt.Sprintf("a default route by %s has come", way(n))
	case len(come) > 0:
		return fmt.Sprintf("the route to %v leads by %s now", come[0].To, way(come[0]))
	}
	return fmt.Sprintf("the route to %v has gone", gone[0].To)
}

func way(r Route) string {
	if r.Via.IsValid() {
		return r.Via.String()
	}
	return r.Interface
}

// leaseDifferences compares the leases in force: by what they give, and until when.
func leaseDifferences(was, is []lease.Lease) (out []Difference) {
	for _, now := range is {
		if !now.InForce {
			continue
		}
		i := slices.IndexFunc(was, func(l lease.Lease) bool {
			return l.InForce && l.Interface == now.Interface && l.Terms.Address == now.Terms.Address
		})
		if i < 0 || now.Expires.Equal(was[i].Expires) {
			continue
		}
		what := fmt.Sprintf("the lease of %v was renewed, until %s", now.Terms.Address, wording.Clock(now.Expires.Local()))
		out = append(out, Difference{In: AspectLease, What: what, Renewed: len(now.Terms.Differences(was[i].Terms)) == 0})
	}
	return out
}
