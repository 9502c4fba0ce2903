package simulated_test

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/change"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/machine"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/scenario"
)

// A simulated machine that is told to change is what the core says that it will be, step by step, and as before when all is taken back.
func TestItChangesAsItIsTold(t *testing.T) {
	prefix, addr := netip.MustParsePrefix, netip.MustParseAddr
	everywhere := change.Op{Do: change.AddRoute, Interface: "eth0", Prefix: prefix("0.0.0.0/0"), Via: addr("172.27.40.1")}
	for _, name := range []string{"healthy", "interface-down", "gateway-outside-subnet", "neighbour-entry-pinned",
		"resolver-set-by-hand-six-only"} {
		t.Run(name, func(t *testing.T) {
			s, err := scenario.Load(name)
			require.NoError(t, err)
			site, err := simulated.Build(s, simulated.Options{})
			require.NoError(t, err)
			defer site.Close()
			m := site.Machine()
			settings := func() change.Settings {
				e, err := m.Read(t.Context())
				require.NoError(t, err)
				return change.Of(e)
			}
			say := func(s change.Settings) string { b, _ := json.MarshalIndent(s, "", " "); return string(b) }
			began := settings()
			for _, o := range []change.Op{
				{Do: change.SwitchOn, Interface: "eth0"},
				{Do: change.AddAddress, Interface: "eth0", Prefix: prefix("192.0.2.7/24")},
				{Do: change.AddAddress, Interface: "eth0", Prefix: prefix("2001:db8:7::7/64")},
				{Do: change.AddRoute, Interface: "eth0", Prefix: prefix("203.0.113.0/25"), Via: addr("192.0.2.1"),
					Source: addr("192.0.2.7")},
				everywhere,
				{Do: change.AddNeighbour, Interface: "eth0", Address: addr("192.0.2.1"), Hardware: endpoint.HardwareAddr{2, 0, 0, 0, 0, 9}},
				{Do: change.SetMTU, Interface: "eth0", MTU: 1400},
				{Do: change.SetResolvers, Resolvers: []netip.Addr{addr("192.0.2.53")}, Search: []string{"quay.example"}},
				{Do: change.RemoveAddress, Interface: "eth0", Prefix: prefix("192.0.2.7/24")},
				{Do: change.AddRule, Priority: 900, Prefix: prefix("203.0.113.80/32"), Table: 7},
				{Do: change.AddHost, Name: "bookings.kittiwake.example", Address: addr("203.0.113.18")},
				{Do: change.SwitchOff, Interface: "eth0"},
				{Do: change.SwitchOn, Interface: "eth0"},
				{Do: change.SetMTU, Interface: "eth0", MTU: 40},
				{Do: change.SwitchOn, Interface: "eth9"},
			} {
				was := settings()
				want, refused := was.Apply(o)
				err := m.(machine.Changer).Do(t.Context(), o)
				assert.Equal(t, fmt.Sprint(refused), fmt.Sprint(err), "%v", o)
				got := settings()
				assert.True(t, want.Equal(&got), "%v: %s", o, say(got))
			}
			way, err := change.Way(settings(), began)
			require.NoError(t, err)
			for _, o := range way {
				require.NoError(t, m.(machine.Changer).Do(t.Context(), o), "%v", o)
			}
			now := settings()
			assert.True(t, began.Equal(&now), say(now))
		})
	}
}
