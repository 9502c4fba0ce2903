package plan_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/evidence"
	"passepartout/internal/probe/plan"
	"passepartout/internal/probe/watch"
	"passepartout/internal/scenario"
)

// Whom to watch follows from what the tests found: one witness for each place on the way, none that never answers.
func TestWitnesses(t *testing.T) {
	for _, c := range []struct {
		scenario, target string
		families         evidence.Families
		want             string // in order: name, rank
	}{
		{"healthy", "", evidence.Families{}, "loopback 1, 172.27.40.1 2, 172.27.40.2 0, 198.51.100.1 3, 203.0.113.53 0"},
		{"healthy", "bookings.kittiwake.example:443", evidence.Families{},
			"loopback 1, 172.27.40.1 2, 172.27.40.2 0, 198.51.100.1 3, 203.0.113.53 0, bookings 4"},
		{"healthy", "203.0.113.53", evidence.Families{}, "loopback 1, 172.27.40.1 2, 172.27.40.2 0, 198.51.100.1 3, 203.0.113.53 0"},
		{"gateway-ignores-echo", "bookings.kittiwake.example:443", evidence.Families{},
			"loopback 1, 172.27.40.1 0, 172.27.40.2 2, 198.51.100.1 3, 203.0.113.53 0, bookings 4"},
		{"echo-filtered", "weather.kittiwake.example:443", evidence.Families{},
			"loopback 1, 172.27.40.1 2, 172.27.40.2 0, 198.51.100.1 3, 203.0.113.53 0, weather 4 by connection"},
		{"extra-router", "bookings.kittiwake.example:443", evidence.Families{},
			"loopback 1, 172.27.40.1 2, 172.27.40.2 0, 198.51.100.1 3, 203.0.113.53 0, bookings 4"},
		{"gateway-not-set", "bookings.kittiwake.example:443", evidence.Families{}, "loopback 1, 172.27.40.2 0, 203.0.113.53 0, bookings 4"},
	} {
		x := ask(t, config(t, c.scenario, nil), c.target)
		x.Thorough = true
		x.Families = c.families
		ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
		set, _, err := plan.Run(ctx, x, nil)
		cancel()
		require.NoError(t, err)
		set.Names = nil // the names of stations come when they come
		var got []string
		for _, w := range plan.Witnesses(set, nil) {
			words := fmt.Sprintf("%s %d", w.Name(), w.Rank)
			if w.Method == watch.Connect {
				words += " by connection"
			}
			got = append(got, words)
		}
		assert.Equal(t, c.want, strings.Join(got, ", "), "%s, %s", c.scenario, c.target)
	}
}

// Quality is measured with what the system allows, and what it does not allow is said.
func TestQualityByPermission(t *testing.T) {
	for _, c := range []struct {
		scenario string
		change   func(*scenario.Scenario)
		bursts   int // at least
		sizes    int
	}{
		{"healthy", nil, 2, 2},
		{"healthy", func(s *scenario.Scenario) { s.Site.Nodes["pier-gw"].NoEcho = true }, 1, 1},
	} {
		x := config(t, c.scenario, c.change)
		x.Thorough = true
		ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
		set, result, err := plan.Run(ctx, x, nil)
		cancel()
		require.NoError(t, err)
		assert.Equal(t, "none", result.Zone.Token())
		assert.GreaterOrEqual(t, len(set.Bursts), c.bursts)
		assert.GreaterOrEqual(t, len(set.Sizings), c.sizes)
		for _, b := range set.Bursts {
			assert.Equal(t, b.Sent, b.Received, "%v", b.To)
		}
		for _, s := range set.Sizings {
			assert.Equal(t, 1500, s.Passes, "%v", s.To)
		}
	}
}
