package fault_test

import (
	"encoding/json"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
	"passepartout/internal/scenario"
)

var kebab = regexp.MustCompile(`^[a-z]+(-[a-z]+)*$`)

func TestCatalogue(t *testing.T) {
	checks := map[string]bool{"filter": true} // shown among the others, without a check of its own
	for _, c := range verdict.Judge(evidencetest.Healthy()).Checks {
		checks[c.ID] = true
	}
	expected := map[fault.ID]bool{} // by some scenario
	for _, name := range scenario.Names() {
		s, err := scenario.Load(name)
		require.NoError(t, err)
		for _, id := range slices.Concat([]string{s.Expect.Fault}, s.Expect.Also, s.Expect.Remarks) {
			expected[fault.ID(id)] = true
		}
	}
	seen := map[fault.ID]bool{}
	z := zone.Unknown
	for _, f := range slices.Concat(fault.Catalogue, fault.Remarks) {
		t.Run(string(f.ID), func(t *testing.T) {
			assert.Regexp(t, kebab, string(f.ID))
			assert.False(t, seen[f.ID], "an id stands for one fault")
			seen[f.ID] = true
			assert.NotEqual(t, zone.Unknown, f.Zone)
			assert.NotEmpty(t, f.Title())
			assert.False(t, strings.HasSuffix(f.Title(), "."), "a title is no sentence")
			assert.Greater(t, len(f.Explanation()), 80, "what it looks like, what it is mistaken for, how to mend it")
			assert.NotContains(t, f.Explanation(), "\n")
			assert.NotEmpty(t, f.Needs)
			for _, k := range f.Needs {
				assert.Contains(t, evidence.Kinds(), k)
			}
			assert.True(t, checks[f.Check], "check %q is shown", f.Check)
			assert.True(t, expected[f.ID], "some scenario shows it")
			if slices.Contains(fault.Catalogue, f) {
				assert.NotZero(t, f.Scope, "who has it")
				assert.NotZero(t, f.Matters, "when it is in question")
				for _, id := range f.Explains {
					assert.True(t, slices.ContainsFunc(fault.Catalogue, func(x *fault.Fault) bool { return x.ID == id }),
						"it explains %s, which is no fault", id)
				}
			}
		})
	}
	contract, err := os.ReadFile("../../../docs/contract.md")
	require.NoError(t, err)
	places := map[string]bool{}
	for _, f := range fault.Catalogue {
		assert.GreaterOrEqual(t, f.Zone, z, "%s: the catalogue goes from the host outwards", f.ID)
		z = f.Zone
		place := fmt.Sprint(f.Zone, f.Place)
		assert.False(t, places[place], "%s: another fault has its place", f.ID)
		places[place] = true
		assert.Contains(t, string(contract), fmt.Sprintf("| `%s` | %s | %s |", f.ID, f.Zone, f.Title()),
			"scripts rely on what stands there")
	}
}

func TestEveryEvidenceKindHasAName(t *testing.T) {
	seen := map[string]bool{}
	for _, k := range evidence.Kinds() {
		b, err := json.Marshal(k)
		require.NoError(t, err)
		assert.Regexp(t, kebab, strings.Trim(string(b), `"`))
		assert.False(t, seen[string(b)])
		seen[string(b)] = true
	}
	_, err := json.Marshal(evidence.Kind(200))
	assert.Error(t, err)
}
