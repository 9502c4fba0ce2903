//go:build linux

package namespaces_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// A check says the same when it is run again at once, and again while the system still gives up on hardware addresses that the first one
// asked for.
func TestTheSameAgainAtOnce(t *testing.T) {
	for i, name := range []string{"second-segment-neighbour-off", "fourth-name-server-lives",
		"resolver-wrong-six-only", "gateway-silent", "mask-too-wide",
		"route-by-rule-wrong", "gateway-not-a-router", "route-stale", "resolver-silent-local", "router-leads-nowhere",
		"competing-default-routes", "wrong-network", "destination-silent", "address-conflict", "gateway-impersonated"} {
		if i >= 5 && !*every {
			break
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s, l, _ := stateful(t, name)
			first, _ := check(t, l, s.Target)
			for _, wait := range []time.Duration{0, 500 * time.Millisecond, 1500 * time.Millisecond} {
				time.Sleep(wait)
				r, _ := check(t, l, s.Target)
				assert.Equal(t, first.Verdict.Zone, r.Verdict.Zone, r.Verdict.Sentence)
				assert.Equal(t, first.Verdict.Fault, r.Verdict.Fault, r.Verdict.Sentence)
			}
		})
	}
}
