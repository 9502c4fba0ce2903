package dhcp

import (
	"net/netip"
	"slices"
	"time"

	"passepartout/internal/core/subnet"
)

// Endless is the lease time that means "no end" (RFC 2131 §3.3).
const Endless = 0xffffffff * time.Second

// Terms are what a server gives with an offer or an acknowledgement.
type Terms struct {
	Server        netip.Addr
	Address       netip.Addr
	PrefixLength  int          // of option 1; 0: no mask was given
	Routers       []netip.Addr // in force: default routes of option 121 beat option 3 (RFC 3442)
	Routes        []Route      // classless routes, all of them
	Resolvers     []netip.Addr
	Domain        string
	Search        []string
	Lease, T1, T2 time.Duration // Lease 0: none given
	OwnT1, OwnT2  bool          // the server gave them; otherwise they are a half and seven eighths of the lease (RFC 2131 §4.4.5)
	MTU           int
	TimeServers   []netip.Addr
	CaptivePortal string // option 114 (RFC 8910)
	ProxyConfig   string // option 252, in use without having been registered
}

// Route is a classless static route (RFC 3442).
type Route struct {
	To  netip.Prefix
	Via netip.Addr // zero: on the link itself
}

// Prefix is the given address with its mask; a single address where no mask was given.
func (t Terms) Prefix() netip.Prefix {
	if !t.Address.IsValid() {
		return netip.Prefix{}
	}
	if t.PrefixLength == 0 {
		return netip.PrefixFrom(t.Address, 32)
	}
	return netip.PrefixFrom(t.Address, t.PrefixLength)
}

// IsEndless reports whether the lease never runs out.
func (t Terms) IsEndless() bool { return t.Lease == Endless }

// Terms reads what the message gives.
func (m *Message) Terms() Terms {
	t := Terms{Server: m.Server(), Address: m.Your, Resolvers: m.addresses(OptResolvers), Domain: m.text(OptDomain), Search: m.Search,
		TimeServers: m.addresses(OptTimeServers), CaptivePortal: m.text(OptCaptivePortal), ProxyConfig: m.text(OptProxyConfig)}
	if mask := m.address(OptMask); mask.IsValid() {
		t.PrefixLength, _ = subnet.LengthOf(mask)
	}
	b, _ := m.Option(OptClasslessRoutes)
	t.Routes, _ = classlessRoutes(b)
	for _, r := range t.Routes {
		if r.To.Bits() == 0 && r.Via.IsValid() && !slices.Contains(t.Routers, r.Via) {
			t.Routers = append(t.Routers, r.Via)
		}
	}
	if len(t.Routes) == 0 { // with option 121 a client must leave option 3 alone (RFC 3442, "DHCP Client Behavior")
		t.Routers = m.addresses(OptRouters)
	}
	if mtu, ok := m.Option(OptMTU); ok && len(mtu) == 2 {
		t.MTU = int(mtu[0])<<8 | int(mtu[1])
	}
	t.Lease, _ = m.seconds(OptLease)
	t.T1, t.OwnT1 = m.seconds(OptT1)
	t.T2, t.OwnT2 = m.seconds(OptT2)
	t.T1, t.T2 = Times(t.Lease, t.T1, t.OwnT1, t.T2, t.OwnT2)
	return t
}

// Times completes T1 and T2 where the server gave none: half and seven eighths of the lease (RFC 2131 §4.4.5).
func Times(lease, t1 time.Duration, own1 bool, t2 time.Duration, own2 bool) (time.Duration, time.Duration) {
	if !own1 {
		t1 = lease / 2
	}
	if !own2 {
		t2 = lease / 8 * 7
	}
	return t1, t2
}

// Differences names in which of the things that a machine needs two offers part: addresses differ by nature, and so do times.
func (t Terms) Differences(o Terms) (out []string) {
	network := func(t Terms) netip.Prefix { return t.Prefix().Masked() }
	if t.PrefixLength != 0 && o.PrefixLength != 0 && network(t) != network(o) {
		what := "network"
		if t.PrefixLength != o.PrefixLength && (network(t).Overlaps(network(o))) {
			what = "mask"
		}
		out = append(out, what)
	}
	if !SameSet(t.Routers, o.Routers) {
		out = append(out, "router")
	}
	if !SameSet(t.Resolvers, o.Resolvers) {
		out = append(out, "name server")
	}
	if t.Domain != o.Domain {
		out = append(out, "domain")
	}
	return out
}

// SameSet reports whether two lists hold the same, in whatever order.
func SameSet(a, b []netip.Addr) bool {
	for _, x := range a {
		if !slices.Contains(b, x) {
			return false
		}
	}
	for _, x := range b {
		if !slices.Contains(a, x) {
			return false
		}
	}
	return true
}
