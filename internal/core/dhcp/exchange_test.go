package dhcp_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"passepartout/internal/core/dhcp"
)

var (
	start   = time.Date(2026, 11, 23, 9, 14, 3, 0, time.UTC)
	ticket  = dhcp.HardwareFrom([]byte{2, 0, 0, 0, 0x10, 0x17})
	all     = "255.255.255.255:67"
	nobody  = "0.0.0.0:68"
	core    = "172.27.40.2:67"
	own     = "172.27.40.23:68"
	toAll68 = "255.255.255.255:68"
)

func addr(s string) netip.Addr { return netip.MustParseAddr(s) }

func four(s string) []byte { b := addr(s).As4(); return b[:] }

// said builds a sighting from words: seconds, xid, type, from, to, then what the message carries.
func said(at float64, xid uint32, kind dhcp.Type, from, to string, carries ...string) dhcp.Sighting {
	m := dhcp.Message{Reply: kind.FromServer(), XID: xid, Type: kind, Client: ticket,
		Options: []dhcp.Option{{Code: dhcp.OptType, Data: []byte{byte(kind)}}}}
	option := func(code uint8, data ...byte) { m.Options = append(m.Options, dhcp.Option{Code: code, Data: data}) }
	seconds := func(s string) []byte {
		var n uint32
		fmt.Sscan(s, &n)
		return []byte{byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)}
	}
	for _, c := range carries {
		key, value, _ := strings.Cut(c, " ")
		switch key {
		case "your":
			m.Your = addr(value)
		case "own":
			m.Own = addr(value)
		case "relay":
			m.Relay = addr(value)
		case "server":
			option(dhcp.OptServer, four(value)...)
		case "asks":
			option(dhcp.OptRequested, four(value)...)
		case "mask":
			option(dhcp.OptMask, four(value)...)
		case "router":
			option(dhcp.OptRouters, four(value)...)
		case "resolver":
			option(dhcp.OptResolvers, four(value)...)
		case "lease":
			option(dhcp.OptLease, seconds(value)...)
		case "t1":
			option(dhcp.OptT1, seconds(value)...)
		case "t2":
			option(dhcp.OptT2, seconds(value)...)
		case "host":
			option(dhcp.OptHostname, []byte(value)...)
		case "text":
			option(dhcp.OptMessage, []byte(value)...)
		case "rapid":
			option(dhcp.OptRapidCommit)
		default:
			panic(c)
		}
	}
	return dhcp.Sighting{At: start.Add(time.Duration(at * float64(time.Second))), From: netip.MustParseAddrPort(from),
		To: netip.MustParseAddrPort(to), Message: m}
}

// gives are the usual settings of the pier.
func gives(more ...string) []string {
	return append(
		[]string{"your 172.27.40.23", "server 172.27.40.2", "mask 255.255.255.0", "router 172.27.40.1", "resolver 172.27.40.2",
			"lease 3600"}, more...)
}

func follow(sightings ...dhcp.Sighting) (out []*dhcp.Exchange) {
	t := dhcp.NewTracker(dhcp.Config{Ended: func(e *dhcp.Exchange) { out = append(out, e) }})
	for i, s := range sightings {
		s.Frame = i + 1
		t.Take(s)
	}
	t.Close()
	return out
}

// lease is a client's first exchange: four messages within 30 ms.
func lease(at float64, xid uint32) []dhcp.Sighting {
	return []dhcp.Sighting{
		said(at, xid, dhcp.Discover, nobody, all, "host ticket-03"),
		said(at+0.01, xid, dhcp.Offer, core, toAll68, gives()...),
		said(at+0.02, xid, dhcp.Request, nobody, all, "asks 172.27.40.23", "server 172.27.40.2"),
		said(at+0.03, xid, dhcp.Ack, core, toAll68, gives()...),
	}
}

func TestExchanges(t *testing.T) {
	renew := func(at float64, xid uint32) dhcp.Sighting {
		return said(at, xid, dhcp.Request, own, core, "own 172.27.40.23")
	}
	rebind := func(at float64, xid uint32) dhcp.Sighting {
		return said(at, xid, dhcp.Request, own, all, "own 172.27.40.23")
	}
	ack := func(at float64, xid uint32) dhcp.Sighting { return said(at, xid, dhcp.Ack, core, own, gives()...) }
	tests := map[string]struct {
		seen    []dhcp.Sighting
		want    string   // the outcomes, with the number of messages of each
		remarks []string // parts that must be there
		not     []string // and parts that must not
	}{
		"a lease": {lease(0, 1), "bound 4", []string{"T1 is not on the wire: taken as half", "T2 is not on the wire"},
			[]string{"disagree", "outside"}},
		"times on the wire": {
			[]dhcp.Sighting{said(0, 1, dhcp.Request, nobody, all, "asks 172.27.40.23"),
				said(1, 1, dhcp.Ack, core, own, gives("t1 1800", "t2 3150")...)}, "bound 2", nil, []string{"T1", "T2"}},
		"one transaction id through a whole life": {
			append(lease(0, 7), renew(1800, 7), ack(1800.1, 7), renew(3600, 7), renew(3660, 7), rebind(4000, 7), ack(4000.1, 7),
				said(4100, 7, dhcp.Release, own, core, "own 172.27.40.23")),
			"bound 4, renewed 2, rebound 4, released 1", []string{"request sent 3 times, after 60.0 s, 340.0 s"}, nil},
		"a new id at each repeat": {
			[]dhcp.Sighting{said(0, 1, dhcp.Discover, nobody, all), said(4, 2, dhcp.Discover, nobody, all),
				said(12, 3, dhcp.Discover, nobody, all)}, "unanswered 3", []string{"discover sent 3 times, after 4.0 s, 8.0 s"}, nil},
		"a new attempt after five minutes": {
			[]dhcp.Sighting{said(0, 1, dhcp.Discover, nobody, all), said(300, 2, dhcp.Discover, nobody, all)}, "unanswered 1, unanswered 1",
			nil, nil},
		"an INIT-REBOOT that nobody answers, then from the beginning": {
			append([]dhcp.Sighting{said(0, 1, dhcp.Request, nobody, all, "asks 172.27.40.23")}, lease(5, 1)...), "unanswered 1, bound 4",
			nil, nil},
		"offers and nothing asked for": {lease(0, 1)[:2], "offered 2", nil, nil},
		"the request unanswered":       {lease(0, 1)[:3], "unanswered 3", nil, nil},
		"refused, and the server knows the client": {
			append(lease(0, 1), said(1800, 2, dhcp.Request, nobody, all, "asks 172.27.40.23"),
				said(1800.1, 2, dhcp.Nak, core, toAll68, "server 172.27.40.2", "text address in use")),
			"bound 4, refused 2",
			[]string{"refused by 172.27.40.2, though this server knows the client: it gave it 172.27.40.23 before",
				"the server says: address in use"}, nil},
		"a decline under an id of its own belongs to the acknowledgement": {
			append(lease(0, 1), said(2, 99, dhcp.Decline, nobody, all, "asks 172.27.40.23", "server 172.27.40.2")), "declined 5", nil, nil},
		"a decline of another address does not": {
			append(lease(0, 1), said(2, 99, dhcp.Decline, nobody, all, "asks 172.27.40.99")), "bound 4, declined 1", nil, nil},
		"a release without the server's name": {
			[]dhcp.Sighting{said(0, 1, dhcp.Release, own, core, "own 172.27.40.23")}, "released 1", nil, nil},
		"informed": {
			[]dhcp.Sighting{said(0, 1, dhcp.Inform, own, all, "own 172.27.40.23"),
				said(0.1, 1, dhcp.Ack, core, own, "server 172.27.40.2", "mask 255.255.255.0", "resolver 172.27.40.2")}, "informed 2", nil,
			[]string{"T1"}},
		"an INFORM unanswered": {
			[]dhcp.Sighting{said(0, 1, dhcp.Inform, own, all, "own 172.27.40.23"), said(4, 1, dhcp.Inform, own, all, "own 172.27.40.23")},
			"unanswered 2", []string{"inform sent 2 times"}, nil},
		"rapid commit": {
			[]dhcp.Sighting{said(0, 1, dhcp.Discover, nobody, all, "rapid"), said(0.1, 1, dhcp.Ack, core, toAll68, gives("rapid")...)},
			"bound 2", []string{"RFC 4039"}, nil},
		"the server's side alone": {
			[]dhcp.Sighting{said(0, 1, dhcp.Offer, core, toAll68, gives()...), said(0.1, 1, dhcp.Ack, core, toAll68, gives()...)},
			"bound 2", []string{"the client's side was not seen"}, nil},
		"a slow first offer, twice": {
			[]dhcp.Sighting{said(0, 1, dhcp.Discover, nobody, all), said(1.5, 1, dhcp.Discover, nobody, all),
				said(3, 1, dhcp.Offer, core, toAll68, gives()...), said(3.1, 1, dhcp.Offer, core, toAll68, gives()...),
				said(3.2, 1, dhcp.Request, nobody, all, "asks 172.27.40.23", "server 172.27.40.2"),
				said(3.3, 1, dhcp.Ack, core, toAll68, gives()...)}, "bound 6", []string{"the first offer took 3.0 s"},
			[]string{"disagree"}},
		"a second server that disagrees, after the acknowledgement": {
			append(lease(0, 1),
				said(0.5, 1, dhcp.Offer, "172.27.40.66:67", toAll68, "your 172.27.40.180", "server 172.27.40.66", "mask 255.255.255.0",
					"router 172.27.40.66", "resolver 172.27.40.66")),
			"bound 5", []string{"the offers of 172.27.40.2 and 172.27.40.66 disagree: router, name server"}, nil},
		"a second server that agrees": {
			append(lease(0, 1),
				said(0.5, 1, dhcp.Offer, "172.27.40.3:67", toAll68, "your 172.27.40.180", "server 172.27.40.3", "mask 255.255.255.0",
					"router 172.27.40.1", "resolver 172.27.40.2")), "bound 5", nil, []string{"disagree"}},
		"an answer from a server that was not chosen": {
			[]dhcp.Sighting{said(0, 1, dhcp.Request, nobody, all, "asks 172.27.40.23", "server 172.27.40.2"),
				said(0.1, 1, dhcp.Ack, "172.27.40.66:67", toAll68, "your 172.27.40.23", "server 172.27.40.66", "lease 60")}, "bound 2",
			[]string{"ack from 172.27.40.66, while the client had chosen 172.27.40.2"}, nil},
		"the address asked for is not given": {
			append([]dhcp.Sighting{said(0, 1, dhcp.Discover, nobody, all, "asks 172.27.40.50")}, lease(0.001, 1)[1:]...), "bound 4",
			[]string{"the client asked for 172.27.40.50 and was given 172.27.40.23"}, nil},
		"a router outside the subnet": {
			[]dhcp.Sighting{said(0, 1, dhcp.Discover, nobody, all),
				said(0.1, 1, dhcp.Offer, core, toAll68, "your 172.27.40.23", "server 172.27.40.2", "mask 255.255.255.0",
					"router 172.27.41.1")}, "offered 2", []string{"the router 172.27.41.1 is outside the subnet 172.27.40.0/24"}, nil},
		"an offer outside its own mask": {
			[]dhcp.Sighting{said(0, 1, dhcp.Discover, nobody, all),
				said(0.1, 1, dhcp.Offer, core, toAll68, "your 172.27.40.255", "server 172.27.40.2", "mask 255.255.255.0")}, "offered 2",
			[]string{"172.27.40.255 is no address of a host under its own mask"}, nil},
		"a mask that is none": {
			[]dhcp.Sighting{said(0, 1, dhcp.Discover, nobody, all),
				said(0.1, 1, dhcp.Offer, core, toAll68, "your 172.27.40.23", "server 172.27.40.2", "mask 255.0.255.0")}, "offered 2",
			[]string{"its ones are not together"}, nil},
		"an offer outside the relay's network": {
			[]dhcp.Sighting{said(0, 1, dhcp.Discover, "172.27.50.1:67", core, "relay 172.27.50.1"),
				said(0.1, 1, dhcp.Offer, core, "172.27.50.1:67", "your 172.27.40.23", "server 172.27.40.2", "mask 255.255.255.0",
					"relay 172.27.50.1")},
			"offered 2", []string{"outside of the network of the relay 172.27.50.1"}, nil},
		"both sides of a relay are one exchange": {
			[]dhcp.Sighting{said(0, 1, dhcp.Discover, nobody, all),
				said(0.001, 1, dhcp.Discover, "172.27.40.1:67", core, "relay 172.27.40.1"),
				said(0.002, 1, dhcp.Offer, core, "172.27.40.1:67", gives("relay 172.27.40.1")...),
				said(0.003, 1, dhcp.Offer, "172.27.40.1:67", toAll68, gives("relay 172.27.40.1")...)}, "offered 4", nil,
			[]string{"sent 2 times", "disagree"}},
		"a renewal that the relay passes on too": {
			append(lease(0, 1), renew(1800, 1),
				said(1800.01, 1, dhcp.Request, "172.27.40.1:67", core, "own 172.27.40.23", "relay 172.27.40.1"), ack(1800.02, 1),
				said(1800.03, 1, dhcp.Ack, "172.27.40.1:67", own, gives("relay 172.27.40.1")...)),
			"bound 4, renewed 4", nil, []string{"sent 2 times"}},
		"the relay's copy after the answer": {
			append(lease(0, 1), renew(1800, 1), ack(1800.01, 1),
				said(1800.02, 1, dhcp.Request, "172.27.40.1:67", core, "own 172.27.40.23", "relay 172.27.40.1"), ack(1800.03, 1)),
			"bound 4, renewed 4", nil, nil},
		"only the relay's copy of a rebinding": {
			[]dhcp.Sighting{said(0, 5, dhcp.Request, "172.27.40.1:67", core, "own 172.27.40.23", "relay 172.27.40.1"),
				said(0.1, 5, dhcp.Ack, core, "172.27.40.1:67", gives("relay 172.27.40.1")...)}, "rebound 2", nil, nil},
		"an INFORM while the offer is on its way": {
			[]dhcp.Sighting{said(0, 1, dhcp.Discover, nobody, all), said(0.001, 2, dhcp.Inform, own, all, "own 172.27.40.23"),
				said(0.002, 1, dhcp.Offer, core, toAll68, gives()...),
				said(0.003, 2, dhcp.Ack, core, own, "server 172.27.40.2", "mask 255.255.255.0")}, "offered 2, informed 2", nil, nil},
		"times out of order": {
			[]dhcp.Sighting{said(0, 1, dhcp.Request, nobody, all, "asks 172.27.40.23"),
				said(1, 1, dhcp.Ack, core, own, gives("t1 3000", "t2 2000")...)}, "bound 2", []string{"the times are out of order"}, nil},
	}
	for name, test := range tests {
		t.Run(name, func(t *testing.T) {
			var got, remarks []string
			for _, e := range follow(test.seen...) {
				got = append(got, fmt.Sprintf("%s %d", e.Outcome, len(e.Steps)))
				remarks = append(remarks, e.Remarks...)
			}
			assert.Equal(t, test.want, strings.Join(got, ", "))
			all := strings.Join(remarks, "\n")
			for _, part := range test.remarks {
				assert.Contains(t, all, part)
			}
			for _, part := range test.not {
				assert.NotContains(t, all, part)
			}
		})
	}
}

func TestStatesFollowTheFigure(t *testing.T) {
	seen := append(lease(0, 1), said(1800, 2, dhcp.Request, own, core, "own 172.27.40.23"),
		said(3150, 2, dhcp.Request, own, all, "own 172.27.40.23"), said(3150.1, 2, dhcp.Ack, core, own, gives()...),
		said(4000, 3, dhcp.Request, nobody, all, "asks 172.27.40.23"), said(4000.1, 3, dhcp.Nak, core, toAll68, "server 172.27.40.2"))
	var got []string
	for _, e := range follow(seen...) {
		for _, s := range e.Steps {
			got = append(got, s.State.String())
		}
	}
	assert.Equal(t, []string{"SELECTING", "SELECTING", "REQUESTING", "BOUND", "RENEWING", "REBINDING", "BOUND", "REBOOTING", "INIT"}, got)
}

func TestTermsOfAnExchange(t *testing.T) {
	e := follow(lease(0, 0x3903f326)...)[0]
	assert.Equal(t, "172.27.40.23/24", e.Terms.Prefix().String())
	assert.Equal(t, []netip.Addr{addr("172.27.40.1")}, e.Terms.Routers)
	assert.Equal(t, 30*time.Minute, e.Terms.T1)
	assert.Equal(t, 3150*time.Second, e.Terms.T2)
	assert.Equal(t, addr("172.27.40.2"), e.Server)
	assert.Equal(t, addr("172.27.40.23"), e.Requested)
	assert.Equal(t, "ticket-03", e.Hostname)
	assert.Equal(t, uint32(0x3903f326), e.XID)
}

func TestLadder(t *testing.T) {
	e := follow(said(0, 1, dhcp.Discover, nobody, all), said(0.001, 1, dhcp.Discover, "172.27.40.1:67", core, "relay 172.27.40.1"),
		said(0.002, 1, dhcp.Offer, core, "172.27.40.1:67", gives("relay 172.27.40.1")...),
		said(0.003, 1, dhcp.Offer, "172.27.40.1:67", toAll68, gives("relay 172.27.40.1")...),
		said(5, 1, dhcp.Discover, nobody, all))[0]
	l := e.Ladder()
	require.Len(t, l.Parties, 3)
	var got []string
	for _, r := range l.Rungs {
		got = append(got, fmt.Sprintf("%s>%s %s", l.Parties[r.From].Role, l.Parties[r.To].Role, r.Words))
	}
	assert.Equal(t,
		[]string{"client>relay discover", "relay>server discover, seen again", "server>relay offer 172.27.40.23",
			"relay>client offer 172.27.40.23, seen again", "client>relay discover, again after 5.0 s"}, got)
}

func TestBounds(t *testing.T) {
	var ended []*dhcp.Exchange
	tracker := dhcp.NewTracker(dhcp.Config{Most: 10, Ended: func(e *dhcp.Exchange) { ended = append(ended, e) }})
	for i := range 100 {
		s := said(float64(i), uint32(i), dhcp.Discover, nobody, all)
		s.Message.Client = dhcp.HardwareFrom([]byte{2, 0, 0, 0, 0, byte(i)})
		tracker.Take(s)
	}
	assert.Equal(t, 90, tracker.Evicted)
	assert.Len(t, ended, 90)
	assert.Contains(t, ended[0].Remarks, "closed early: too many clients were open at once")
	for i := range 1000 { // one client that asks for an hour
		tracker.Take(said(200+float64(i)*4, 1, dhcp.Discover, nobody, all))
	}
	tracker.Close()
	last := ended[len(ended)-1]
	assert.LessOrEqual(t, len(last.Steps), 64)
	assert.Equal(t, 1000, len(last.Steps)+last.Unkept)
	assert.Equal(t, 999, last.Steps[len(last.Steps)-1].Again)
}

// Whatever comes, each message is in exactly one exchange, and every exchange is one client's.
func TestEveryMessageIsInOneExchange(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		n := rapid.IntRange(0, 60).Draw(r, "n")
		kept := 0
		tracker := dhcp.NewTracker(dhcp.Config{Most: 3, Ended: func(e *dhcp.Exchange) {
			kept += len(e.Steps) + e.Unkept
			for _, s := range e.Steps {
				if s.Message.Client != e.Client {
					r.Fatalf("a message of %v in an exchange of %v", s.Message.Client, e.Client)
				}
			}
		}})
		for i := range n {
			kind := dhcp.Type(rapid.IntRange(0, 8).Draw(r, "type"))
			s := said(float64(i), rapid.Uint32Range(1, 3).Draw(r, "xid"), kind, nobody,
				rapid.SampledFrom([]string{all, core}).Draw(r, "to"))
			s.Message.Client = dhcp.HardwareFrom([]byte{2, byte(rapid.IntRange(0, 4).Draw(r, "client"))})
			s.Message.Own = rapid.SampledFrom([]netip.Addr{{}, addr("172.27.40.23")}).Draw(r, "own")
			tracker.Take(s)
		}
		tracker.Close()
		if kept != n || tracker.Messages != n {
			r.Fatalf("%d messages in, %d out", n, kept)
		}
	})
}

func TestFilter(t *testing.T) {
	e := follow(lease(0, 0x3903f326)...)[0]
	for words, want := range map[string]bool{
		"02:00:00:00:10:17": true, "02:00:00:00:10:18": false, "TICKET": true, "gate": false, "172.27.40.23": true, "172.27.40.24": false,
		"0x3903f326": true, "0x1": false,
		"ticket 172.27.40.23": true, "ticket 172.27.40.24": false, "relay 172.27.40.1": false, "": true,
	} {
		f, bad := dhcp.ParseFilter(words)
		assert.Empty(t, bad)
		assert.Equal(t, want, f.Matches(e), words)
	}
	_, bad := dhcp.ParseFilter("relay pier")
	assert.Equal(t, "pier", bad)
}
