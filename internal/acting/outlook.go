package acting

import (
	"context"
	"net/netip"
	"strings"

	"passepartout/internal/core/change"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/neighbours"
	"passepartout/internal/core/site"
	"passepartout/internal/machine"
	"passepartout/internal/probe/neighbourwatch"
)

// mostAsked is how many addresses are asked about before a change: each takes up to two seconds.
const mostAsked = 8

// Learn finds out what else counts for the steps of a change: who has the new addresses, whether the new gateways answer, who manages the
// interfaces, what the lease and the site sheet say, and whether somebody is logged in by what is changed.
func Learn(ctx context.Context, m machine.Machine, e *endpoint.Endpoint, c change.Change, steps []change.Op, sheet *site.Sheet,
	getenv func(string) string) (k change.Known) {
	k.Manager, k.Leased, k.Held = map[string]string{}, map[string]change.Leased{}, map[netip.Addr]string{}
	k.Host, k.Home = e.Host, map[string]site.Network{}
	if ends := strings.Fields(getenv("SSH_CONNECTION")); len(ends) == 4 { // sshd(8): client, its port, server, its port
		k.Session.Remote, _ = netip.ParseAddr(ends[0])
		k.Session.Local, _ = netip.ParseAddr(ends[2])
	}
	for _, i := range e.Interfaces {
		if i.Manager != "" {
			k.Manager[i.Name] = i.Manager
		}
		if home, ok := sheet.Home(e.Host, i.Hardware); ok {
			k.Home[i.Name] = home
		}
		if l, ok := e.Lease(i.Name); ok && l.Terms.Address.Is4() {
			leased := change.Leased{Address: l.Terms.Prefix()}
			if len(l.Terms.Routers) > 0 {
				leased.Gateway = l.Terms.Routers[0]
			}
			k.Leased[i.Name] = leased
		}
	}
	asked := map[netip.Addr]bool{}
	for _, s := range steps {
		a, v4 := s.Prefix.Addr(), s.Prefix.Addr().Is4()
		if s.Do == change.AddRoute {
			a, v4 = s.Via, s.Via.Is4()
		}
		leased := c.Lease() != nil // whoever takes a lease asks by himself, and declines it (RFC 2131 §4.4.1)
		if !v4 || asked[a] || len(asked) == mostAsked || s.Do != change.AddRoute && (s.Do != change.AddAddress || e.Owns(a) || leased) {
			continue
		}
		asked[a] = true // thousands of routes lead by the same router
		switch t, ok := try(ctx, m, e, s.Interface, a); {
		case !ok:
		case s.Do == change.AddAddress && len(t.Holders) > 0:
			k.Held[a] = t.Holders[0].String()
		case s.Do == change.AddRoute && len(t.Holders) == 0 && t.Over:
			k.Silent = append(k.Silent, a)
		}
	}
	return k
}

// isHeld reports whether somebody on the segment has an address; asked is false where that cannot be asked.
func isHeld(ctx context.Context, m machine.Machine, e *endpoint.Endpoint, iface string, a netip.Addr) (held, asked bool) {
	t, ok := try(ctx, m, e, iface, a)
	return len(t.Holders) > 0, ok && (t.Over || len(t.Holders) > 0)
}

// try asks who has an address, in frames (RFC 5227 §2.1.1); ok is false where it cannot be asked.
func try(ctx context.Context, m machine.Machine, e *endpoint.Endpoint, iface string, a netip.Addr) (neighbours.Trial, bool) {
	if i, ok := e.Interface(iface); !ok || !i.Up || i.Carrier == endpoint.CarrierAbsent || !m.Permissions().Frames.Granted {
		return neighbours.Trial{}, false
	}
	ctx, cancel := context.WithCancel(ctx)
	w, err := neighbourwatch.Start(ctx, neighbourwatch.Config{Machine: m, Interface: iface, Endpoint: e, Quiet: true, Foreign: true})
	if err != nil {
		cancel()
		return neighbours.Trial{}, false
	}
	defer func() { cancel(); w.Wait() }()
	return w.Try(ctx, a), true
}
