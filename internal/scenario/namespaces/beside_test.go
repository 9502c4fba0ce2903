//go:build linux

package namespaces_test

import (
	"fmt"
	"slices"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/machine/simulated"
	"passepartout/internal/scenario"
)

// beside are faults that are true and not in the way of the target by themselves; before them stands what is in its way.
var (
	beside = []string{"first-name-server-dead", "second-resolver-dead", "lease-over-and-works", "lease-unanswered",
		"second-dhcp-server", "stack-broken", "slow-port", "neighbour-needs-no-gateway"}
	before = []string{"service-refused", "service-filtered", "destination-silent", "destination-unreachable", "prohibited-by-policy",
		"path-stops", "uplink-down", "gateway-silent", "gateway-does-not-forward", "host-firewall", "route-blocked", "name-not-found",
		"mask-too-wide", "gateway-outside-subnet", "path-lossy", "mtu-black-hole", "routing-loop", "tls-fails", "one-family-broken"}
)

// Two faults that have nothing to do with each other: the one that is in the way is the verdict, and the other is told beside it.
func TestScoreOfIndependentFaults(t *testing.T) {
	t.Parallel()
	again := &score{}
	var told, all atomic.Int32
	pairs := scenario.Doubles(before, beside)
	if !*every { // every fourth; make score has them all
		few := pairs[:0:0]
		for i := 0; i < len(pairs); i += 4 {
			few = append(few, pairs[i])
		}
		pairs = few
	}
	assert.GreaterOrEqual(t, len(pairs), 12)
	t.Run("all", func(t *testing.T) {
		slots := make(chan struct{}, 6)
		for _, pair := range pairs {
			inSlot(t, slots, pair[0]+" + "+pair[1], func(t *testing.T) {
				s, err := scenario.Both(pair[0], pair[1])
				require.NoError(t, err)
				other, err := scenario.Load(pair[1])
				require.NoError(t, err)
				var also []string
				r, _ := again.undisturbed(t, func() (result, []string) {
					r := runSimulated(t, s, simulated.Full)
					also = nil
					for _, a := range r.Verdict.Also {
						also = append(also, a.Fault)
					}
					var bad []string
					if !slices.Contains(also, other.Expect.Also[0]) {
						bad = append(bad, "not told: "+other.Expect.Also[0])
					}
					if r.Verdict.Fault != s.Expect.Fault {
						bad = append(bad, fmt.Sprintf("verdict %q, want %q", r.Verdict.Fault, s.Expect.Fault))
					}
					return r, bad
				})
				all.Add(1)
				if assert.Contains(t, also, other.Expect.Also[0], r.Verdict.Sentence) {
					told.Add(1)
				}
				assert.Equal(t, s.Expect.Fault, r.Verdict.Fault)
			})
		}
	})
	fmt.Printf("score, independent faults: told beside the verdict %d of %d\n", told.Load(), all.Load())
}
