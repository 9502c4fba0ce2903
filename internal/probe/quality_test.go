package probe_test

import (
	"fmt"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/path"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/nap/naptest"
	"passepartout/internal/probe"
	"passepartout/internal/scenario"
)

func TestSize(t *testing.T) {
	for _, c := range []struct {
		scenario           string
		to                 netip.Addr
		full, passes, lost int
		told               bool
		from               string
	}{
		{"healthy", bookings, 1500, 1500, 0, false, ""},
		{"healthy", netip.MustParseAddr("2001:db8:113::70"), 1500, 1500, 0, false, ""},
		{"mtu-black-hole", bookings, 1500, 1400, 1401, false, ""},
		{"mtu-black-hole", gateway, 1500, 1500, 0, false, ""},
		{"path-says-too-big", bookings, 1500, 1400, 1500, true, "198.51.100.1"},
		{"mtu-too-large", gateway, 4000, 1500, 1501, false, ""},
	} {
		for _, p := range []simulated.Privilege{simulated.Full, simulated.Unprivileged} {
			t.Run(fmt.Sprint(c.scenario, " ", c.to, " ", p), func(t *testing.T) {
				t.Parallel()
				e := probe.NewEchoer(at(t, c.scenario, simulated.Options{Privilege: p}), "")
				defer e.Close()
				naptest.Undisturbed(t, func(truth assert.TestingT) {
					s, ok := probe.Size(within(t, time.Minute), e,
						probe.SizeQuestion{To: c.to, Full: c.full, Patience: func() time.Duration { return 500 * time.Millisecond }})
					assert.True(truth, ok)
					assert.Equal(truth, []any{c.passes, c.lost, c.told}, []any{s.Passes, s.Lost, s.Told})
					if c.told {
						assert.Equal(truth, c.from, s.From.String())
					}
				})
			})
		}
	}
	e := probe.NewEchoer(at(t, "healthy", simulated.Options{}), "")
	defer e.Close()
	over := make(chan struct{})
	close(over)
	_, ok := probe.Size(within(t, 5*time.Second), e,
		probe.SizeQuestion{To: nobody, Full: 1500, Patience: func() time.Duration { return time.Second }, Enough: over})
	assert.False(t, ok, "nobody there: nothing is known of sizes")
}

func TestBursts(t *testing.T) {
	grace := func(slowest time.Duration) time.Duration { return 2*slowest + 300*time.Millisecond }
	m := at(t, "healthy", simulated.Options{})
	e := probe.NewEchoer(m, "")
	defer e.Close()
	b, ok := probe.EchoBurst(within(t, 5*time.Second), e,
		probe.BurstQuestion{To: bookings, Count: 20, Apart: 2 * time.Millisecond, Grace: grace})
	assert.True(t, ok)
	assert.Equal(t, []int{20, 20}, []int{b.Sent, b.Received})
	assert.Greater(t, b.Median, 19*time.Millisecond)
	b, ok = probe.NameBurst(within(t, 5*time.Second), m, probe.BurstQuestion{To: ns, Count: 20, Apart: 2 * time.Millisecond, Grace: grace})
	assert.True(t, ok)
	assert.Equal(t, "dns", b.Method)
	assert.Equal(t, 20, b.Received)

	lossy := probe.NewEchoer(at(t, "path-lossy", simulated.Options{}), "")
	defer lossy.Close()
	b, ok = probe.EchoBurst(within(t, 5*time.Second), lossy,
		probe.BurstQuestion{To: bookings, Count: 100, Apart: 2 * time.Millisecond, Grace: grace})
	assert.True(t, ok)
	assert.True(t, path.Lossy(b.Sent-b.Received, b.Sent), "%+v", b)
	_, ok = probe.EchoBurst(within(t, 30*time.Millisecond), e,
		probe.BurstQuestion{To: nobody, Count: 20, Apart: 2 * time.Millisecond, Grace: grace})
	assert.False(t, ok, "cut short says nothing")
}

// A balanced middle draws one path in one flow, and its branches in several.
func TestFlowsShowBranches(t *testing.T) {
	m := at(t, "balanced-middle", simulated.Options{})
	e := probe.NewEchoer(m, "")
	defer e.Close()
	voices := func(method probe.TraceMethod, flows, rounds int) (most int) {
		track := &path.Track{To: bookings}
		var mu sync.Mutex
		_, err := probe.Trace(within(t, time.Minute), e,
			probe.TraceQuestion{To: netip.AddrPortFrom(bookings, 443), Method: method, First: 1, Last: 12, Patience: 3 * time.Second,
				Flows: flows, Rounds: rounds, Interval: 50 * time.Millisecond}, func(s path.Seen) {
				mu.Lock()
				defer mu.Unlock()
				track.Add(s)
			})
		require.NoError(t, err)
		assert.True(t, track.Reached())
		for _, p := range track.Places(-1) {
			most = max(most, len(p.Voices))
		}
		assert.Empty(t, track.Changes(), "by %s", method)
		return most
	}
	for _, method := range []probe.TraceMethod{probe.TraceICMP, probe.TraceUDP, probe.TraceTCP} {
		assert.Equal(t, 1, voices(method, 1, 5), "one flow by %s keeps to one path", method)
	}
	assert.Equal(t, 2, voices(probe.TraceUDP, 12, 1))
	assert.Equal(t, 2, voices(probe.TraceTCP, 12, 1))
	s, err := scenario.Load("healthy")
	require.NoError(t, err)
	limited := probe.NewEchoer(atSite(t, s, simulated.Options{Privilege: simulated.EchoOnly}), "")
	defer limited.Close()
	apart, err := probe.Trace(within(t, 5*time.Second), limited,
		probe.TraceQuestion{To: netip.AddrPortFrom(bookings, 443), Method: probe.TraceTCP, First: 1, Last: 6, Patience: time.Second},
		func(path.Seen) {})
	assert.NoError(t, err)
	assert.True(t, apart, "without raw frames, each station by a connection of its own, and it says so")
}
