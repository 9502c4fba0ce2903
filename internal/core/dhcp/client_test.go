package dhcp_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/dhcp"
)

// A client's life, told by what happens to it and what it does then; hours in no time.
func TestAClientsLife(t *testing.T) {
	server, other := netip.MustParseAddr("172.27.40.2"), netip.MustParseAddr("172.27.40.9")
	given := netip.MustParseAddr("172.27.40.23")
	hw := dhcp.HardwareFrom([]byte{2, 0, 0, 0, 0, 1})
	began := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	octets := func(a netip.Addr) []byte { b := a.As4(); return b[:] }
	from := func(kind dhcp.Type, by netip.Addr, lease byte, alter ...func(*dhcp.Message)) *dhcp.Message {
		m := &dhcp.Message{Reply: true, XID: 7, Type: kind, Client: hw, Your: given,
			Options: []dhcp.Option{{dhcp.OptServer, octets(by)}, {dhcp.OptLease, []byte{0, 0, lease, 0}}}}
		for _, f := range alter {
			f(m)
		}
		return m
	}
	foreign := func(m *dhcp.Message) { m.XID = 8 }
	someone := func(m *dhcp.Message) { m.Client = dhcp.HardwareFrom([]byte{2, 0, 0, 0, 0, 2}) }
	another := func(m *dhcp.Message) { m.Your = given.Next() }
	type moment struct {
		at    time.Duration
		hears *dhcp.Message
		does  string // accept, free, held, release; "" time passes
		says  []dhcp.Say
		to    dhcp.State
		took  bool
		check bool
		lost  string
	}
	discover := dhcp.Say{Type: dhcp.Discover, XID: 7}
	request := dhcp.Say{Type: dhcp.Request, XID: 7, Requested: given, Server: server}
	renews := dhcp.Say{Type: dhcp.Request, XID: 7, Own: given, To: server}
	rebinds := dhcp.Say{Type: dhcp.Request, XID: 7, Own: given}
	late := func(s dhcp.Say, secs uint16) dhcp.Say { s.Secs = secs; return s }
	one := func(s dhcp.Say) []dhcp.Say { return []dhcp.Say{s} }
	bound := []moment{
		{says: one(discover), to: dhcp.Selecting},
		{at: time.Second, hears: from(dhcp.Offer, server, 16), to: dhcp.Selecting},
		{at: 2 * time.Second, does: "accept", says: one(request), to: dhcp.Requesting},
		{at: 3 * time.Second, hears: from(dhcp.Ack, server, 16), to: dhcp.Requesting, check: true},
		{at: 4 * time.Second, does: "free", to: dhcp.Bound, took: true},
	}
	const lease = 4096 * time.Second // T1 2048, T2 3584, from second 2 on
	at := func(s int) time.Duration { return time.Duration(s) * time.Second }
	for _, c := range []struct {
		name   string
		server netip.Addr
		life   []moment
		then   []moment
	}{
		{name: "silence is asked again, each time after twice as long", life: []moment{
			{says: one(discover), to: dhcp.Selecting},
			{at: at(3), to: dhcp.Selecting},
			{at: at(4), says: one(late(discover, 4)), to: dhcp.Selecting},
			{at: at(11), to: dhcp.Selecting},
			{at: at(12), says: one(late(discover, 12)), to: dhcp.Selecting},
			{at: at(28), says: one(late(discover, 28)), to: dhcp.Selecting}}},
		{name: "what is not for it is passed over", server: server, life: []moment{
			{says: one(discover), to: dhcp.Selecting},
			{at: at(1), hears: from(dhcp.Offer, server, 16, foreign), to: dhcp.Selecting},
			{at: at(1), hears: from(dhcp.Offer, server, 16, someone), to: dhcp.Selecting},
			{at: at(1), hears: from(dhcp.Offer, other, 16), to: dhcp.Selecting},
			{at: at(1), does: "accept", to: dhcp.Selecting},
			{at: at(2), hears: from(dhcp.Offer, server, 16), to: dhcp.Selecting},
			{at: at(2), does: "accept", says: one(request), to: dhcp.Requesting},
			{at: at(3), hears: from(dhcp.Ack, other, 16), to: dhcp.Requesting}}},
		{name: "an offer is not taken unasked, nor asked for again", life: bound[:2], then: []moment{{at: at(90), to: dhcp.Selecting}}},
		{name: "a server that offers and answers no request", life: bound[:3], then: []moment{
			{at: at(6), says: one(late(request, 4)), to: dhcp.Requesting},
			{at: at(14), says: one(late(request, 12)), to: dhcp.Requesting},
			{at: at(30), says: one(late(request, 28)), to: dhcp.Requesting},
			{at: at(62), to: dhcp.Init, lost: "answers no request for it"}}},
		{name: "refused", life: bound[:3], then: []moment{
			{at: at(3), hears: from(dhcp.Nak, server, 0, func(m *dhcp.Message) {
				m.Options = append(m.Options, dhcp.Option{dhcp.OptMessage, []byte("wrong network")})
			}), to: dhcp.Init, lost: "172.27.40.2 refuses 172.27.40.23: wrong network"}}},
		{name: "somebody has the address", life: bound[:4], then: []moment{
			{at: at(4), does: "held", to: dhcp.Init, lost: "is in use by 02:00:00:00:00:09",
				says: one(dhcp.Say{Type: dhcp.Decline, XID: 7, Requested: given, Server: server, Text: "in use by 02:00:00:00:00:09"})}}},
		{name: "renewed by the server that gave it, again and again", life: bound, then: []moment{
			{at: at(2049), to: dhcp.Bound},
			{at: at(2050), says: one(renews), to: dhcp.Renewing},
			{at: at(2051), hears: from(dhcp.Ack, server, 16), to: dhcp.Bound, took: true},
			{at: at(2050 + 2048), says: one(renews), to: dhcp.Renewing}}},
		{name: "with no word from it, by any server from T2 on", life: bound, then: []moment{
			{at: at(2050), says: one(renews), to: dhcp.Renewing},
			{at: at(2050 + 768), says: one(late(renews, 768)), to: dhcp.Renewing},
			{at: at(3586), says: one(late(rebinds, 1536)), to: dhcp.Rebinding},
			{at: at(3587), hears: from(dhcp.Ack, other, 16), to: dhcp.Bound, took: true}}},
		{name: "with no word from anybody it is over, and not before", life: bound, then: []moment{
			{at: at(3586), says: one(rebinds), to: dhcp.Rebinding},
			{at: at(4097), says: one(late(rebinds, 511)), to: dhcp.Rebinding},
			{at: at(4098), to: dhcp.Init, lost: "the lease is over"}}},
		{name: "a renewal that is refused", life: bound, then: []moment{
			{at: at(2050), says: one(renews), to: dhcp.Renewing},
			{at: at(2051), hears: from(dhcp.Nak, other, 0), to: dhcp.Init, lost: "172.27.40.9 refuses"}}},
		{name: "a renewal that gives another address", life: bound, then: []moment{
			{at: at(2050), says: one(renews), to: dhcp.Renewing},
			{at: at(2051), hears: from(dhcp.Ack, server, 16, another), to: dhcp.Init, lost: "in the place of"}}},
		{name: "given back", life: bound, then: []moment{
			{at: at(100), does: "release", to: dhcp.Init,
				says: one(dhcp.Say{Type: dhcp.Release, XID: 7, To: server, Own: given, Server: server})},
			{at: at(9000), to: dhcp.Init}}},
		{name: "what was only offered is not given back", life: bound[:2], then: []moment{{at: at(3), does: "release", to: dhcp.Init}}},
	} {
		t.Run(c.name, func(t *testing.T) {
			x := dhcp.Client{Hardware: hw, Server: c.server, XID: 7}
			act := x.Begin(began)
			for i, m := range append(c.life[:len(c.life):len(c.life)], c.then...) {
				now := began.Add(m.at)
				switch {
				case i == 0:
				case m.hears != nil:
					act = x.Hear(now, m.hears)
				case m.does == "accept":
					act = x.Accept(now)
				case m.does == "free":
					act = x.Checked(now, "")
				case m.does == "held":
					act = x.Checked(now, "02:00:00:00:00:09")
				case m.does == "release":
					act = x.Release(now)
				default:
					act = x.Pass(now)
				}
				require.Equal(t, m.says, act.Send, "after %v", m.at)
				require.Equal(t, m.to, x.State(), "after %v", m.at)
				require.Equal(t, m.took, act.Took, "after %v", m.at)
				require.Equal(t, m.check, act.Check.IsValid(), "after %v", m.at)
				require.Contains(t, act.Lost, m.lost)
				require.Equal(t, m.lost == "", act.Lost == "", "after %v: %s", m.at, act.Lost)
			}
			if x.State() == dhcp.Bound {
				assert.Equal(t, lease, x.Terms().Lease)
				assert.True(t, x.Next().After(began))
			}
		})
	}
	x := dhcp.Client{Hardware: hw, XID: 7}
	x.Begin(began)
	x.Hear(began, from(dhcp.Offer, server, 16))
	x.Accept(began)
	x.Hear(began, from(dhcp.Ack, server, 16, func(m *dhcp.Message) { m.Options[1].Data = []byte{255, 255, 255, 255} }))
	x.Checked(began, "")
	assert.Equal(t, dhcp.Bound, x.State())
	assert.Zero(t, x.Next(), "a lease without an end is never renewed")
}
