package verdict_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/verdict"
)

// The test on which the suspects that are left differ most comes first, and one on which they do not differ never.
func TestChoose(t *testing.T) {
	byID := map[fault.ID]*fault.Fault{}
	for _, f := range fault.Catalogue {
		byID[f.ID] = f
	}
	all := []string{}
	for _, x := range verdict.Tests {
		all = append(all, x.ID)
		for _, o := range x.Outcomes {
			for _, id := range append(append([]fault.ID{}, o.Clears...), o.Points...) {
				assert.Contains(t, byID, id, "%s, %s", x.ID, o.ID)
			}
		}
	}
	stands := func(ids map[fault.ID]fault.Standing) (r verdict.Result) {
		for id, standing := range ids {
			f := byID[id]
			require.NotNil(t, f, id)
			r.Suspects = append(r.Suspects, verdict.Suspect{Fault: f, Zone: f.Zone, Standing: standing})
		}
		return r
	}
	const open, found, out = fault.Possible, fault.Confirmed, fault.Cleared
	for _, c := range []struct {
		name   string
		left   map[fault.ID]fault.Standing
		of     []string
		chosen string
	}{
		{"nobody is suspected", map[fault.ID]fault.Standing{"gateway-silent": out, "uplink-down": out}, all, ""},
		{"one alone is left", map[fault.ID]fault.Standing{"resolver-wrong": open, "uplink-down": out}, all, ""},
		{"two that no test parts", map[fault.ID]fault.Standing{"resolver-wrong": found, "link-errors": open}, all, ""},
		{"the own name server, or the uplink", map[fault.ID]fault.Standing{"resolver-wrong": open, "uplink-down": open},
			[]string{"named-servers", "another-port", "named-portal"}, "named-servers"},
		{"the gateway, or this machine's idea of it", map[fault.ID]fault.Standing{"gateway-silent": open, "gateway-not-a-router": open},
			all, "another-neighbour"},
		{"the same, but a test that is not at hand", map[fault.ID]fault.Standing{"gateway-silent": open, "gateway-not-a-router": open},
			[]string{"named-servers", "named-portal"}, ""},
		{"two of one zone", map[fault.ID]fault.Standing{"captive-portal": open, "routing-loop": open}, all, "named-portal"},
		{"zones come before faults of one zone",
			map[fault.ID]fault.Standing{"captive-portal": open, "routing-loop": open, "path-stops": open, "competing-default-routes": open},
			[]string{"named-portal", "another-port"}, "another-port"},
	} {
		chosen, between, ok := stands(c.left).Choose(c.of)
		assert.Equal(t, c.chosen != "", ok, c.name)
		assert.Equal(t, c.chosen, chosen.ID, c.name)
		for _, id := range between {
			assert.NotEqual(t, out, c.left[id], c.name)
		}
	}
	s := Healthy()
	s.Open = []evidence.Kind{evidence.NameLookup}
	chosen, between, ok := verdict.Judge(s).Choose(all)
	assert.False(t, ok, "a healthy machine has nothing to part: %s between %v", chosen.ID, between)
}
