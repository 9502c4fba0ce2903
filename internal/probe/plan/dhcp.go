package plan

import (
	"context"
	"slices"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/nap"
	"passepartout/internal/probe"
)

const (
	// The last discover goes out at 1.1 s; a server that must not test the address first answers long before 1.8 s.
	discoverPatience = 1800 * time.Millisecond
	// A machine without any address depends on the answer. A server that tests the address first (RFC 2131 §2.2) takes one to three
	// seconds, and behind a relay nothing shows that it does: a client would wait as long before it asks again (§4.1).
	discoverDepending = 4 * time.Second
	// One that is seen to test, since it asks for the address by ARP, is waited for longer.
	discoverTesting = 5500 * time.Millisecond
)

var discoverAt = []time.Duration{0, 500 * time.Millisecond, 1100 * time.Millisecond, 2400 * time.Millisecond}

var dhcpSteps = []*step{
	{brings: kinds(evidence.DHCPOffer), of: when((*moment).onSegment), needless: noFrames, until: offersOver, ask: (*run).discover},
	{of: when((*moment).onSegment), needless: noFrames, ask: (*run).solicit}, // nothing waits for IPv6 routers and DHCPv6 servers
}

// testingOffer marks that a server asks the segment for the address that it is about to offer.
var testingOffer = mark{what: "a DHCP server tests an address"}

// offersOver: one discover is enough on a machine that has an address and hears an offer; one that depends on it asks again and again, and
// waits longer, and longest for a server that is seen to test the address. After the first offer, others get as long as the first took, and
// the wait for silence.
func offersOver(m *moment, _ subject) (bool, time.Duration) {
	limit := discoverPatience
	if !m.HasUsable() {
		limit = discoverDepending
	}
	if m.marked(testingOffer) {
		limit = discoverTesting
	}
	if offers, _ := m.OffersSeen(); len(offers) > 0 {
		first := slices.MinFunc(offers, func(a, b evidence.Offer) int { return int(a.RTT - b.RTT) })
		limit = min(limit, 2*first.RTT+silenceTime(m.Set))
	}
	return m.silent() && m.past(limit), 0
}

func (r *run) discover(ctx context.Context, _ subject) {
	iface, ok := r.endpoint.Interface(r.iface)
	if !ok {
		return
	}
	record := func(d evidence.Discovery) { r.observe(d) }
	q := probe.DHCPQuestion{Interface: iface.Name, At: discoverAt, Changed: record}
	if own := iface.Usable(false); len(own) > 0 {
		q.Held = own[0].Prefix.Addr()
	} else if len(iface.Usable(true)) == 0 { // one that has IPv6 may do without
		q.Testing = func() { r.mark(testingOffer) }
	}
	record(r.segment.Discover(ctx, q))
}

// solicit asks IPv6 routers and DHCPv6 servers what they say of the segment.
func (r *run) solicit(ctx context.Context, _ subject) {
	iface, ok := r.endpoint.Interface(r.iface)
	if !ok {
		return
	}
	own, ok := iface.LinkLocal()
	if !ok {
		return
	}
	ctx, cancel := nap.Within(ctx, discoverPatience)
	defer cancel()
	r.segment.Solicit(ctx, own, func(a evidence.Advertisement) { r.observe(a) }, func(i evidence.Information) { r.observe(i) })
}
