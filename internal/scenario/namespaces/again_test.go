//go:build linux

package namespaces_test

import (
	"encoding/json"
	"fmt"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/scenario/namespaces"
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

// Where the only neighbour who could say that the segment lives is one of whom the system knew before, it is asked anew: here his other
// answers go to another machine with this one's address.
func TestARememberedNeighbourIsAskedAnew(t *testing.T) {
	t.Parallel()
	s, l, _ := stateful(t, "address-conflict")
	ip := func(node string, args ...string) (said string) {
		require.NoError(t, l.On(node, func() error {
			out, err := exec.Command("ip", args...).CombinedOutput()
			said = string(out)
			return err
		}), said)
		return said
	}
	ip("pier-core", "neigh", "replace", "172.27.40.23", "lladdr", "02:00:5e:00:53:99", "dev", "eth0", "nud", "permanent")
	var r result
	for range 2 { // first all are asked, then all are known
		raw, errs, status, err := l.Run(namespaces.EchoClosed, binary, "check", "--format", "json", s.Target)
		require.NoError(t, err)
		assert.Equal(t, 1, status, errs+raw)
		require.NoError(t, json.Unmarshal([]byte(raw), &r), raw)
		known := ip("ticket-03", "-4", "neigh", "show", "dev", "eth0")
		stale := 0
		for line := range strings.Lines(known) {
			var a, hardware string
			if _, err := fmt.Sscanf(line, "%s lladdr %s", &a, &hardware); err == nil {
				ip("ticket-03", "neigh", "replace", a, "lladdr", hardware, "dev", "eth0", "nud", "stale")
				stale++
			}
		}
		require.Positive(t, stale, known)
	}
	assert.Equal(t, []string{"local-subnet", "gateway-silent"}, []string{r.Verdict.Zone, r.Verdict.Fault}, r.Verdict.Sentence)
}
