package plan_test

import (
	"context"
	"flag"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
	"passepartout/internal/machine/faulty"
	"passepartout/internal/probe/plan"
)

var faultSeeds = flag.Int("fault-seeds", 40, "how many machines with faulty calls are checked")

// A machine whose calls fail, come late or give rubbish: a check of it ends in time, without a panic, and never says for certain that a
// network which is in order is at fault.
func TestEveryCallCanFail(t *testing.T) {
	const deadline = 2500 * time.Millisecond
	seeds := *faultSeeds
	if testing.Short() { // beside other packages, and slower by the race detector: what else is timed here must have its turn
		seeds = min(seeds, 6)
	}
	said := map[string]int{}
	var mu sync.Mutex
	t.Run("all", func(t *testing.T) {
		slots := make(chan struct{}, 4)
		for seed := range uint64(seeds) {
			t.Run(fmt.Sprintf("seed %d", seed), func(t *testing.T) {
				t.Parallel()
				slots <- struct{}{}
				defer func() { <-slots }()
				c := config(t, []string{"healthy", "healthy-branch", "healthy-docked", "healthy-six-unused-and-broken"}[seed%4], nil)
				c.Machine = faulty.New(c.Machine, seed, []int{2, 10, 40}[seed%3])
				ctx, cancel := context.WithTimeout(t.Context(), deadline)
				defer cancel()
				began := time.Now()
				_, r, err := plan.Run(ctx, c, nil)
				require.NoError(t, err)
				assert.Less(t, time.Since(began), deadline+1500*time.Millisecond, "ended by its deadline")
				if r.Confidence == verdict.Certain {
					assert.NotContains(t, []zone.Zone{zone.LocalSubnet, zone.Beyond}, r.Zone, "%s: %s", r.Fault, r.Sentence)
				}
				mu.Lock()
				defer mu.Unlock()
				said[fmt.Sprintf("%v %s %s", r.Zone, r.Fault, r.Confidence)]++
			})
		}
	})
	t.Log(said)
}
