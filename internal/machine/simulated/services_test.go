package simulated_test

import (
	"context"
	"crypto/tls"
	"net/netip"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/evidence"
	"passepartout/internal/machine"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/nap/naptest"
	"passepartout/internal/probe"
	"passepartout/internal/scenario"
)

func changed(t *testing.T, change func(*scenario.Site)) machine.Machine {
	s, err := scenario.Load("healthy")
	require.NoError(t, err)
	change(s.Site)
	site, err := simulated.Build(s, simulated.Options{})
	require.NoError(t, err)
	t.Cleanup(site.Close)
	return site.Machine()
}

func TestForwardingNameServer(t *testing.T) {
	core := netip.MustParseAddr("172.27.40.2")
	forwarder := func(to string) func(*scenario.Site) {
		return func(s *scenario.Site) {
			s.Nodes["pier-core"].DNS = &scenario.DNS{Zone: "pier.example", Forward: netip.MustParseAddr(to)}
		}
	}
	l := probe.Lookup(t.Context(), changed(t, forwarder("203.0.113.53")), core, "bookings.kittiwake.example", "A")
	assert.Equal(t, "NOERROR", l.RCode)
	assert.Len(t, l.Addresses, 1)
	l = probe.Lookup(t.Context(), changed(t, forwarder("203.0.113.53")), core, "nothing.pier.example", "A")
	assert.Equal(t, "NXDOMAIN", l.RCode, "its own zone it answers by itself")
	l = probe.Lookup(t.Context(), changed(t, forwarder("203.0.113.99")), core, "bookings.kittiwake.example", "A")
	assert.Equal(t, evidence.Silent, l.Outcome, "a forwarder that waits for a dead one keeps silent for a while")
}

// Each action of a filter is told to the sender as on a real router, in both families.
func TestFilterActions(t *testing.T) {
	naptest.Undisturbed(t, func(found assert.TestingT) { filterActions(t, found) })
}

func filterActions(t *testing.T, found assert.TestingT) {
	for action, want := range map[string]struct {
		outcome evidence.Outcome
		why     evidence.Why
	}{
		"drop":     {evidence.Silent, evidence.NoReason},
		"prohibit": {evidence.Unreachable, evidence.Prohibited},
		"no-host":  {evidence.Unreachable, evidence.NoHost},
		"no-net":   {evidence.Unreachable, evidence.NoNet},
	} {
		m := changed(t, func(s *scenario.Site) {
			s.Nodes["sound-edge"].Filter = []scenario.Rule{{Chain: "forward", Proto: "tcp", Port: 443, Action: action}}
		})
		for _, to := range []string{"203.0.113.70", "2001:db8:113::70"} {
			ctx, cancel := context.WithTimeout(t.Context(), 250*time.Millisecond)
			_, r := m.Connect(ctx, machine.ConnectConfig{To: netip.AddrPortFrom(netip.MustParseAddr(to), 443)})
			cancel()
			assert.Equal(found, want.outcome, r.Outcome, "%s %s", action, to)
			assert.Equal(found, want.why, r.Why, "%s %s", action, to)
			ctx, cancel = context.WithTimeout(t.Context(), time.Second)
			conn, r := m.Connect(ctx, machine.ConnectConfig{To: netip.AddrPortFrom(netip.MustParseAddr(to), 80)})
			cancel()
			if assert.Equal(found, evidence.Answered, r.Outcome, "%s %s: another port passes", action, to) {
				conn.Close()
			}
		}
	}
}

func TestCertificatesAreSignedForTheirHosts(t *testing.T) {
	m := changed(t, func(*scenario.Site) {})
	for name, ok := range map[string]bool{"bookings.kittiwake.example": true, "weather.kittiwake.example": false} {
		ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
		conn, r := m.Connect(ctx, machine.ConnectConfig{To: netip.MustParseAddrPort("203.0.113.80:443")})
		require.Equal(t, evidence.Answered, r.Outcome)
		err := tls.Client(conn, &tls.Config{RootCAs: m.Roots(), ServerName: name}).HandshakeContext(ctx)
		assert.Equal(t, ok, err == nil, "%s: %v", name, err)
		conn.Close()
		cancel()
	}
}

func TestTwoServersOffer(t *testing.T) {
	m := changed(t, func(s *scenario.Site) {
		s.Nodes["office-store"].DHCP = &scenario.DHCP{First: netip.MustParseAddr("172.27.40.210"), Bits: 24,
			Routers: []netip.Addr{netip.MustParseAddr("172.27.40.70")}, Lease: scenario.Duration(time.Minute)}
	})
	segment, err := probe.OpenSegment(m, "eth0", func(netip.Addr) bool { return false }, func(evidence.Heard) {}, nil)
	require.NoError(t, err)
	defer segment.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 60*time.Millisecond)
	defer cancel()
	d := segment.Discover(ctx, probe.DHCPQuestion{Interface: "eth0", At: []time.Duration{0}})
	require.Len(t, d.Offers, 2, "all offers are collected")
	servers := map[string]string{}
	for _, o := range d.Offers {
		servers[o.Server.String()] = o.Address.String()
	}
	assert.Equal(t, map[string]string{"172.27.40.2": "172.27.40.23/24", "172.27.40.70": "172.27.40.210/24"}, servers)
}

func TestSitesThatCannotBeBuilt(t *testing.T) {
	s, err := scenario.Load("healthy")
	require.NoError(t, err)
	s.Site.Nodes["ticket-03"].Off = true
	_, err = simulated.Build(s, simulated.Options{})
	assert.ErrorContains(t, err, "the endpoint is off")
}

func TestSitesLeaveNothingRunning(t *testing.T) {
	s, err := scenario.Load("healthy")
	require.NoError(t, err)
	before := runtime.NumGoroutine()
	for range 5 {
		site, err := simulated.Build(s, simulated.Options{})
		require.NoError(t, err)
		m := site.Machine()
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		conn, r := m.Connect(ctx, machine.ConnectConfig{To: netip.MustParseAddrPort("203.0.113.80:80")})
		cancel()
		require.Equal(t, evidence.Answered, r.Outcome)
		conn.Close()
		site.Close()
	}
	assert.Eventually(t, func() bool { return runtime.NumGoroutine() <= before+2 }, 5*time.Second, 20*time.Millisecond,
		"%d goroutines before", before)
}
