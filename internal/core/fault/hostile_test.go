package fault_test

import (
	"net/netip"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/verdict"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Whoever can send packets here can lie. What only he says never makes a verdict certain; the same from one who has shown himself on the
// way does.
func TestHostileAnswers(t *testing.T) {
	stranger := netip.MustParseAddr("192.0.2.66")
	liar := endpoint.HardwareAddr{2, 0, 0, 0, 0, 0x66}
	flood := func(s *evidence.Set) {
		for i := range 200 {
			s.Heard = append(s.Heard, evidence.Heard{Address: netip.AddrFrom4([4]byte{172, 27, 40, byte(i)}), Hardware: liar})
		}
	}
	for _, c := range []struct {
		name    string
		change  func(*evidence.Set)
		certain bool
	}{
		{"a router on the way says unreachable", func(s *evidence.Set) { Alone(s, Said(Exchange, evidence.NoHost, 4)) }, true},
		{"a stranger says unreachable", func(s *evidence.Set) { Alone(s, Said(stranger, evidence.NoHost, 9)) }, false},
		{"a router on the way says prohibited", func(s *evidence.Set) { Alone(s, Said(Edge, evidence.Prohibited, 2)) }, true},
		{"a stranger says prohibited", func(s *evidence.Set) { Alone(s, Said(stranger, evidence.Prohibited, 9)) }, false},
		{"the name does not exist", func(s *evidence.Set) { Unnamed(s, AnsweredBy("NXDOMAIN")) }, true},
		{"the name does not exist, and somebody else is answering too", func(s *evidence.Set) {
			Unnamed(s, AnsweredBy("NXDOMAIN"))
			s.Lookups[0].Ignored = 3
		}, false},
		{"another has this address", func(s *evidence.Set) {
			GatewayGone(s)
			s.Conflicts[0] = evidence.Conflict{Address: Own, Hardware: liar, Reply: Answer(Own, 1)}
		}, true},
		{"one claims everybody's address", func(s *evidence.Set) {
			GatewayGone(s)
			flood(s)
			s.Conflicts[0] = evidence.Conflict{Address: Own, Hardware: liar, Reply: Answer(Own, 1)}
		}, false},
		{"many claim the gateway", func(s *evidence.Set) {
			Cut(s)
			s.Neighbours[0].Hardware = []endpoint.HardwareAddr{{2, 1}, {2, 2}, {2, 3}, liar}
		}, false},
		{"a flood, and the target works", flood, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := Healthy()
			c.change(s)
			r := verdict.Judge(s)
			assert.Equal(t, c.certain, r.Confidence == verdict.Certain, "%s: %s %s", r.Sentence, r.Fault, r.Confidence)
		})
	}
}
