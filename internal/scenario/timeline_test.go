package scenario_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/scenario"
)

func TestTimeline(t *testing.T) {
	s, err := scenario.Load("fault-comes-and-goes")
	require.NoError(t, err)
	at := func(seconds float64) time.Duration { return time.Duration(seconds * float64(time.Second)) }
	for _, c := range []struct {
		at        float64
		zone      string
		loss      float64 // on the pier
		unplugged bool
	}{{0, "", 0, false}, {11.9, "", 0, false}, {12, "local-subnet", 1, false}, {20, "", 0, false}, {30, "beyond", 0, false},
		{41, "host", 0, true}, {65, "local-subnet", .8, false}, {75 + 13, "local-subnet", 1, false}} {
		assert.Equal(t, c.zone, s.Timeline.Zone(at(c.at)), "%v s", c.at)
		assert.InDelta(t, c.loss, s.TreatmentAt("pier", at(c.at)).Loss, 1e-9, "%v s", c.at)
		assert.Equal(t, c.unplugged, s.Timeline.Unplugged("ticket-03", "eth0", at(c.at)), "%v s", c.at)
	}
	next, more := s.Timeline.Next(at(20.5))
	assert.True(t, more)
	assert.Equal(t, at(26), next)
	next, _ = s.Timeline.Next(at(74))
	assert.Equal(t, at(75+12), next, "and so on in the next round")
	_, more = scenario.Timeline{}.Next(0)
	assert.False(t, more)

	moves, err := scenario.Load("target-moves")
	require.NoError(t, err)
	_, moved := moves.Timeline.Moved("bookings.kittiwake.example", at(3))
	assert.False(t, moved)
	to, moved := moves.Timeline.Moved("bookings.kittiwake.example", at(9))
	assert.True(t, moved)
	assert.Equal(t, "203.0.113.81", to.String())
	bursts, err := scenario.Load("segment-loses-in-bursts")
	require.NoError(t, err)
	assert.Equal(t, 1.0, bursts.TreatmentAt("pier", 17*time.Millisecond).Loss)
	assert.Zero(t, bursts.TreatmentAt("pier", 25*time.Millisecond).Loss)
	assert.True(t, bursts.Shaped("pier"))
	assert.False(t, bursts.Shaped("uplink"))
}

func TestTimelineThatCannotBe(t *testing.T) {
	for event, want := range map[string]string{
		"{from: 1s}":                                      "one of segment, unplug, name and node",
		"{from: 1s, segment: nowhere}":                    `segment "nowhere" is not there`,
		"{from: 1s, unplug: ticket-03}":                   "write node/port",
		"{from: 1s, name: bookings.kittiwake.example}":    "to which address",
		"{from: 50s, for: 20s, segment: pier}":            "outside the timeline",
		"{from: 1s, segment: pier, unplug: pier-gw/eth0}": "one of segment, unplug, name and node",
	} {
		_, err := scenario.Parse([]byte("site: kittiwake\ntimeline: {repeat: 60s, events: ["+event+"]}\n"), func(string) ([]byte, error) {
			return []byte("endpoint: ticket-03\nsegments: {pier: {delay: 1ms}}\nnodes: {ticket-03: {ports: {eth0: {segment: pier}}}, " +
				"pier-gw: {ports: {eth0: {segment: pier}}}}"), nil
		})
		if assert.Error(t, err, event) {
			assert.Contains(t, err.Error(), want)
			assert.Equal(t, 0, strings.Count(err.Error(), "\n"))
		}
	}
}
