//go:build linux

package namespaces_test

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/machine/simulated"
	"passepartout/internal/scenario"
	"passepartout/internal/scenario/namespaces"
)

var (
	mutations = flag.Int("mutations", 24, "how many scenarios with one harmless thing changed the test of mutations runs")
	seed      = flag.Uint64("seed", 1, "the first seed of the mutations")
)

// mutant is a scenario with one harmless thing changed. The seed says all: which scenario, which change, and how.
func mutant(t *testing.T, seed uint64) (s *scenario.Scenario, change string) {
	names := scenario.Names()
	random := rand.New(rand.NewPCG(seed, 7))
	for i := seed / uint64(len(names)); ; i++ { // the scenarios in turn, each time with the next change that makes sense
		m := scenario.Mutations[(i+seed)%uint64(len(scenario.Mutations))]
		s, err := scenario.Load(names[seed%uint64(len(names))])
		require.NoError(t, err)
		if m.Apply(s, random) {
			return s, m.Name
		}
	}
}

// One thing that harms nobody is otherwise in the surroundings: the verdict must lie in the same zone.
func TestScoreMutated(t *testing.T) {
	t.Parallel()
	for _, g := range []struct {
		scored
		share int // one instance of so many
	}{{inSimulation("simulated", simulated.Full), 1}, {inSimulation("simulated, unprivileged", simulated.Unprivileged), 8},
		{inKernel(namespaces.Root), 8}} {
		t.Run(g.name, func(t *testing.T) {
			if strings.HasPrefix(g.name, "kernel") && namespaces.Unavailable() != "" {
				t.Skip(namespaces.Unavailable())
			}
			c, again := newCorpus(), &score{}
			var mu sync.Mutex
			var changed []string
			t.Run("all", func(t *testing.T) {
				slots := make(chan struct{}, g.atOnce)
				for i := 0; i < *mutations; i += g.share {
					inSlot(t, slots, fmt.Sprint("seed ", *seed+uint64(i)), func(t *testing.T) {
						s, change := mutant(t, *seed+uint64(i))
						zone, want := s.Expect.For(g.frames, g.echo)
						r, _ := again.undisturbed(t, func() (result, []string) {
							r := g.run(t, s)
							if r.Verdict.Zone != zone {
								return r, []string{"another zone"}
							}
							return r, nil
						})
						if !c.add(s, zone, want, r) {
							mu.Lock()
							defer mu.Unlock()
							changed = append(changed, fmt.Sprintf("seed %d: %s, with %s: %s, %s (%s): %s", *seed+uint64(i), s.Name, change,
								r.Verdict.Zone, r.Verdict.Fault, r.Verdict.Confidence, r.Verdict.Sentence))
						}
					})
				}
			})
			c.print("score, mutated, " + g.name)
			for _, line := range changed {
				fmt.Println("  changed:", line)
			}
			all := c.all()
			assert.LessOrEqual(t, 1000*len(changed), 2*all.instances, "zones that a harmless thing has changed")
			assert.Zero(t, all.alarms, "healthy sites called faulty")
			c.earned(t)
		})
	}
}
