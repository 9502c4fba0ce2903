package probe_test

import (
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/path"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/probe"
)

// Packets that overtake each other are neither lost, nor do they move the destination farther away.
func TestTraceWhereTheDelayWavers(t *testing.T) {
	m := at(t, "healthy-wavering-delay", simulated.Options{})
	e := probe.NewEchoer(m, "")
	defer e.Close()
	for _, method := range []probe.TraceMethod{probe.TraceICMP, probe.TraceUDP, probe.TraceTCP} {
		for range 5 {
			var mu sync.Mutex
			came, silent, nearest := map[int]bool{}, []int{}, 99
			_, err := probe.Trace(within(t, time.Minute), e,
				probe.TraceQuestion{To: netip.AddrPortFrom(bookings, 443), Method: method, First: 1, Last: 12, Patience: 2 * time.Second},
				func(s path.Seen) {
					mu.Lock()
					defer mu.Unlock()
					if !s.Came() {
						silent = append(silent, s.HopLimit)
						return
					}
					came[s.HopLimit] = true
					if s.From == bookings {
						nearest = min(nearest, s.HopLimit)
					}
				})
			require.NoError(t, err)
			assert.Equal(t, 5, nearest, "by %s, the destination stands where it stands", method)
			for hop := 1; hop <= 5; hop++ {
				assert.True(t, came[hop], "by %s, station %d", method, hop)
			}
			for _, hop := range silent {
				assert.Greater(t, hop, 5, "by %s, nothing was lost", method)
			}
		}
	}
}
