package scenario_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/scenario"
)

// Whoever loads a scenario may change all of it: the next one finds it as it is in the file.
func TestAScenarioIsItsReadersOwn(t *testing.T) {
	load := func() *scenario.Scenario {
		s, err := scenario.Load("healthy")
		require.NoError(t, err)
		return s
	}
	first, second := load(), load()
	assert.Equal(t, first, second)
	n := first.Site.Nodes["ticket-03"]
	n.Resolvers[0], n.Routes[0].Metric = n.Resolvers[1], 7
	n.Ports["eth0"].Addresses = nil
	delete(first.Site.Nodes["ns"].DNS.Records, "bookings.kittiwake.example")
	first.Site.Segments["pier"].MTU = 900
	assert.Equal(t, second, load())
}
