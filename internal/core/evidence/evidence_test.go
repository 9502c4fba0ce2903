package evidence_test

import (
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/target"
)

func TestTrail(t *testing.T) {
	silent := netip.Addr{}
	for _, c := range []struct {
		name    string
		hops    []evidence.Hop
		length  int
		reached bool
		last    netip.Addr
		quiet   int
	}{
		{name: "reached", hops: Path(Bookings, Gateway, Edge, Bookings), length: 3, reached: true, last: Bookings},
		{name: "what lies after the destination is cut", hops: Path(Bookings, Gateway, Bookings, Bookings, Bookings), length: 2,
			reached: true, last: Bookings},
		{name: "a quiet station in the middle", hops: Path(Bookings, Gateway, silent, Provider, Bookings), length: 4, reached: true,
			last: Bookings, quiet: 1},
		{name: "ends in silence", hops: Path(Bookings, Gateway, Edge, silent, silent), length: 4, last: Edge},
		{name: "nothing answers", hops: Path(Bookings, silent, silent), length: 2},
		{name: "a second try answers", hops: slices.Concat(Path(Bookings, silent, Edge), Path(Bookings, Gateway)), length: 2, last: Edge},
	} {
		t.Run(c.name, func(t *testing.T) {
			for _, order := range []func([]evidence.Hop){func([]evidence.Hop) {}, slices.Reverse[[]evidence.Hop]} {
				hops := slices.Clone(c.hops)
				order(hops)
				trail, ok := (&evidence.Set{Hops: hops}).TrailTo(Bookings)
				assert.True(t, ok)
				assert.Len(t, trail.Stations, c.length)
				assert.Equal(t, c.reached, trail.Reached)
				last, any := trail.Last()
				assert.Equal(t, c.last.IsValid(), any)
				assert.Equal(t, c.last, last.From)
				assert.Len(t, trail.Quiet(), c.quiet)
			}
		})
	}
	_, ok := (&evidence.Set{}).TrailTo(Bookings)
	assert.False(t, ok, "not asked is not silent")
}

func TestTargetAddresses(t *testing.T) {
	s := Healthy()
	addrs, source := s.TargetAddresses()
	assert.Equal(t, []netip.Addr{Bookings}, addrs)
	assert.Equal(t, "DNS", source)

	s.Families.No4 = true
	addrs, _ = s.TargetAddresses()
	assert.Empty(t, addrs, "the family is not allowed")

	s = Healthy()
	s.Endpoint.Hosts = []endpoint.HostsLine{{Address: Edge, Names: []string{"Bookings.Kittiwake.Example"}}}
	addrs, source = s.TargetAddresses()
	assert.Equal(t, []netip.Addr{Edge}, addrs, "the hosts file beats DNS")
	assert.Equal(t, "hosts file", source)

	s = Healthy()
	s.Lookups[0].Addresses = []netip.Addr{Exchange, Bookings}
	addrs, _ = s.TargetAddresses()
	assert.Equal(t, []netip.Addr{Exchange, Bookings}, addrs, "the first resolver's answer, in order of address")

	s.Target, _ = target.Parse("[2001:db8::1]:443")
	addrs, source = s.TargetAddresses()
	assert.Equal(t, []netip.Addr{netip.MustParseAddr("2001:db8::1")}, addrs)
	assert.Equal(t, "given", source)
}

// A server that is late was silent until then: whatever the order in which it is learned, the answer counts, and else the longest silence.
func TestAnAnswerTakesThePlaceOfSilence(t *testing.T) {
	asked := func(outcome evidence.Outcome, waited time.Duration) evidence.Observation {
		return evidence.Lookup{Server: Exchange, Name: "bookings.kittiwake.example", Type: "A",
			Reply: evidence.Reply{Outcome: outcome, Waited: waited}}
	}
	short, long, late := asked(evidence.Silent, 1), asked(evidence.Silent, 5), asked(evidence.Answered, 0)
	for _, c := range []struct {
		order []evidence.Observation
		want  evidence.Observation
	}{
		{[]evidence.Observation{short, long}, long}, {[]evidence.Observation{long, short}, long},
		{[]evidence.Observation{short, late}, late}, {[]evidence.Observation{late, short}, late},
		{[]evidence.Observation{short, late, long}, late},
	} {
		var s evidence.Set
		for _, o := range c.order {
			s.Take(o)
		}
		assert.Equal(t, []evidence.Lookup{c.want.(evidence.Lookup)}, s.Lookups, "%v", c.order)
	}
}

func TestAnAliasIsNotTheRecordAskedFor(t *testing.T) {
	alias := evidence.Record{Name: "bookings.kittiwake.example", Type: "CNAME", Value: "exchange.kittiwake.example"}
	assert.False(t, evidence.Lookup{Type: "A", Records: []evidence.Record{alias}}.Has())
	assert.True(t, evidence.Lookup{Type: "CNAME", Records: []evidence.Record{alias}}.Has())
	assert.True(t, evidence.Lookup{Type: "A", Records: []evidence.Record{alias, {Type: "A"}}}.Has())
}

func TestWhyOf(t *testing.T) {
	for _, c := range []struct {
		v6         bool
		kind, code uint8
		want       evidence.Why
	}{
		{false, 3, 0, evidence.NoNet}, {false, 3, 1, evidence.NoHost}, {false, 3, 2, evidence.NoProtocol}, {false, 3, 3, evidence.NoPort},
		{false, 3, 4, evidence.TooBig},
		{false, 3, 9, evidence.Prohibited}, {false, 3, 13, evidence.Prohibited}, {false, 3, 99, evidence.OtherReason},
		{true, 1, 0, evidence.NoNet}, {true, 1, 1, evidence.Prohibited}, {true, 1, 3, evidence.NoHost}, {true, 1, 4, evidence.NoPort},
		{true, 2, 0, evidence.TooBig}, {true, 1, 99, evidence.OtherReason},
	} {
		assert.Equal(t, c.want, evidence.WhyOf(c.v6, c.kind, c.code), "%+v", c)
	}
}

func TestReplyCame(t *testing.T) {
	for o, want := range map[evidence.Outcome]bool{evidence.NotKnown: false, evidence.Silent: false, evidence.LocalError: false,
		evidence.Answered: true, evidence.Refused: true, evidence.Unreachable: true, evidence.Expired: true, evidence.Malformed: true} {
		assert.Equal(t, want, evidence.Reply{Outcome: o, RTT: time.Millisecond}.Came(), o.String())
		assert.NotEmpty(t, o.String())
	}
}
