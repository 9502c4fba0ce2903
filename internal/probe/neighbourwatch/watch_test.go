package neighbourwatch_test

import (
	"context"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/neighbours"
	"passepartout/internal/core/site"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/probe/neighbourwatch"
	"passepartout/internal/scenario"
)

// start watches over the neighbours of the endpoint of a scenario, changed before it is built.
func start(t *testing.T, name string, o simulated.Options, sheet *site.Sheet, change func(*scenario.Scenario)) *neighbourwatch.Watch {
	s, err := scenario.Load(name)
	require.NoError(t, err)
	if change != nil {
		change(s)
	}
	built, err := simulated.Build(s, o)
	require.NoError(t, err)
	e, err := built.Machine().Read(t.Context())
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	p, err := neighbourwatch.Start(ctx, neighbourwatch.Config{Machine: built.Machine(), Interface: "eth0", Endpoint: e, Sheet: sheet})
	require.NoError(t, err)
	t.Cleanup(func() { cancel(); p.Wait(); built.Close() })
	return p
}

func row(p *neighbourwatch.Watch, a string) (neighbours.Row, bool) {
	rows := p.See().Rows
	i := slices.IndexFunc(rows, func(r neighbours.Row) bool { return r.Address == netip.MustParseAddr(a) })
	if i < 0 {
		return neighbours.Row{}, false
	}
	return rows[i], true
}

func nameOf(p *neighbourwatch.Watch, a string) string {
	r, _ := row(p, a)
	var parts []string
	for _, n := range r.Names {
		parts = append(parts, n.Text+" by "+n.Source.String())
	}
	return strings.Join(parts, ", ")
}

// Everybody on the segment is found, with a name and who gives it; the switch says who it is.
func TestWholeSegment(t *testing.T) {
	for _, c := range []struct {
		name string
		o    simulated.Options
	}{{"with frames", simulated.Options{}}, {"without frames", simulated.Options{Privilege: simulated.Unprivileged}}} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			sheet := &site.Sheet{
				Networks: []site.Network{
					{Prefixes: []netip.Prefix{netip.MustParsePrefix("172.27.40.0/24")},
						Fixed: []site.Fixed{{Address: netip.MustParseAddr("172.27.40.31"), Name: "gate-scanner-1"}}}}}
			p := start(t, "healthy", c.o, sheet, nil)
			require.NoError(t, p.Ask(t.Context(), 0))
			got := p.See().Progress
			assert.True(t, got.Over)
			assert.Equal(t, 253, got.Asked)
			assert.Equal(t, 7, got.Answered)
			for _, a := range []string{"172.27.40.1", "172.27.40.2", "172.27.40.31", "172.27.40.32", "172.27.40.50", "172.27.40.60",
				"172.27.40.70"} {
				r, ok := row(p, a)
				assert.True(t, ok && r.Alive, "%s: %+v", a, r)
			}
			_, ok := row(p, "172.27.40.90")
			assert.False(t, ok, "nobody is there")
			assert.Eventually(t, func() bool { return nameOf(p, "172.27.40.50") == "label-printer.local by mDNS" }, 5*time.Second,
				20*time.Millisecond)
			assert.Eventually(t, func() bool {
				return nameOf(p, "172.27.40.1") == "pier-gw.kittiwake.example by reverse DNS"
			}, 5*time.Second, 20*time.Millisecond)
			assert.Contains(t, nameOf(p, "172.27.40.31"), "gate-scanner-1 by site sheet")
			six, ok := row(p, "2001:db8:40::2")
			assert.Equal(t, c.o.Privilege == simulated.Full, ok && six.Alive, "IPv6 machines show when all are asked in a frame")
			if c.o.Privilege != simulated.Full {
				assert.Contains(t, p.See().Withheld, "permission")
				return
			}
			require.Eventually(t, func() bool { return p.See().Switch != nil }, 3*time.Second, 20*time.Millisecond)
			assert.Equal(t, "pier-switch-1", p.See().Switch.Name)
			assert.Equal(t, 40, p.See().Switch.VLAN)
		})
	}
}

func TestWhatIsWrongShows(t *testing.T) {
	t.Run("two for the gateway", func(t *testing.T) {
		t.Parallel()
		p := start(t, "gateway-impersonated", simulated.Options{}, nil, nil)
		require.NoError(t, p.Ask(t.Context(), 0))
		r, _ := row(p, "172.27.40.1")
		assert.Contains(t, r.Marks, neighbours.SeveralHold)
		assert.Len(t, r.Faces, 2)
	})
	t.Run("fixed by hand and wrong", func(t *testing.T) {
		t.Parallel()
		p := start(t, "neighbour-entry-pinned", simulated.Options{}, nil, nil)
		require.NoError(t, p.Ask(t.Context(), 0))
		r, _ := row(p, "172.27.40.1")
		assert.Contains(t, r.Marks, neighbours.FixedWrong)
	})
	t.Run("found by tests before", func(t *testing.T) {
		t.Parallel()
		s, err := scenario.Load("healthy")
		require.NoError(t, err)
		built, err := simulated.Build(s, simulated.Options{})
		require.NoError(t, err)
		defer built.Close()
		e, err := built.Machine().Read(t.Context())
		require.NoError(t, err)
		ctx, cancel := context.WithCancel(t.Context())
		gw := netip.MustParseAddr("172.27.40.1")
		known := &evidence.Set{
			Neighbours: []evidence.Neighbour{
				{Asked: gw, Method: "arp", Hardware: []endpoint.HardwareAddr{{2, 1}, {2, 2}},
					Reply: evidence.Reply{Outcome: evidence.Answered, From: gw}}}}
		p, err := neighbourwatch.Start(ctx,
			neighbourwatch.Config{Machine: built.Machine(), Interface: "eth0", Endpoint: e, Known: known, Began: time.Now(), Quiet: true})
		require.NoError(t, err)
		r, _ := row(p, "172.27.40.1")
		assert.Contains(t, r.Marks, neighbours.SeveralHold)
		cancel()
		p.Wait()
	})
}

// A segment of more than a /20 is not asked as a whole; one between is, at the higher rate, and can be stopped.
func TestSizes(t *testing.T) {
	widened := func(bits int) func(*scenario.Scenario) {
		return func(s *scenario.Scenario) {
			s.Site.Nodes["ticket-03"].Ports["eth0"].Addresses[0] = netip.PrefixFrom(netip.MustParseAddr("172.27.40.23"), bits)
		}
	}
	p := start(t, "healthy", simulated.Options{}, nil, widened(16))
	err := p.Ask(t.Context(), 0)
	require.ErrorContains(t, err, "at most 4096")
	p = start(t, "healthy", simulated.Options{}, nil, widened(20))
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	require.NoError(t, p.Ask(ctx, 0))
	g := p.See().Progress
	assert.Equal(t, neighbourwatch.LargeRate, g.Rate)
	assert.Equal(t, "stopped", g.Why)
	assert.Less(t, g.Asked, 500)
	p = start(t, "no-address", simulated.Options{}, nil, nil)
	assert.ErrorContains(t, p.Ask(t.Context(), 0), "no IPv4 network")
	_, ok := p.OwnAddress()
	assert.False(t, ok)
	_, err = neighbourwatch.Start(t.Context(), neighbourwatch.Config{Endpoint: &endpoint.Endpoint{}, Interface: "nosuch"})
	assert.ErrorIs(t, err, endpoint.ErrNoInterface)
}

// A new trial ends the one that is under way.
func TestTrials(t *testing.T) {
	p := start(t, "healthy", simulated.Options{}, nil, nil)
	first := make(chan neighbours.Trial, 1)
	go func() { first <- p.Try(t.Context(), netip.MustParseAddr("172.27.40.90")) }()
	require.Eventually(t, func() bool { now := p.See().Trial; return now != nil && now.Probes > 0 }, 2*time.Second, 5*time.Millisecond)
	second := p.Try(t.Context(), netip.MustParseAddr("172.27.40.50"))
	assert.NotEmpty(t, second.Holders)
	assert.False(t, (<-first).Over)
	assert.Equal(t, netip.MustParseAddr("172.27.40.50"), p.See().Trial.Address)
	assert.Equal(t, "172.27.40.23/24", p.Prefix(netip.MustParseAddr("172.27.40.50")).String())
}
