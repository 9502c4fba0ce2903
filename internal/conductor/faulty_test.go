package conductor_test

import (
	"context"
	"flag"
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/conductor"
	"passepartout/internal/core/event"
	"passepartout/internal/core/path"
	"passepartout/internal/core/state"
	"passepartout/internal/core/target"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
	"passepartout/internal/machine"
	"passepartout/internal/machine/faulty"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/probe"
	"passepartout/internal/probe/neighbourwatch"
	"passepartout/internal/scenario"
)

var faultSeeds = flag.Int("fault-seeds", 8, "how many machines on which every call can fail a case lives")

// A case lives on a machine of which every call can fail: it is watched, its segment heard and asked, a path walked. It ends when it is to
// end, and is certain of no fault of a network in order.
func TestACaseLivesWhereEveryCallCanFail(t *testing.T) {
	t.Run("all", func(t *testing.T) {
		slots := make(chan struct{}, 4)
		for seed := range uint64(*faultSeeds) {
			t.Run(fmt.Sprintf("seed %d", seed), func(t *testing.T) {
				t.Parallel()
				slots <- struct{}{}
				defer func() { <-slots }()
				s, err := scenario.Load([]string{"healthy", "healthy-branch", "healthy-docked"}[seed%3])
				require.NoError(t, err)
				site, err := simulated.Build(s, simulated.Options{})
				require.NoError(t, err)
				defer site.Close()
				m := faulty.New(site.Machine(), seed, []int{2, 10, 40}[seed%3])
				want, err := target.Parse(s.Target)
				require.NoError(t, err)
				c := conductor.New(t.Context(),
					conductor.Config{Machine: m, Target: want, Interface: s.Interface, Deadline: 2 * time.Second,
						Log: func(_ event.Event, s *state.State) {
							v := &s.Verdict
							if v.Standing == state.Current && v.Result.Confidence == verdict.Certain {
								assert.NotContains(t, []zone.Zone{zone.LocalSubnet, zone.Beyond}, v.Result.Zone, "%s: %s", v.Result.Fault,
									v.Result.Sentence)
							}
						}})
				c.Start()
				ctx, cancel := context.WithTimeout(t.Context(), 4*time.Second)
				defer cancel()
				beside(ctx, t, m)
				<-ctx.Done()
				ended := make(chan struct{})
				go func() { c.Close(); close(ended) }()
				select {
				case <-ended:
				case <-time.After(time.Minute):
					assert.Fail(t, "the case does not end")
				}
			})
		}
	})
}

// beside does what views and commands do besides, and waits for its end.
func beside(ctx context.Context, t *testing.T, m machine.Machine) {
	done := make(chan struct{})
	go func() {
		defer close(done)
		if e, err := m.Read(ctx); err == nil && len(e.Interfaces) > 1 {
			if w, err := neighbourwatch.Start(ctx,
				neighbourwatch.Config{Machine: m, Interface: e.Interfaces[1].Name, Endpoint: e}); err == nil {
				_ = w.Ask(ctx, 0)
				_ = w.See()
				defer w.Wait()
			}
		}
		e := probe.NewEchoer(m, "")
		defer e.Close()
		_, _ = probe.Trace(ctx, e,
			probe.TraceQuestion{To: netip.MustParseAddrPort("203.0.113.80:443"), Method: probe.TraceICMP, First: 1, Last: 12,
				Patience: time.Second}, func(path.Seen) {})
	}()
	select {
	case <-done:
	case <-time.After(12 * time.Second):
		assert.Fail(t, "what goes on beside the case does not end")
	}
}
