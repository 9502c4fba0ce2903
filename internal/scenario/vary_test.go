package scenario_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/scenario"
)

// A variation is the same fault at another place: other addresses throughout, other delays, the same expectation.
func TestVariations(t *testing.T) {
	for _, name := range scenario.Names() {
		plain, err := scenario.Load(name)
		require.NoError(t, err)
		for _, v := range scenario.Variations[:3] {
			s, err := scenario.LoadVaried(name, v)
			require.NoError(t, err, "%s %+v", name, v)
			assert.Equal(t, plain.Expect.Zone, s.Expect.Zone)
			assert.Equal(t, plain.Expect.Fault, s.Expect.Fault)
			assert.Len(t, s.Site.Nodes, len(plain.Site.Nodes))
			was, is := time.Duration(plain.Site.Segments["backbone"].Delay), time.Duration(s.Site.Segments["backbone"].Delay)
			switch {
			case v.Pace > 0 && was < 50*time.Millisecond:
				assert.Equal(t, time.Duration(float64(was)*v.Pace), is, name)
			default: // as it is, or a delay that is the fault
				assert.Equal(t, was, is, name)
			}
			if v.Network == "" {
				continue
			}
			usual := netip.MustParsePrefix("172.27.0.0/16")
			for node, n := range s.Site.Nodes {
				for _, p := range n.Ports {
					for _, a := range p.Addresses {
						assert.False(t, usual.Contains(a.Addr()), "%s: %s still has %v", name, node, a)
					}
				}
			}
			raw, err := s.SheetText()
			require.NoError(t, err)
			assert.NotContains(t, string(raw), "172.27.")
		}
	}
	_, err := scenario.LoadVaried("nosuch", scenario.Variations[1])
	assert.ErrorIs(t, err, scenario.ErrUnknown)
}

func TestTwoFaultsAtOnce(t *testing.T) {
	s, err := scenario.Both("gateway-silent", "service-refused")
	require.NoError(t, err)
	assert.True(t, s.Site.Nodes["pier-gw"].Off)
	assert.Empty(t, s.Site.Nodes["bookings"].Web)
	assert.Equal(t, "gateway-silent", s.Expect.Fault)
	for _, pair := range [][2]string{{"gateway-silent", "gateway-does-not-forward"}, {"gateway-silent", "mask-too-wide"},
		{"fault-comes-and-goes", "service-refused"}, {"wrong-segment", "service-refused"}, {"gateway-silent", "gateway-silent"}} {
		_, err := scenario.Both(pair[0], pair[1])
		assert.ErrorIs(t, err, scenario.ErrTogether, "%v", pair)
	}
	_, err = scenario.Both("gateway-silent", "nosuch")
	assert.ErrorIs(t, err, scenario.ErrUnknown)
	assert.Equal(t, [][2]string{{"gateway-silent", "service-refused"}},
		scenario.Doubles([]string{"gateway-silent"}, []string{"gateway-does-not-forward", "service-refused"}))
}
