package plan_test

import (
	"context"
	"net/netip"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/fault"
	"passepartout/internal/probe/plan"
)

// Another holder of the own address is found however late he says so, as long as nothing else has settled the verdict: one who saves power
// is slow, and a silent gateway may be one whose answers go to him.
func TestALateHolderOfTheAddressIsHeard(t *testing.T) {
	for name, late := range map[string]time.Duration{"at once": 0, "behind the sweep": 400 * time.Millisecond,
		"last": 900 * time.Millisecond} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				s := newStage(stageEndpoint(), nil, true)
				delete(s.neighbour, gateway)
				s.neighbour[own] = endpoint.HardwareAddr{2, 0, 0, 0, 0, 0x99}
				s.late = map[netip.Addr]time.Duration{own: late}
				ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
				defer cancel()
				set, r, err := plan.Run(ctx, ask(t, plan.Config{Machine: s}, "203.0.113.80:443"), nil)
				require.NoError(t, err)
				assert.Equal(t, fault.ID("address-conflict"), r.Fault, r.Sentence)
				assert.Contains(t, r.Sentence, "02:00:00:00:00:99")
				answers := 0
				for _, c := range set.Conflicts {
					if c.Came() {
						answers++
					}
				}
				assert.Equal(t, 1, answers, "one finding, however it came")
				time.Sleep(time.Minute) // what is still in the air
			})
		})
	}
}
