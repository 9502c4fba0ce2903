package plan_test

import (
	"context"
	"net"
	"net/netip"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/site"
	"passepartout/internal/core/target"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
	"passepartout/internal/machine"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/nap/naptest"
	"passepartout/internal/probe/plan"
	"passepartout/internal/scenario"
)

func config(t *testing.T, name string, change func(*scenario.Scenario)) plan.Config {
	s, err := scenario.Load(name)
	require.NoError(t, err)
	if change != nil {
		change(s)
	}
	site, err := simulated.Build(s, simulated.Options{})
	require.NoError(t, err)
	t.Cleanup(site.Close)
	want, err := target.Parse(s.Target)
	require.NoError(t, err)
	return plan.Config{Machine: site.Machine(), Target: want}
}

func ask(t *testing.T, c plan.Config, text string) plan.Config {
	want, err := target.Parse(text)
	require.NoError(t, err)
	c.Target = want
	return c
}

func TestTargets(t *testing.T) {
	for _, c := range []struct {
		scenario, target string
		families         evidence.Families
		zone             zone.Zone
		fault            string
		says             string
	}{
		{scenario: "healthy", target: "", zone: zone.None, says: "no target was given"},
		{scenario: "healthy", target: "bookings", zone: zone.None},
		{scenario: "healthy", target: "203.0.113.80", zone: zone.None},
		{scenario: "healthy", target: "203.0.113.80:443", zone: zone.None},
		{scenario: "healthy", target: "http://bookings.kittiwake.example/", zone: zone.None, says: "answers requests"},
		{scenario: "healthy", target: "https://bookings.kittiwake.example/", zone: zone.None},
		{scenario: "healthy", target: "weather.kittiwake.example", zone: zone.None}, // ignores echo: its service is asked
		{scenario: "healthy", target: "tides.kittiwake.example:443", families: evidence.Families{No4: true}, zone: zone.None},
		{scenario: "healthy", target: "tides.kittiwake.example:443", families: evidence.Families{No6: true}, zone: zone.None},
		{scenario: "healthy", target: "172.27.40.50", zone: zone.None},
		{scenario: "healthy", target: "172.27.40.50:80", zone: zone.LocalSubnet, fault: "service-refused"},
		{scenario: "gateway-silent", target: "172.27.40.50", zone: zone.None},
		{scenario: "gateway-silent", target: "", zone: zone.LocalSubnet, fault: "gateway-silent"},
		{scenario: "gateway-not-set", target: "172.27.40.50", zone: zone.None},
		{scenario: "path-stops", target: "", zone: zone.Beyond}, // its routers answer, and no end host does
		{scenario: "routing-loop", target: "", zone: zone.Beyond, fault: "routing-loop"},
		{scenario: "uplink-down-names-too", target: "", zone: zone.Beyond},
		{scenario: "gateway-does-not-forward", target: "", zone: zone.LocalSubnet, fault: "gateway-does-not-forward"},
		{scenario: "healthy-six-only", target: "", zone: zone.None, says: "answers past the gateway"},
		{scenario: "resolver-silent", target: "203.0.113.80:443", zone: zone.None},
	} {
		t.Run(c.scenario+" "+c.target, func(t *testing.T) {
			t.Parallel()
			q := ask(t, config(t, c.scenario, nil), c.target)
			q.Families = c.families
			naptest.Undisturbed(t, func(found assert.TestingT) {
				set, r, err := plan.Run(t.Context(), q, nil)
				require.NoError(t, err)
				assert.Equal(found, c.zone, r.Zone, r.Sentence)
				assert.Equal(found, c.fault, string(r.Fault), r.Sentence)
				assert.Contains(found, r.Sentence, c.says)
				assert.Equal(t, "eth0", set.Interface)
			})
		})
	}
}

// A further test is made when the suspects that are left differ on it, and only then.
func TestFurtherTests(t *testing.T) {
	if testing.Short() {
		t.Skip("what is chosen depends on who answers in time: not beside the race detector")
	}
	for _, c := range []struct {
		scenario string
		first    string // that is made, if any
		found    string
	}{
		{scenario: "healthy"},
		{scenario: "healthy-two-ports"},
		{scenario: "service-refused"},
		{scenario: "uplink-down"}, // the gateway itself has said that it has no way on
		{"resolver-wrong", "named-servers", "says 203.0.113.80."},
		{"gateway-silent", "another-neighbour", "None of the 3"},
		{"dhcp-wrong-options", "another-neighbour", "172.27.40.1 does."},
		{"competing-default-routes", "another-port", "Yes, out of eth0."},
	} {
		s, r, err := plan.Run(t.Context(), config(t, c.scenario, nil), nil)
		require.NoError(t, err)
		if c.first == "" {
			assert.Empty(t, s.Chosen, "%s: %s", c.scenario, r.Sentence)
			continue
		}
		if assert.NotEmpty(t, s.Chosen, "%s: %s", c.scenario, r.Sentence) {
			first := s.Chosen[0]
			assert.Equal(t, c.first, first.Test, c.scenario)
			assert.NotEmpty(t, first.Between, c.scenario)
			assert.Contains(t, verdict.TestOf(first).Found(s), c.found, c.scenario)
		}
	}
}

func TestUnknownInterface(t *testing.T) {
	c := config(t, "healthy", nil)
	c.Interface = "eth7"
	_, _, err := plan.Run(t.Context(), c, nil)
	require.ErrorIs(t, err, endpoint.ErrNoInterface)
	assert.ErrorContains(t, err, "lo, eth0", "it names those that there are")
}

func TestDeadlineCountsAsWithheld(t *testing.T) {
	c := config(t, "gateway-silent", nil) // before the time runs
	told := &underWay{}
	c.Log = told
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	began := time.Now()
	set, r, err := plan.Run(ctx, c, nil)
	require.NoError(t, err)
	assert.Less(t, time.Since(began), 5*time.Second)
	assert.Equal(t, zone.Undetermined, r.Zone, "a third of a second is too short to call anybody silent")
	assert.NotEqual(t, verdict.Certain, r.Confidence, r.Sentence)
	assert.Contains(t, set.Withheld, evidence.Withheld{Kind: evidence.ServiceConnect, Why: "was cut short by the deadline"})
	assert.Empty(t, set.Open)
	assert.Empty(t, told.kinds, "and the log folds to the same")
	assert.Greater(t, told.times, 1)
}

// underWay is a log that keeps what was told last of what is under way.
type underWay struct {
	kinds []evidence.Kind
	times int
}

func (u *underWay) Begin(evidence.Subject, *endpoint.Endpoint, *site.Sheet) {}
func (u *underWay) Observe(evidence.Observation)                            {}
func (u *underWay) UnderWay(kinds []evidence.Kind)                          { u.kinds, u.times = kinds, u.times+1 }

// A verdict that has settled does not unsettle by what is asked for the screen's sake.
func TestThoroughKeepsWhatHasSettled(t *testing.T) {
	for _, name := range []string{"gateway-silent", "service-refused", "dhcp-silent"} {
		c := config(t, name, nil)
		c.Thorough = true
		var first verdict.Result
		_, _, err := plan.Run(t.Context(), c, func(_ *evidence.Set, r verdict.Result) {
			if first.Settled {
				assert.Equal(t, first.Fault, r.Fault, r.Sentence)
			} else if r.Settled {
				first = r
			}
		})
		require.NoError(t, err)
	}
}

func TestThoroughGoesOnAndNamesTheStations(t *testing.T) {
	c := config(t, "healthy", nil)
	c.Thorough = true
	settled, snapshots := 0, 0
	set, r, err := plan.Run(t.Context(), c, func(_ *evidence.Set, r verdict.Result) {
		snapshots++
		if r.Settled && settled == 0 {
			settled = snapshots
		}
	})
	require.NoError(t, err)
	assert.Equal(t, zone.None, r.Zone)
	assert.Greater(t, snapshots, settled, "it went on after the verdict")
	names := map[string]bool{}
	for _, n := range set.Names {
		names[n.Name] = true
	}
	assert.True(t, names["pier-gw.kittiwake.example"] && names["sound-edge.kittiwake.example"], "%v", set.Names)
}

func TestNoGoroutineIsLeftBehind(t *testing.T) {
	c := config(t, "healthy", nil)
	before := runtime.NumGoroutine()
	for range 3 {
		_, _, err := plan.Run(t.Context(), c, nil)
		require.NoError(t, err)
	}
	assert.Eventually(t, func() bool { return runtime.NumGoroutine() <= before+4 }, 3*time.Second, 20*time.Millisecond, "%d before, %d now",
		before, runtime.NumGoroutine())
}

// hopsTo counts what was sent towards an address, and the largest hop limit in it.
func hopsTo(s *evidence.Set, to netip.Addr) (n, largest int) {
	for _, h := range s.Hops {
		if h.To == to {
			n++
			largest = max(largest, h.HopLimit)
		}
	}
	return n, largest
}

func TestNowhereIsTheLastResort(t *testing.T) {
	t.Parallel()
	for name, asked := range map[string]bool{"healthy": false, "name-not-found": false, "uplink-down": false, "uplink-down-names-too": true,
		"forwarder-without-answer": true} {
		c := config(t, name, nil)
		c.Thorough = true
		set, _, err := plan.Run(t.Context(), c, nil)
		require.NoError(t, err)
		n, largest := hopsTo(set, evidence.Unassigned)
		assert.Equal(t, asked, n > 0, name)
		assert.LessOrEqual(t, largest, 6, "no farther than the provider's first routers")
	}
}

func TestOfferedNameServersAreWitnesses(t *testing.T) {
	t.Parallel()
	c := config(t, "healthy", func(s *scenario.Scenario) {
		s.Site.Nodes["ticket-03"].Resolvers = s.Site.Nodes["ticket-03"].Resolvers[:1]
	})
	c.Thorough = true
	set, _, err := plan.Run(t.Context(), c, nil)
	require.NoError(t, err)
	n, _ := hopsTo(set, netip.MustParseAddr("203.0.113.53"))
	assert.Positive(t, n, "only the offer names it")
}

// replugged is a machine whose cable is pulled while the tests run: it is seen at the second reading.
type replugged struct {
	machine.Machine
	readings *atomic.Int32
}

func (m replugged) Read(ctx context.Context) (*endpoint.Endpoint, error) {
	e, err := m.Machine.Read(ctx)
	if err == nil && m.readings.Add(1) > 1 {
		for i := range e.Interfaces {
			if e.Interfaces[i].Name == "eth0" {
				e.Interfaces[i].Carrier = endpoint.CarrierAbsent
			}
		}
	}
	return e, err
}

// Evidence from before and after a change does not fit together: no fault is named from it.
func TestNetworkThatChangesDuringTheRun(t *testing.T) {
	c := config(t, "service-refused", nil)
	c.Machine = replugged{c.Machine, new(atomic.Int32)}
	_, r, err := plan.Run(t.Context(), c, nil)
	require.NoError(t, err)
	assert.Equal(t, zone.Undetermined, r.Zone)
	assert.Contains(t, r.Sentence, "eth0 has lost its signal")
	assert.Contains(t, r.Next[0], "again")
	assert.Equal(t, []fault.ID{"service-refused"}, r.Candidates)
	c = config(t, "healthy", nil)
	c.Machine = replugged{c.Machine, new(atomic.Int32)}
	_, r, err = plan.Run(t.Context(), c, nil)
	require.NoError(t, err)
	assert.Equal(t, zone.None, r.Zone, "the target was reached")
}

// lost is a machine whose port vanishes while the tests run.
type lost struct{ machine.Machine }

func (m lost) OpenFrames(machine.FrameConfig) (machine.FrameSocket, error) {
	return nil, machine.ErrGone
}
func (m lost) Neighbours(context.Context) ([]endpoint.Neighbour, error) {
	return nil, machine.ErrGone
}
func (m lost) Connect(context.Context, machine.ConnectConfig) (net.Conn, evidence.Reply) {
	return nil, machine.LocalError(machine.ErrGone)
}

func TestPortThatVanishesDuringTheRun(t *testing.T) {
	c := config(t, "healthy", nil)
	c.Machine = lost{c.Machine}
	set, r, err := plan.Run(t.Context(), c, nil)
	require.NoError(t, err)
	assert.NotEqual(t, zone.None, r.Zone)
	assert.NotEqual(t, verdict.Certain, r.Confidence, r.Sentence)
	assert.True(t, set.IsWithheld(evidence.SegmentFrames))
}

// A server that tests an address before it offers it is waited for: that it does is seen by the address it asks for.
func TestSlowDHCPServerIsWaitedFor(t *testing.T) {
	c := config(t, "healthy", func(s *scenario.Scenario) {
		s.Site.Nodes["ticket-03"].Ports["eth0"].Addresses = nil
		s.Site.Nodes["ticket-03"].Routes = nil
		s.Site.Nodes["pier-core"].DHCP.Slow = scenario.Duration(2500 * time.Millisecond)
	})
	_, r, err := plan.Run(t.Context(), c, nil)
	require.NoError(t, err)
	assert.EqualValues(t, "no-address", r.Fault, r.Sentence)
}

// Answers that come when nobody waits for them any more are late; they were not swallowed by a filter of this machine.
func TestLateAnswersAreNotSwallowed(t *testing.T) {
	c := config(t, "healthy", func(s *scenario.Scenario) { s.Site.Segments["far"].Delay = scenario.Duration(1800 * time.Millisecond) })
	naptest.Undisturbed(t, func(found assert.TestingT) {
		set, r, err := plan.Run(t.Context(), c, nil)
		require.NoError(t, err)
		assert.NotEqual(found, zone.Host, r.Zone, r.Sentence)
		assert.Empty(found, set.Arrivals)
	})
}

// Where a name fails, the address that it had before is tried, and told to be that.
func TestTheAddressThatTheNameHadBefore(t *testing.T) {
	for _, c := range []struct {
		scenario, says string
		fault          fault.ID
	}{
		{"resolver-silent", "203.0.113.80, the address that bookings.kittiwake.example had before, answers", "resolver-silent"},
		{"uplink-down-names-too", "", "uplink-down"},
	} {
		q := config(t, c.scenario, nil)
		q.Before = []netip.Addr{netip.MustParseAddr("203.0.113.80")}
		set, r, err := plan.Run(t.Context(), q, nil)
		require.NoError(t, err)
		assert.Equal(t, q.Before, set.Before)
		assert.Equal(t, c.fault, r.Fault, r.Sentence)
		assert.True(t, slices.ContainsFunc(set.Connects, func(x evidence.Connect) bool { return x.To.Addr() == q.Before[0] }))
		assert.Contains(t, strings.Join(r.Suspects[slices.IndexFunc(r.Suspects, func(s verdict.Suspect) bool {
			return s.Fault.ID == c.fault
		})].For, "\n"), c.says)
	}
}
