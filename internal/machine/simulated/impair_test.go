package simulated_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/machine"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/scenario"
)

// altered builds the healthy site with something changed.
func altered(t *testing.T, change func(*scenario.Scenario)) machine.Machine {
	s, err := scenario.Load("healthy")
	require.NoError(t, err)
	change(s)
	site, err := simulated.Build(s, simulated.Options{})
	require.NoError(t, err)
	t.Cleanup(site.Close)
	return site.Machine()
}

// patience is how long the next answer is waited for where one is expected: the machine that runs the tests may be busy.
const patience = 3 * time.Second

// echoes sends echo requests, so many of that size and hop limit, and counts what comes back, by outcome, until all have been answered or
// nothing has come for a time.
func echoes(t *testing.T, m machine.Machine, c machine.EchoConfig, to string, n, size, hops int,
	within time.Duration) map[evidence.Outcome]int {
	port, err := m.OpenEcho(c)
	require.NoError(t, err)
	sent := make(chan struct{})
	go func() {
		defer close(sent)
		for i := range n {
			_, _ = port.Send(machine.EchoRequest{To: netip.MustParseAddr(to), Seq: uint16(i), HopLimit: hops, Payload: make([]byte, size)})
			time.Sleep(time.Millisecond)
		}
	}()
	<-sent
	over := time.AfterFunc(within, func() { port.Close() })
	got, answers := map[evidence.Outcome]int{}, 0
	for {
		a, err := port.Receive()
		if err != nil {
			return got
		}
		got[a.Outcome]++
		over.Reset(within)
		if answers++; answers == n {
			port.Close()
		}
	}
}

func TestSegmentsImpair(t *testing.T) {
	const n = 60
	for _, c := range []struct {
		name      string
		change    func(*scenario.Scenario)
		size      int
		low, high int // replies
	}{
		{"clean", func(*scenario.Scenario) {}, 48, n, n},
		{"a third lost each way", func(s *scenario.Scenario) { s.Site.Segments["far"].Loss = 33 }, 48, 10, 45},
		{"all lost for half of the time", func(s *scenario.Scenario) {
			s.Site.Segments["far"].Bursts = scenario.Bursts{Every: scenario.Duration(30 * time.Millisecond),
				For: scenario.Duration(15 * time.Millisecond)}
		}, 48, 5, 55},
		{"large packets vanish", func(s *scenario.Scenario) { s.Site.Segments["far"].MTU = 1000 }, 1200, 0, 0},
		{"small ones pass", func(s *scenario.Scenario) { s.Site.Segments["far"].MTU = 1000 }, 900, n, n},
		{"lost as the timeline says", func(s *scenario.Scenario) {
			s.Timeline = scenario.Timeline{Events: []scenario.Event{{Segment: "uplink", Loss: 100}}}
		}, 48, 0, 0},
	} {
		within := patience
		if c.high == 0 {
			within = 400 * time.Millisecond
		}
		got := echoes(t, altered(t, c.change), machine.EchoConfig{}, "203.0.113.80", n, c.size, 0, within)
		assert.GreaterOrEqual(t, got[evidence.Answered], c.low, c.name)
		assert.LessOrEqual(t, got[evidence.Answered], c.high, c.name)
	}
}

func TestRoutersRationAndSayTooBig(t *testing.T) {
	m := altered(t, func(s *scenario.Scenario) {
		s.Site.Nodes["sound-edge"].Expiries = &scenario.Ration{PerMinute: 60, Burst: 3}
	})
	got := echoes(t, m, machine.EchoConfig{}, "203.0.113.80", 20, 48, 2, patience)
	assert.InDelta(t, 3, got[evidence.Expired], 1, "a burst, and then one a second")

	m = altered(t, func(s *scenario.Scenario) { s.Site.Nodes["sound-edge"].Ports["eth1"].MTU = 1200 })
	got = echoes(t, m, machine.EchoConfig{DontFragment: true}, "203.0.113.80", 3, 1300, 0, patience)
	assert.Equal(t, map[evidence.Outcome]int{evidence.Unreachable: 3}, got, "a router says what does not fit")
	got = echoes(t, m, machine.EchoConfig{DontFragment: true}, "203.0.113.80", 3, 1100, 0, patience)
	assert.Equal(t, map[evidence.Outcome]int{evidence.Answered: 3}, got)
}

// A port that the timeline unplugs has no carrier, sends nothing, and says so to whoever watches.
func TestPortsFollowTheTimeline(t *testing.T) {
	m := altered(t, func(s *scenario.Scenario) {
		s.Timeline = scenario.Timeline{
			Events: []scenario.Event{
				{From: scenario.Duration(400 * time.Millisecond), For: scenario.Duration(400 * time.Millisecond),
					Unplug: "ticket-03/eth0"}}}
	})
	changes, err := m.Watch(t.Context())
	require.NoError(t, err)
	carrier := func() endpoint.Carrier {
		e, err := m.Read(t.Context())
		require.NoError(t, err)
		i, ok := e.Interface("eth0")
		require.True(t, ok)
		return i.Carrier
	}
	assert.Equal(t, endpoint.CarrierPresent, carrier())
	<-changes
	assert.Equal(t, endpoint.CarrierAbsent, carrier())
	assert.Empty(t, echoes(t, m, machine.EchoConfig{}, "172.27.40.1", 3, 48, 0, 100*time.Millisecond))
	<-changes
	assert.Equal(t, endpoint.CarrierPresent, carrier())
}

// Machines that have spoken before know each other, and it shows as such.
func TestAcquainted(t *testing.T) {
	m := altered(t, func(s *scenario.Scenario) { s.Site.Segments["pier"].Acquainted = true })
	n, err := m.Neighbours(t.Context())
	require.NoError(t, err)
	found := false
	for _, x := range n {
		if x.Address == netip.MustParseAddr("172.27.40.1") {
			found = true
			assert.Equal(t, endpoint.Reachable, x.State)
		}
	}
	assert.True(t, found)
}
