package exchange_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/exchange"
)

// What passes on the segment besides: leases, look-ups of which everybody is asked, and what devices say of themselves.
func TestOnTheSegment(t *testing.T) {
	const client = "02:00:00:00:00:17"
	any, server := netip.MustParseAddrPort("0.0.0.0:68"), netip.MustParseAddrPort("172.27.40.2:67")
	lease := func(answers bool, what string, o exchange.Outcome) step {
		l := exchange.Letting{From: any, To: server, XID: 7, Client: client, Answers: answers, What: what, Outcome: o}
		return func(t *exchange.Tracker, at time.Time, n int) { t.Lease(at, n, l) }
	}
	discover := lease(false, "discover", exchange.Unanswered)
	offer := lease(true, "offer 172.27.40.23", exchange.Waiting)
	request := lease(false, "request 172.27.40.23", exchange.Unanswered)
	group := func(answers bool, records string) step {
		q := exchange.Query{From: any, To: server, Answers: answers, Name: "printer.local", Type: "A", Records: records}
		return func(t *exchange.Tracker, at time.Time, n int) { t.InGroup(at, n, q) }
	}
	says := func(what string, leaving bool) step {
		a := exchange.Announcement{Who: client, What: what, Leaving: leaving}
		return func(t *exchange.Tracker, at time.Time, n int) { t.Announce(at, n, a) }
	}
	const ms = time.Millisecond
	for title, c := range map[string]struct {
		steps []step
		want  []told
	}{
		"let": {[]step{discover, offer, request, lease(true, "ack 172.27.40.23", exchange.Answered)}, []told{{exchange.Lease,
			client + ": discover, request 172.27.40.23", exchange.Answered, "offer 172.27.40.23, ack 172.27.40.23", 30 * ms, 1}}},
		"refused": {[]step{request, lease(true, "nak", exchange.Refused)}, []told{{exchange.Lease, client + ": request 172.27.40.23",
			exchange.Refused, "nak", 10 * ms, 1}}},
		"offered, and not taken": {[]step{discover, offer}, []told{{exchange.Lease, client + ": discover", exchange.Answered,
			"offer 172.27.40.23", 10 * ms, 1}}},
		"silent after the offer": {[]step{discover, offer, request, request}, []told{{exchange.Lease,
			client + ": discover, request 172.27.40.23", exchange.Unanswered, "offer 172.27.40.23", 10 * ms, 2}}},
		"asked again and again": {[]step{discover, discover, discover}, []told{{exchange.Lease, client + ": discover",
			exchange.Unanswered, "", 0, 3}}},
		"given back": {[]step{lease(false, "release 172.27.40.23", exchange.Said)}, []told{{exchange.Lease,
			client + ": release 172.27.40.23", exchange.Said, "", 0, 1}}},
		"an answer that nobody asked for": {[]step{offer, group(true, "172.27.40.31")}, nil},
		"two have the name": {[]step{group(false, ""), group(true, "172.27.40.31"), group(true, "172.27.40.32")}, []told{{exchange.Group,
			"printer.local A", exchange.Answered, "172.27.40.31, 172.27.40.32", 10 * ms, 1}}},
		"nobody has it": {[]step{group(false, "")}, []told{{exchange.Group, "printer.local A", exchange.Unanswered, "", 0, 1}}},
		"said again is no news": {[]step{says("sw-pier, port 7", false), says("sw-pier, port 7", false), says("sw-pier, port 8", false)},
			[]told{{exchange.Device, client + " says of itself", exchange.Said, "sw-pier, port 7", 0, 1},
				{exchange.Device, client + " says of itself", exchange.Said, "sw-pier, port 8", 0, 1}}},
		"gone": {[]step{says("sw-pier, port 7", true)}, []told{{exchange.Device, client + " says of itself", exchange.Said,
			"it is no longer there", 0, 1}}},
	} {
		assert.Equal(t, c.want, follow(c.steps...), title)
	}
}

// Exchanges are laid to those with whom they are, trouble first, and on a stretch of time.
func TestParties(t *testing.T) {
	other := netip.MustParseAddrPort("203.0.113.81:443")
	list := []exchange.Exchange{
		{Kind: exchange.LookUp, From: own, To: server, Outcome: exchange.Answered, Began: began},
		{Kind: exchange.Opening, From: own, To: web, Outcome: exchange.Closed, Began: began.Add(10 * time.Second)},
		{Kind: exchange.Opening, From: own, To: other, Outcome: exchange.Refused, Began: began.Add(20 * time.Second)},
		{Kind: exchange.Opening, From: netip.AddrPortFrom(own.Addr(), 40001), To: web, Outcome: exchange.Waiting,
			Began: began.Add(29 * time.Second)},
		{Kind: exchange.Lease, Asked: "02:00:00:00:00:17: discover", Outcome: exchange.Unanswered, Began: began.Add(21 * time.Second)},
		{Kind: exchange.Address, To: netip.AddrPortFrom(gateway, 0), Outcome: exchange.Free, Began: began.Add(-time.Hour)},
	}
	type row struct {
		kind   exchange.Kind
		with   string
		count  int
		failed int
	}
	var got []row
	for _, p := range exchange.Parties(list) {
		with := p.Name
		if with == "" {
			with = p.With.String()
		}
		got = append(got, row{p.Kind, with, len(p.List), p.Failed})
	}
	assert.Equal(t, []row{{exchange.Lease, "02:00:00:00:00:17", 1, 1}, {exchange.Opening, other.String(), 1, 1},
		{exchange.Address, "172.27.40.1:0", 1, 0}, {exchange.LookUp, server.String(), 1, 0}, {exchange.Opening, web.String(), 2, 0}}, got)
	p := exchange.Party{List: list}
	assert.Equal(t, []exchange.Column{exchange.Passed, exchange.Passed, exchange.CameToNothing}, p.Columns(began.Add(29*time.Second),
		30*time.Second, 3), "what failed shows, whatever passed beside it")
}
