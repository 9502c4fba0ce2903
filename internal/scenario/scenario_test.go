package scenario_test

import (
	"errors"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/subnet"
	"passepartout/internal/core/target"
	"passepartout/internal/scenario"
)

func TestEveryScenarioThatShips(t *testing.T) {
	names := scenario.Names()
	require.Equal(t, scenario.Healthy, names[0], "the healthy one comes first")
	name := regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)+$`)
	complaints, healthy := map[string]bool{}, 0
	for _, n := range names {
		t.Run(n, func(t *testing.T) {
			if n != scenario.Healthy {
				assert.Regexp(t, name, n, "kebab-case of two words or more")
			}
			s, err := scenario.Load(n)
			require.NoError(t, err)
			assert.Contains(t, []string{"none", "host", "local-subnet", "beyond", "undetermined"}, s.Expect.Zone)
			assert.False(t, complaints[s.Complaint] || s.Complaint == "", "a complaint of its own")
			complaints[s.Complaint] = true
			_, err = target.Parse(s.Target)
			assert.NoError(t, err)
			if strings.HasPrefix(n, "healthy") {
				healthy++
				assert.Equal(t, "none", s.Expect.Zone)
				assert.Empty(t, s.Expect.Also)
			}
			seen := map[string]string{}
			for node, spec := range s.Site.Nodes {
				for port := range spec.Ports {
					hw := scenario.Hardware(node, port).String()
					assert.Empty(t, seen[hw], "a hardware address stands for one port")
					seen[hw] = node
					for _, a := range spec.Ports[port].Addresses {
						at := a.Addr()
						if four, translated := subnet.Embedded(subnet.WellKnownTranslation, at); translated {
							at = four
						}
						kind := subnet.KindOf(at)
						documentation := kind == subnet.Global &&
							(strings.HasPrefix(at.String(), "203.0.113.") || strings.HasPrefix(at.String(), "198.51.100.") ||
								strings.HasPrefix(at.String(), "2001:db8:"))
						assert.True(t, documentation || kind == subnet.Private || kind == subnet.SelfAssigned,
							"%v is nobody's real address", a)
					}
				}
			}
		})
	}
	assert.GreaterOrEqual(t, healthy, 3, "three healthy variants at least")
}

func TestUnknownScenario(t *testing.T) {
	for _, in := range []string{"", "nothing-like-it", "../sites/kittiwake", strings.Repeat("x", 500)} {
		_, err := scenario.Load(in)
		assert.True(t, errors.Is(err, scenario.ErrUnknown), "%q: %v", in, err)
		assert.Less(t, len(err.Error()), 200)
	}
}

const tiny = `
name: tiny
endpoint: a
segments: {lan: {delay: 1ms}}
nodes:
  a: {ports: {eth0: {segment: lan, addresses: [172.27.40.23/24]}}, routes: [{to: 0.0.0.0/0, via: 172.27.40.1}], resolvers: [172.27.40.1]}
  b: {forwards: true, ports: {eth0: {segment: lan, addresses: [172.27.40.1/24]}}}
`

func parse(in string) (*scenario.Scenario, error) {
	return scenario.Parse([]byte(in), func(name string) ([]byte, error) {
		if name != "tiny" {
			return nil, errors.New("not there")
		}
		return []byte(tiny), nil
	})
}

func TestChangesReplaceFieldsAndKeepTheRest(t *testing.T) {
	s, err := parse("site: tiny\ntarget: 172.27.40.1\nsegments: {lan: {loss: 3}}\nnodes:\n  b: {off: true}\n  c: {ports: {eth0: " +
		"{segment: lan, addresses: [172.27.40.9/24]}}}\n")
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "c"}, s.Site.NodeNames(), "b is off, c is new")
	assert.True(t, s.Site.Nodes["b"].Forwards, "what the change does not name stays")
	assert.Equal(t, "1ms", must(s.Site.Segments["lan"].Delay.MarshalText()))
	assert.Equal(t, 3.0, s.Site.Segments["lan"].Loss)
	assert.Len(t, s.Site.Nodes["a"].Routes, 1)
}

func must(b []byte, err error) string {
	if err != nil {
		panic(err)
	}
	return string(b)
}

func TestFlawsAreToldInOneLine(t *testing.T) {
	for in, want := range map[string]string{
		"site: nowhere":                                                                    `site "nowhere" is not there`,
		"site: tiny\nnonsense: 1":                                                          "nonsense",
		"site: tiny\nnodes: {b: {speed: 9}}":                                               "node b",
		"site: tiny\nnodes: {b: {off: perhaps}}":                                           "node b",
		"site: tiny\nsegments: {lan: {delay: soon}}":                                       "segment lan",
		"site: tiny\nnodes: {b: {ports: {eth0: {segment: moon}}}}":                         `segment "moon" is not there`,
		"site: tiny\nnodes: {a: {routes: [{to: 0.0.0.0/0, via: 10.9.9.9}]}}":               "no port has a prefix that holds it",
		"site: tiny\nnodes: {a: {routes: [{to: 10.0.0.0/8, refuse: politely}]}}":           "refuse is blackhole, unreachable or prohibit",
		"site: tiny\nnodes: {b: {filter: [{chain: sideways, action: drop}]}}":              "chain is in, out or forward",
		"site: tiny\nnodes: {b: {ports: {eth0: {segment: lan, addresses: [1.2.3.4]}}}}":    "node b",
		"site: tiny\nnodes: {b: {ports: {eth0: {segment: lan, addresses: [1.2.3.4/99]}}}}": "node b",
		"\x00":       "",
		"site: [1]":  "",
		"- a\n- b\n": "",
	} {
		_, err := parse(in)
		if assert.Error(t, err, "%q", in) {
			assert.Contains(t, err.Error(), want, "%q", in)
			assert.NotContains(t, err.Error(), "\n", "%q", in)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add("site: tiny\nnodes: {b: {off: true}}\nexpect: {zone: none}")
	f.Fuzz(func(t *testing.T, in string) {
		if s, err := parse(in); err == nil && s.Site == nil {
			t.Fatal("neither site nor error")
		}
	})
}

func TestExpectationsWithoutFrames(t *testing.T) {
	e := scenario.Expect{Zone: "host", Fault: "no-address", Unprivileged: &scenario.Without{Zone: "undetermined"}}
	zone, fault := e.For(true, true)
	assert.Equal(t, []string{"host", "no-address"}, []string{zone, fault})
	zone, fault = e.For(false, true)
	assert.Equal(t, []string{"undetermined", ""}, []string{zone, fault})
}
