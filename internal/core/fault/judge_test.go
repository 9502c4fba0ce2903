package fault_test

import (
	"encoding/json"
	"math/rand/v2"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
	"reflect"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// The cases of all families.
var cases = slices.Concat(addressCases, beyondCases, healthyCases, leaseCases, namesCases, neighboursCases, interfaceCases, portalCases,
	proxyCases, qualityCases, remarksCases, routersCases, routingCases, segmentCases, sheetCases, translatorCases,
	waybackCases, wayoutCases, webCases, elsewhereCases)

// A case is a change to the healthy set and what must follow from it.
type testCase struct {
	name       string
	change     func(*evidence.Set)
	zone       zone.Zone
	fault      fault.ID
	confidence verdict.Confidence // "" does not matter
	says       string             // in the sentence
	next       string             // in the first step
	also       []string
	remarks    []string
	cleared    []string
	possible   []string
}

func standing(r verdict.Result, id string) string {
	s, ok := r.Suspect(fault.ID(id))
	if !ok {
		return "not in the catalogue"
	}
	return s.Standing.String()
}

func TestJudge(t *testing.T) {
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			s := Healthy()
			if c.change != nil {
				c.change(s)
			}
			r := verdict.Judge(s)
			assert.Equal(t, c.zone, r.Zone, r.Sentence)
			assert.Equal(t, c.fault, r.Fault, r.Sentence)
			if c.confidence != "" {
				assert.Equal(t, c.confidence, r.Confidence)
			}
			assert.Contains(t, r.Sentence, c.says)
			if c.next != "" && assert.NotEmpty(t, r.Next) {
				assert.Contains(t, r.Next[0], c.next)
			}
			var also, remarks []string
			for _, a := range r.Also {
				also = append(also, string(a.Fault))
			}
			for _, m := range r.Remarks {
				remarks = append(remarks, string(m.Fault.ID))
			}
			assert.Equal(t, c.also, also, "also")
			assert.Equal(t, c.remarks, remarks, "remarks")
			for _, id := range c.cleared {
				assert.Equal(t, "cleared", standing(r, id), id)
			}
			for _, id := range c.possible {
				assert.Equal(t, "possible", standing(r, id), id)
			}
			assert.True(t, r.Settled, "nothing is under way")
			if r.Zone == zone.None {
				assert.Empty(t, r.Fault)
			}
		})
	}
}

// arrivals gives a copy of a set in which every list of observations has been treated so.
func arrivals(s *evidence.Set, treat func(list reflect.Value) reflect.Value) *evidence.Set {
	c := *s
	for _, f := range reflect.ValueOf(&c).Elem().Fields() {
		if f.Kind() == reflect.Slice {
			list := reflect.MakeSlice(f.Type(), f.Len(), f.Len())
			reflect.Copy(list, f)
			f.Set(treat(list))
		}
	}
	return &c
}

// shuffled gives the same evidence in another order of arrival.
func shuffled(s *evidence.Set, rng *rand.Rand) *evidence.Set {
	return arrivals(s, func(list reflect.Value) reflect.Value {
		rng.Shuffle(list.Len(), reflect.Swapper(list.Interface()))
		return list
	})
}

// soFar gives a part of the evidence, as it would be known while all the rest is still under way.
func soFar(s *evidence.Set, rng *rand.Rand) *evidence.Set {
	c := arrivals(s, func(list reflect.Value) reflect.Value {
		kept := reflect.MakeSlice(list.Type(), 0, list.Len())
		for i := range list.Len() {
			if rng.IntN(2) == 0 {
				kept = reflect.Append(kept, list.Index(i))
			}
		}
		return kept
	})
	c.Withheld, c.Answers, c.Open = s.Withheld, s.Answers, evidence.Kinds()
	if rng.IntN(2) == 0 {
		c.Discovery, c.SweepDone = nil, false
	}
	return c
}

// What a fault brings about never clears it, however little of it has come: everything in these sets follows from their fault.
func TestPredictedEvidenceNeverClears(t *testing.T) {
	all := slices.DeleteFunc(cases,
		func(c testCase) bool { return c.fault == "" })
	rapid.Check(t, func(t *rapid.T) {
		c := rapid.SampledFrom(all).Draw(t, "case")
		seed := rapid.Uint64().Draw(t, "seed")
		s := Healthy()
		if c.change != nil {
			c.change(s)
		}
		part := verdict.Judge(soFar(s, rand.New(rand.NewPCG(seed, 2))))
		if x, _ := part.Suspect(c.fault); x.Standing == fault.Cleared {
			t.Fatalf("%s: %s is cleared while the rest is under way: %v", c.name, c.fault, x.Against)
		}
	})
}

func TestOrderOfArrivalDoesNotMatter(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := rapid.SampledFrom(cases).Draw(t, "case")
		seed := rapid.Uint64().Draw(t, "seed")
		s := Healthy()
		if c.change != nil {
			c.change(s)
		}
		a, b := verdict.Judge(s), verdict.Judge(shuffled(s, rand.New(rand.NewPCG(seed, 1))))
		if a.Zone != b.Zone || a.Fault != b.Fault || a.Confidence != b.Confidence || a.Sentence != b.Sentence {
			t.Fatalf("%s: %s %s %q, in another order %s %s %q", c.name, a.Zone, a.Fault, a.Sentence, b.Zone, b.Fault, b.Sentence)
		}
	})
}

// Evidence that is missing clears nobody of what only it could tell, and never blames anybody.
func TestWithheldClearsNobody(t *testing.T) {
	nothing := &evidence.Set{Target: Healthy().Target, Interface: "eth0", Endpoint: Healthy().Endpoint}
	r := verdict.Judge(nothing)
	for _, s := range r.Suspects {
		assert.False(t, s.Standing.Holds(), "%s is %v with no probe answered", s.Fault.ID, s.Standing)
	}
	for _, id := range []string{"address-conflict", "segment-isolated", "gateway-silent", "gateway-does-not-forward", "uplink-down",
		"path-stops", "service-filtered", "name-not-found"} {
		assert.Equal(t, "possible", standing(r, id), id)
	}
	assert.Equal(t, zone.Undetermined, r.Zone)
	empty := verdict.Judge(&evidence.Set{})
	assert.Equal(t, zone.Undetermined, empty.Zone, "nothing at all is known")
}

func TestSettled(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(*evidence.Set)
		open   []evidence.Kind
		want   bool
	}{
		{"healthy does not wait for the trace", nil, []evidence.Kind{evidence.PathTrace, evidence.OtherNeighbours, evidence.DHCPOffer},
			true},
		{"healthy waits for silence", nil, []evidence.Kind{evidence.AddressConflict}, false},
		{"healthy waits for every name server", nil, []evidence.Kind{evidence.NameLookup}, false},
		{"nothing is nearer than a port that is down", func(s *evidence.Set) { NoAddress(s); Interface(s).Up = false }, evidence.Kinds(),
			true},
		{"a silent gateway waits for what is nearer", GatewayGone, []evidence.Kind{evidence.ServiceConnect}, false},
		{"a silent gateway does not wait for what lies behind", GatewayGone, []evidence.Kind{evidence.TargetEcho, evidence.PathTrace},
			true},
		{"a silent gateway that came by DHCP waits for other routers, also beside another fault", func(s *evidence.Set) {
			GatewayGone(s)
			s.Conflicts[0] = evidence.Conflict{Address: Own, Reply: Answer(Own, 1)}
		}, []evidence.Kind{evidence.Handoffs}, false},
		{"a supported fault waits for what may confirm or clear it", func(s *evidence.Set) { Alone(s, Silence()) },
			[]evidence.Kind{evidence.NameLookup}, false},
	} {
		s := Healthy()
		if c.change != nil {
			c.change(s)
		}
		s.Open = c.open
		assert.Equal(t, c.want, verdict.Judge(s).Settled, c.name)
	}
}

func TestChecksTellWhatWasAskedAndHeard(t *testing.T) {
	for _, c := range cases {
		s := Healthy()
		if c.change != nil {
			c.change(s)
		}
		r := verdict.Judge(s)
		z := zone.Unknown
		for _, check := range r.Checks {
			assert.NotEmpty(t, check.Fact, "%s: %s", c.name, check.ID)
			assert.NotEmpty(t, check.Asked, "%s: %s", c.name, check.ID)
			assert.NotEmpty(t, check.Means, "%s: %s", c.name, check.ID)
			assert.GreaterOrEqual(t, check.Zone, z, "%s: %s comes in the order of the zones", c.name, check.ID)
			z = check.Zone
		}
		if s, ok := r.Suspect(r.Fault); ok && r.Fault != "" {
			i := slices.IndexFunc(r.Checks, func(k verdict.Check) bool { return k.ID == s.Fault.Check })
			if i >= 0 {
				assert.Equal(t, verdict.Broken, r.Checks[i].State, "%s: the fault's own check is broken", c.name)
				assert.NotEmpty(t, r.Checks[i].Mend, c.name)
			}
		}
	}
}

func TestWordsOfTheContract(t *testing.T) {
	for _, s := range []verdict.State{verdict.StateUnknown, verdict.Holds, verdict.Strained, verdict.Broken, verdict.Skipped} {
		b, err := json.Marshal(s)
		require.NoError(t, err)
		assert.Contains(t, []string{`"holds"`, `"strained"`, `"broken"`, `"unknown"`, `"skipped"`}, string(b))
	}
}

// What a fault explains is in the catalogue, farther from the host or beside it, and explains nothing back.
func TestWhatFollowsIsInTheCatalogue(t *testing.T) {
	at := map[fault.ID]*fault.Fault{}
	for _, f := range fault.Catalogue {
		at[f.ID] = f
	}
	for _, f := range fault.Catalogue {
		for _, id := range f.Explains {
			if g := at[id]; assert.NotNil(t, g, "%s explains %s", f.ID, id) {
				assert.NotContains(t, g.Explains, f.ID)
				assert.NotEqual(t, f.ID, id)
				// the gateway itself is who holds back what it forwards later
				if f == fault.CaptivePortal && g == fault.GatewayDoesNotForward {
					continue
				}
				assert.GreaterOrEqual(t, g.Zone, f.Zone, "%s explains %s", f.ID, id)
			}
		}
	}
}
