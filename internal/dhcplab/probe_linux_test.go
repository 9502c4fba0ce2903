package dhcplab

import (
	"context"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/evidence"
	"passepartout/internal/machine/linux"
	"passepartout/internal/probe"
)

// TestProbeTakesNoLease asks every real server with our own probe: its offer is collected, its answer to the INFORM too, an ear on the same
// port hears the whole, and the server's books stay empty.
func TestProbeTakesNoLease(t *testing.T) {
	if testing.Short() {
		t.Skip("takes some seconds")
	}
	for _, s := range servers {
		t.Run(s.name, func(t *testing.T) {
			t.Parallel()
			l := newLab(t, s.program, "ip")
			o := served()
			l.node("server", "near "+o.address)
			s.start(l, "server", o)
			l.run(client, "address", "ip addr add 172.27.40.77/24 dev eth0")
			time.Sleep(1500 * time.Millisecond) // it listens by then
			m, err := linux.New()
			require.NoError(t, err)
			own := netip.MustParseAddr("172.27.40.77")
			var segment *probe.Segment
			var ear *probe.DHCPListener
			l.in(l.nodes[client], func() error {
				if ear, err = probe.ListenDHCP(m, "eth0", nil); err == nil {
					segment, err = probe.OpenSegment(m, "eth0", func(a netip.Addr) bool { return a == own }, func(evidence.Heard) {}, nil)
				}
				return err
			})
			defer ear.Close()
			defer segment.Close()
			ctx, cancel := context.WithTimeout(t.Context(), 4*time.Second)
			defer cancel()
			d := segment.Discover(ctx,
				probe.DHCPQuestion{Interface: "eth0", At: []time.Duration{0, time.Second, 2 * time.Second}, Held: own})
			require.Len(t, d.Offers, 1)
			assert.Equal(t, addr("172.27.40.2"), d.Offers[0].Server)
			assert.Equal(t, []netip.Addr{addr(o.router)}, d.Offers[0].Routers)
			assert.Equal(t, 24, d.Offers[0].Address.Bits())
			require.Len(t, d.Answers, 1, "the answer to the INFORM")
			assert.Equal(t, []netip.Addr{addr("172.27.40.2")}, d.Answers[0].Resolvers)
			assert.Zero(t, d.Answers[0].Lease)
			heard, counts := ear.Exchanges()
			assert.Zero(t, counts[dhcp.Discover]+counts[dhcp.Inform], "this program's own questions are never counted")
			outcomes := map[dhcp.Outcome]bool{}
			for _, e := range heard {
				assert.True(t, dhcp.IsProbe(e.Client, e.XID), "and known as its own")
				outcomes[e.Outcome] = true
			}
			assert.True(t, outcomes[dhcp.Offered] && outcomes[dhcp.Informed], "%v", outcomes)
			for _, book := range []string{"server.leases", "server/dhcpd.leases"} {
				raw, _ := os.ReadFile(filepath.Join(l.dir, book))
				assert.NotContains(t, string(raw), "172.27.40.77")
				assert.False(t, strings.Contains(string(raw), "binding state active") ||
					strings.Contains(string(raw), d.Offers[0].Address.Addr().String()+" "), "a lease was taken: %s", raw)
			}
		})
	}
}
