package verdict_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/verdict"
)

// Before beside after: what became of the fault, and what was changed meanwhile.
func TestBeforeBesideAfter(t *testing.T) {
	judged := func(change func(*evidence.Set)) verdict.Result {
		s := Healthy()
		if change != nil {
			change(s)
		}
		return verdict.Judge(s)
	}
	elsewhere := func(s *evidence.Set) {
		GatewayGone(s)
		s.Endpoint.Routes[0].Via, s.Routes[0].Via = netip.MustParseAddr("172.27.40.254"), netip.MustParseAddr("172.27.40.254")
		s.Neighbours[0].Asked = netip.MustParseAddr("172.27.40.254")
	}
	for _, c := range []struct {
		name          string
		before, after func(*evidence.Set)
		want          verdict.Outcome
		says, changed string
	}{
		{"nothing was wrong", nil, nil, verdict.NothingWrong, "", ""},
		{"the gateway is back", GatewayGone, nil, verdict.Repaired, "Repaired. Changed: gateway: broken → holds",
			"service: broken → holds"},
		{"nothing was done", GatewayGone, GatewayGone, verdict.StillBroken, "Still broken. Nothing that was tested has changed.", ""},
		{"a gateway was set, and it does not help", GatewayGone, elsewhere, verdict.StillBroken, "Still broken.",
			"gateway set: 172.27.40.1 lies inside the mask → 172.27.40.254 lies inside the mask"},
		{"the next fault shows", GatewayGone, func(s *evidence.Set) {
			s.Connects = []evidence.Connect{
				{To: netip.AddrPortFrom(Bookings, 443), Reply: evidence.Reply{Outcome: evidence.Refused, From: Bookings}}}
		}, verdict.AnotherFault, "Before it was: the gateway does not answer.", "gateway: broken → holds"},
		{"broken by the repair", nil, GatewayGone, verdict.BrokenSince, "Broken since the run before", "gateway: holds → broken"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := verdict.Compare(judged(c.before), judged(c.after))
			assert.Equal(t, c.want, s.Outcome)
			assert.Contains(t, s.Words, c.says)
			var changed []string
			for _, x := range s.Changes {
				changed = append(changed, x.String())
				of, ok := s.Of(x.After.ID)
				assert.True(t, ok)
				assert.Equal(t, x, of)
			}
			if c.changed == "" {
				assert.Empty(t, changed)
			} else {
				assert.Contains(t, changed, c.changed)
			}
		})
	}
}
