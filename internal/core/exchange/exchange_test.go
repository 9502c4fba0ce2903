package exchange_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/exchange"
)

var (
	began   = time.Date(2026, 3, 2, 9, 14, 0, 0, time.UTC)
	own     = netip.MustParseAddrPort("172.27.40.23:40000")
	web     = netip.MustParseAddrPort("203.0.113.80:443")
	server  = netip.MustParseAddrPort("172.27.40.2:53")
	gateway = netip.MustParseAddr("172.27.40.1")
)

// told is what matters of an exchange.
type told struct {
	kind    exchange.Kind
	asked   string
	outcome exchange.Outcome
	answer  string
	took    time.Duration
	asks    int
}

// follow has a tracker take in steps, a frame each, so many milliseconds apart.
func follow(steps ...func(t *exchange.Tracker, at time.Time, frame int)) (out []told) {
	t := exchange.NewTracker(func(x exchange.Exchange) {
		out = append(out, told{x.Kind, x.Asked, x.Outcome, x.Answer, x.Took, x.Asks})
	})
	for i, step := range steps {
		step(t, began.Add(time.Duration(i)*10*time.Millisecond), i+1)
	}
	t.End()
	return out
}

type step = func(*exchange.Tracker, time.Time, int)

func resolve(r exchange.Resolution) step {
	return func(t *exchange.Tracker, at time.Time, n int) { t.Resolve(at, n, r) }
}
func query(q exchange.Query) step {
	return func(t *exchange.Tracker, at time.Time, n int) { t.LookUp(at, n, q) }
}
func segment(s exchange.Segment) step {
	return func(t *exchange.Tracker, at time.Time, n int) { t.Segment(at, n, s) }
}

func later(d time.Duration, f step) step {
	return func(t *exchange.Tracker, at time.Time, n int) { f(t, at.Add(d), n) }
}

func TestExchanges(t *testing.T) {
	who := resolve(exchange.Resolution{From: own.Addr(), For: gateway})
	probe := resolve(exchange.Resolution{For: gateway})
	is := func(last byte) step {
		return resolve(exchange.Resolution{Answers: true, From: gateway, Hardware: endpoint.HardwareAddr{2, 0, 0, 0, 0, last}})
	}
	ask := query(exchange.Query{From: own, To: server, ID: 7, Name: "bookings.kittiwake.example", Type: "A"})
	reply := func(rcode int, id uint16, words string) step {
		return query(exchange.Query{From: server, To: own, ID: id, Answers: true, Name: "bookings.kittiwake.example", Type: "A",
			RCode: rcode, Records: words})
	}
	syn := segment(exchange.Segment{From: own, To: web, SYN: true})
	synAck := segment(exchange.Segment{From: web, To: own, SYN: true, ACK: true})
	const has, name, connection = "who has 172.27.40.1", "bookings.kittiwake.example A", "a connection"
	const ms = time.Millisecond
	for title, c := range map[string]struct {
		steps []step
		want  []told
	}{
		"answered":    {[]step{who, is(1)}, []told{{exchange.Address, has, exchange.Answered, "02:00:00:00:00:01", 10 * ms, 1}}},
		"asked again": {[]step{who, who, who}, []told{{exchange.Address, has, exchange.Unanswered, "", 0, 3}}},
		"two answer": {[]step{who, is(1), is(2), is(1)}, []told{{exchange.Address, has, exchange.Answered,
			"02:00:00:00:00:01, 02:00:00:00:00:02", 10 * ms, 1}}},
		"free": {[]step{probe, probe}, []told{{exchange.Address, "is it free, 172.27.40.1", exchange.Free, "", 0, 2}}},
		"taken": {[]step{probe, is(1)}, []told{{exchange.Address, "is it free, 172.27.40.1", exchange.Taken, "02:00:00:00:00:01",
			10 * ms, 1}}},
		"nobody had asked":    {[]step{is(1)}, nil},
		"too late is another": {[]step{who, later(5*time.Second, is(1))}, []told{{exchange.Address, has, exchange.Unanswered, "", 0, 1}}},
		"looked up": {[]step{ask, ask, reply(0, 7, "203.0.113.80")},
			[]told{{exchange.LookUp, name, exchange.Answered, "203.0.113.80", 20 * ms, 2}}},
		"no such name": {[]step{ask, reply(3, 7, "NXDOMAIN")}, []told{{exchange.LookUp, name, exchange.NoSuch, "NXDOMAIN", 10 * ms,
			1}}},
		"the server refuses": {[]step{ask, reply(5, 7, "REFUSED")}, []told{{exchange.LookUp, name, exchange.Refused, "REFUSED", 10 * ms,
			1}}},
		"the server cannot": {[]step{ask, reply(2, 7, "SERVFAIL")}, []told{{exchange.LookUp, name, exchange.Failed, "SERVFAIL", 10 * ms,
			1}}},
		"a forged answer": {[]step{ask, reply(0, 8, "203.0.113.66")}, []told{{exchange.LookUp, name, exchange.Unanswered, "", 0, 1}}},
		"opened and closed": {[]step{syn, synAck, segment(exchange.Segment{From: web, To: own, FIN: true, ACK: true})},
			[]told{{exchange.Opening, connection, exchange.Closed, "closed by the other end", 10 * ms, 1}}},
		"refused": {[]step{syn, segment(exchange.Segment{From: web, To: own, RST: true, ACK: true})},
			[]told{{exchange.Opening, connection, exchange.Refused, "a reset", 10 * ms, 1}}},
		"given up": {[]step{syn, syn, segment(exchange.Segment{From: own, To: web, RST: true})},
			[]told{{exchange.Opening, connection, exchange.Unanswered, "", 0, 2}}},
		"broken off": {[]step{syn, synAck, segment(exchange.Segment{From: own, To: web, RST: true})},
			[]told{{exchange.Opening, connection, exchange.Reset, "broken off by this end", 10 * ms, 1}}},
		"still open": {[]step{syn, synAck, segment(exchange.Segment{From: own, To: web, ACK: true})},
			[]told{{exchange.Opening, connection, exchange.Answered, "opened", 10 * ms, 1}}},
		"the same ports again": {[]step{syn, synAck, syn}, []told{{exchange.Opening, connection, exchange.Answered, "opened", 10 * ms, 1},
			{exchange.Opening, connection, exchange.Unanswered, "", 0, 1}}},
		"begun before": {[]step{synAck, segment(exchange.Segment{From: web, To: own, FIN: true})}, nil},
	} {
		assert.Equal(t, c.want, follow(c.steps...), title)
	}
}

// A flood takes no more memory: the oldest are given up, and that is counted.
func TestAFloodOfQuestions(t *testing.T) {
	ended := 0
	x := exchange.NewTracker(func(exchange.Exchange) { ended++ })
	const flood = 200_000
	for i := range flood {
		x.Segment(began, i, exchange.Segment{From: netip.AddrPortFrom(own.Addr(), uint16(i)),
			To: netip.AddrPortFrom(web.Addr(), uint16(i>>8)), SYN: true})
	}
	assert.Equal(t, x.Crowded, ended)
	assert.Greater(t, x.Crowded, flood-20_000)
	x.End()
	assert.Equal(t, flood, ended)
}
