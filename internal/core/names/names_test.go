package names_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/names"
	"passepartout/internal/core/site"
)

var third = netip.MustParseAddr("198.51.100.53")

func said(server netip.Addr, kind, rcode string, values ...string) evidence.Lookup {
	l := evidence.Lookup{Server: server, Name: "bookings.kittiwake.example", Type: kind, RCode: rcode, Asks: 1, Life: 5 * time.Minute,
		Reply: evidence.Reply{Outcome: evidence.Answered, From: server, RTT: 4 * time.Millisecond}}
	for _, v := range values {
		l.Records = append(l.Records, evidence.Record{Name: l.Name, Type: kind, Value: v})
	}
	return l
}

func TestBeside(t *testing.T) {
	tcp := said(Core, "A", "NOERROR", "203.0.113.80")
	tcp.TCP = true
	lines := names.Beside([]netip.Addr{Core, NS, third}, []evidence.Lookup{
		said(NS, "TXT", "NOERROR", `"a"`), tcp,
		said(Core, "A", "NOERROR", "203.0.113.80", "203.0.113.81"), said(NS, "A", "NOERROR", "203.0.113.81", "203.0.113.80"),
		{Server: third, Name: "bookings.kittiwake.example", Type: "A", Reply: Silence()},
		said(Core, "AAAA", "NOERROR"), said(NS, "AAAA", "NXDOMAIN"), said(third, "AAAA", "NOERROR"),
	})
	var got []string
	for _, l := range lines {
		text := fmt.Sprintf("%s %v parts=%v:", l.Type, l.TCP, l.Parts)
		for _, c := range l.Cells {
			text += fmt.Sprintf(" %d", c.Group)
		}
		got = append(got, text)
	}
	assert.Equal(t,
		[]string{"A false parts=false: 1 1 0", "A true parts=false: 1 0 0", "AAAA false parts=true: 1 2 1", "TXT false parts=false: 0 1 0"},
		got, "order and time to live are no difference; silence is none either")
}

func TestWords(t *testing.T) {
	for want, l := range map[string]evidence.Lookup{
		"203.0.113.80":           said(Core, "A", "NOERROR", "203.0.113.80"),
		"no MX for it":           said(Core, "MX", "NOERROR"),
		"no such name":           said(Core, "A", "NXDOMAIN"),
		"it cannot (SERVFAIL)":   said(Core, "A", "SERVFAIL"),
		"it will not (REFUSED)":  said(Core, "A", "REFUSED"),
		"NOTIMP":                 said(Core, "A", "NOTIMP"),
		"no answer within 1.6 s": {Reply: evidence.Reply{Outcome: evidence.Silent, Waited: 1600 * time.Millisecond}},
		"no name service there":  {Reply: evidence.Reply{Outcome: evidence.Refused}},
		"nonsense: torn":         {Reply: evidence.Reply{Outcome: evidence.Malformed, Reason: "torn"}},
		"not asked":              {},
		"172.27.40.1 says: no way to that network": {
			Reply: evidence.Reply{Outcome: evidence.Unreachable, From: Gateway, Why: evidence.NoNet}},
	} {
		assert.Equal(t, want, names.Words(l))
	}
	l := said(Core, "A", "NOERROR", "203.0.113.80")
	l.Asks, l.Authoritative, l.Truncated, l.Ignored = 2, true, true, 3
	assert.Equal(t, "4.00 ms · asked 2 times · keeps 5 min · authoritative · too long for UDP · 3 foreign answers ignored", names.Footing(l))
	assert.Empty(t, names.Footing(evidence.Lookup{}))
}

// Where each server's setting comes from, and those that somebody names in vain.
func TestServers(t *testing.T) {
	s := Healthy()
	Leased(s, 8*time.Minute, Offer(24).Terms)
	s.Endpoint.Resolvers = []endpoint.Resolver{{Address: netip.MustParseAddr("127.0.0.53"), Stub: true}, {Address: Core, Behind: true},
		{Address: third, Behind: true}}
	s.Routers6 = []evidence.Advertisement{
		{Router: netip.MustParseAddr("fe80::1"), Resolvers: []netip.Addr{netip.MustParseAddr("2001:db8:40::2")}}}
	s.Sheet = &site.Sheet{Networks: []site.Network{{Resolvers: []netip.Addr{Core, netip.MustParseAddr("172.27.40.9")}}}}
	from := map[string]string{}
	for _, x := range names.Servers(s) {
		from[x.Address.String()] = x.From()
	}
	assert.Equal(t, "forwarder on this machine", from["127.0.0.53"])
	assert.Contains(t, from["172.27.40.2"], "behind the forwarder, lease")
	assert.Contains(t, from["172.27.40.2"], "site sheet")
	assert.Equal(t, "behind the forwarder", from[third.String()])
	assert.Equal(t, "not set here; named by router advertisement", from["2001:db8:40::2"])
	assert.Equal(t, "not set here; named by site sheet", from["172.27.40.9"])
	s = Healthy()
	s.Discovery = nil
	for _, x := range names.Servers(s) {
		assert.Equal(t, "by hand", x.From())
	}
	assert.Empty(t, names.Servers(nil))
}

func TestCheck(t *testing.T) {
	for in, want := range map[string]string{
		"Bookings.Kittiwake.Example.": "bookings.kittiwake.example", " x ": "x", "203.0.113.80": "203.0.113.80",
		"2001:db8::1": "2001:db8::1", "_ldap._tcp.kittiwake.example": "_ldap._tcp.kittiwake.example", "münze.example": "münze.example",
	} {
		got, err := names.Check(in)
		require.NoError(t, err, in)
		assert.Equal(t, want, got)
	}
	for in, want := range map[string]string{
		"": "give a name", strings.Repeat("a.", 150) + "example": "307 octets, at most 253",
		strings.Repeat("a", 64) + ".example": "a part of 64 octets", "a..b": "two dots", ".a": "begins with one",
		"a b": "has no place", "a\x1b[31mb": "has no place", "http://a": "has no place", "a\x00b": "has no place", "a@b": "has no place",
	} {
		_, err := names.Check(in)
		require.Error(t, err, in)
		assert.Contains(t, err.Error(), want)
		assert.NotContains(t, err.Error(), "\x1b")
	}
}

// run fills a trial: for each server its times in ms, 0 for a look-up that failed.
func run(times map[netip.Addr][]float64, order ...netip.Addr) *names.Trial {
	t := names.NewTrial(order)
	for server, list := range times {
		for _, ms := range list {
			l := said(server, "A", "NOERROR", "203.0.113.80")
			if l.RTT = time.Duration(ms * 1e6); ms == 0 {
				l.Reply = Silence()
			}
			t.Add(l)
		}
	}
	return t
}

func many(ms ...float64) (out []float64) {
	for range 20 {
		out = append(out, ms...)
	}
	return out
}

func TestAdvice(t *testing.T) {
	for _, c := range []struct {
		name  string
		times map[netip.Addr][]float64
		best  netip.Addr
		says  string
	}{
		{"one is far quicker", map[netip.Addr][]float64{Core: many(30), NS: many(2)}, NS, "28 ms sooner"},
		{"a tenth of a millisecond", map[netip.Addr][]float64{Core: many(2), NS: many(2.1)}, netip.Addr{}, "No difference that matters."},
		{"many times quicker, and nobody would notice", map[netip.Addr][]float64{Core: many(1), NS: many(6)}, netip.Addr{},
			"No difference that matters."},
		{"some ms of many", map[netip.Addr][]float64{Core: many(100), NS: many(112)}, netip.Addr{}, "No difference that matters."},
		{"the quicker one fails", map[netip.Addr][]float64{Core: many(1, 0), NS: many(30)}, NS, "100 % of the look-ups, 172.27.40.2 50 %"},
		{"one of many lost", map[netip.Addr][]float64{Core: append(many(2), 0), NS: many(2)}, netip.Addr{}, "No difference that matters."},
		{"two alike and a bad one", map[netip.Addr][]float64{Core: many(2), NS: many(2), third: many(90)}, netip.Addr{},
			"198.51.100.53 is worse"},
		{"none answers", map[netip.Addr][]float64{Core: many(0), NS: many(0)}, netip.Addr{}, "None of them answers."},
		{"too few", map[netip.Addr][]float64{Core: {1}, NS: {2}}, netip.Addr{}, "Too few"},
		{"alone", map[netip.Addr][]float64{Core: many(1)}, netip.Addr{}, "no second"},
	} {
		t.Run(c.name, func(t *testing.T) {
			order := []netip.Addr{Core, NS}
			if _, ok := c.times[third]; ok {
				order = append(order, third)
			}
			if _, ok := c.times[NS]; !ok {
				order = order[:1]
			}
			a := run(c.times, order...).Advice()
			assert.Equal(t, c.best, a.Best, a.Words)
			assert.Equal(t, c.best.IsValid(), a.Matters)
			assert.Contains(t, a.Words, c.says)
		})
	}
}

// The first look-up of each name at each server is cold, all further ones are warm; a copy stands still.
func TestColdAndWarm(t *testing.T) {
	x := run(map[netip.Addr][]float64{Core: {40, 2, 3, 0, 1}}, Core)
	copied := x.Clone()
	second := said(Core, "A", "SERVFAIL")
	second.Name = "weather.kittiwake.example"
	x.Add(second)
	cold, warm := &x.Tallies[0].Cold, &x.Tallies[0].Warm
	assert.Equal(t, 2, cold.Asked)
	assert.Equal(t, map[string]int{"SERVFAIL": 1}, cold.Failures)
	typical, _ := warm.Typical()
	worst, _ := warm.Worst()
	assert.Equal(t, []time.Duration{2 * time.Millisecond, 3 * time.Millisecond}, []time.Duration{typical, worst})
	assert.InDelta(t, .75, warm.Share(), .001)
	assert.Equal(t, 1, copied.Tallies[0].Cold.Asked)
	_, ok := new(names.Figures).Typical()
	assert.False(t, ok)
	assert.Zero(t, new(names.Figures).Share())
}
