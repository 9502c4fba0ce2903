package state_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/event"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/series"
	"passepartout/internal/core/state"
	"passepartout/internal/core/zone"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// case_ is a log under the test's hands, and the state that follows from it. Each event is written and read back before it is folded.
type case_ struct {
	t  *testing.T
	at time.Time
	state.State
}

func (c *case_) post(after time.Duration, b event.Body) {
	c.t.Helper()
	c.at = c.at.Add(after)
	var log bytes.Buffer
	require.NoError(c.t, event.NewWriter(&log).Write(event.Event{At: c.at, Body: b}))
	require.NoError(c.t, event.Read(&log, func(e event.Event) error {
		c.State = state.Fold(c.State, e)
		return nil
	}))
}

// tests has one run of the tests find evidence.
func (c *case_) tests(after time.Duration, change func(*evidence.Set)) {
	c.t.Helper()
	s := Healthy()
	if change != nil {
		change(s)
	}
	c.post(after,
		event.Began{Round: c.Round.Number + 1, Question: evidence.Subject{Target: s.Target, Interface: s.Interface}, Endpoint: s.Endpoint})
	c.State.Round.Set = *s // as if all of it had been observed one by one
	c.post(time.Second, event.Judged{Round: c.Round.Number, Settled: true, Over: true})
}

func (c *case_) probe(id string, fates ...series.Fate) {
	for _, f := range fates {
		c.post(time.Second, event.Probed{Witness: id, Sent: c.at, Fate: f})
	}
}

func (c *case_) try(works bool, what string) {
	c.post(300*time.Millisecond, event.Tried{Sent: c.at, Works: works, Step: "connection", What: what})
}

// healthy is a case whose target works, with a witness in each zone that answers.
func healthy(t *testing.T) *case_ {
	c := &case_{t: t, at: noon}
	c.tests(0, nil)
	for rank, w := range []struct {
		id   string
		zone zone.Zone
	}{{"gateway", zone.LocalSubnet}, {"edge", zone.Beyond}, {"target", zone.Beyond}} {
		c.post(0, event.Watched{Witness: w.id, Name: w.id, Zone: w.zone, Rank: rank + 2})
		c.probe(w.id, series.Replied)
	}
	c.try(true, "")
	return c
}

func TestNothingIsKnownAtFirst(t *testing.T) {
	var s state.State
	set, r := s.Shown()
	assert.NotNil(t, set)
	assert.Empty(t, r.Zone)
	assert.Empty(t, s.Verdict.Certainty())
	assert.False(t, s.Testing())
	assert.NotNil(t, s.Latest())
}

func TestStanding(t *testing.T) {
	const lost, reply = series.Silent, series.Replied
	for _, c := range []struct {
		name    string
		do      func(*case_)
		want    state.Standing
		because string
		from    zone.Zone
	}{
		{name: "nothing happens", do: func(c *case_) { c.probe("gateway", reply, reply); c.try(true, "") }, want: state.Current},
		{name: "one probe lost is chance", do: func(c *case_) { c.probe("gateway", lost, reply, lost, reply) }, want: state.Current},
		{name: "a witness keeps silent", do: func(c *case_) { c.probe("gateway", lost, lost) }, want: state.Doubtful,
			because: "gateway has been silent since", from: zone.LocalSubnet},
		{name: "it answers again", do: func(c *case_) { c.probe("gateway", lost, lost, reply) }, want: state.Current},
		{name: "it keeps silent, and the target is reached all the same",
			do: func(c *case_) { c.probe("edge", lost, lost); c.try(true, "") }, want: state.Current},
		{name: "a trial that fails once", do: func(c *case_) { c.try(false, "no answer") }, want: state.Current},
		{name: "and twice", do: func(c *case_) { c.try(false, "no answer"); c.try(false, "no answer") }, want: state.Outdated,
			because: "does not work any more (connection: no answer)", from: zone.Beyond},
		{name: "differently each time", do: func(c *case_) { c.try(false, "no answer"); c.try(false, "refused") }, want: state.Current},
		{name: "and works again", do: func(c *case_) { c.try(false, "refused"); c.try(false, "refused"); c.try(true, "") },
			want: state.Current},
		{name: "three of twenty lost", do: func(c *case_) {
			c.probe("target", reply, lost, reply, reply, lost, reply, reply, lost, reply)
		}, want: state.Doubtful, because: "3 of the last"},
		{name: "a route has changed", do: func(c *case_) { c.post(0, event.Changed{Of: event.Route, What: "the default route has gone"}) },
			want: state.Doubtful, because: "the default route has gone", from: zone.Host},
		{name: "the signal has gone",
			do:   func(c *case_) { c.post(0, event.Changed{Of: event.Link, What: "eth0 has lost its signal", Void: true}) },
			want: state.Outdated, because: "eth0 has lost"},
		{name: "a lease was renewed", do: func(c *case_) { c.post(0, event.Changed{Of: event.Lease, What: "renewed", Quiet: true}) },
			want: state.Current},
		{name: "while the tests run again it stays doubtful", do: func(c *case_) {
			c.post(0, event.Changed{Of: event.Route, What: "the default route has gone"})
			c.post(0, event.Began{Round: 2, Endpoint: c.Endpoint})
		}, want: state.Doubtful, because: "the default route has gone"},
		{name: "tests that were called off change nothing", do: func(c *case_) {
			c.post(0, event.Changed{Of: event.Route, What: "the default route has gone"})
			c.post(0, event.Began{Round: 2, Endpoint: c.Endpoint})
			c.post(0, event.Ended{Round: 2, Because: "called off"})
		}, want: state.Doubtful, because: "the default route has gone"},
		{name: "tested again, with the same outcome", do: func(c *case_) {
			c.post(0, event.Changed{Of: event.Route, What: "the default route has gone"})
			c.tests(time.Second, nil)
		}, want: state.Current},
		{name: "a change while the tests run is not known to them", do: func(c *case_) {
			c.post(0, event.Began{Round: 2, Endpoint: c.Endpoint})
			c.post(time.Second, event.Changed{Of: event.Route, What: "the default route has gone"})
			c.State.Round.Set = *Healthy()
			c.post(time.Second, event.Judged{Round: 2, Settled: true, Over: true})
		}, want: state.Doubtful, because: "the default route has gone"},
	} {
		t.Run(c.name, func(t *testing.T) {
			k := healthy(t)
			require.Equal(t, state.Current, k.Verdict.Standing)
			require.Equal(t, "certain", k.Verdict.Certainty())
			c.do(k)
			assert.Equal(t, c.want, k.Verdict.Standing, k.Verdict.Because)
			assert.Contains(t, k.Verdict.Because, c.because)
			assert.Equal(t, c.want == state.Current, k.Verdict.Certainty() == "certain", "certain is said of a current one alone")
			if c.from != zone.Unknown {
				assert.Equal(t, c.from, k.Verdict.From)
			}
			set, _ := k.Shown()
			assert.NotNil(t, set.Endpoint, "what is shown is what the verdict rests on, not tests that are still running")
		})
	}
}

// A break and its repair: each verdict has its time, and what was true until when stays.
func TestBreakAndRepair(t *testing.T) {
	c := healthy(t)
	c.probe("gateway", series.Silent, series.Silent)
	first := c.at.Add(-2 * time.Second) // the first of them was sent then
	c.tests(time.Second, GatewayGone)
	v := c.Verdict
	assert.Equal(t, state.Current, v.Standing)
	assert.EqualValues(t, "gateway-silent", v.Result.Fault)
	assert.Equal(t, first, v.Since, "it is so since the first sign of it")
	if assert.Len(t, c.Past, 1) {
		assert.Equal(t, zone.None, c.Past[0].Zone)
		assert.Equal(t, v.Since, c.Past[0].To)
	}
	c.probe("target", series.Silent, series.Silent)
	assert.Equal(t, state.Current, c.Verdict.Standing, "what lies behind a silent gateway is silent too")
	c.try(false, "no answer")
	c.try(false, "no answer")
	assert.Equal(t, state.Current, c.Verdict.Standing)
	assert.True(t, c.TrialTells())
	c.try(true, "")
	assert.Equal(t, state.Outdated, c.Verdict.Standing)
	assert.Equal(t, "the target works again", c.Verdict.Because)
	c.tests(time.Second, nil)
	assert.Equal(t, state.Current, c.Verdict.Standing)
	assert.Equal(t, zone.None, c.Verdict.Result.Zone)
	assert.Len(t, c.Past, 2)
}

// There is one zone and one story: an outage that goes on is laid where the verdict lays it.
func TestAnOutageIsLaidWhereTheVerdictLaysIt(t *testing.T) {
	c := healthy(t)
	before := event.Outage{Zone: zone.Beyond, From: c.at.Add(-time.Minute), To: c.at.Add(-50 * time.Second)}
	c.post(0, before)
	c.probe("gateway", series.Silent, series.Silent)
	o := event.Outage{Zone: zone.Beyond, From: c.at, Evidence: "bookings did not"}
	c.post(0, o)
	c.tests(time.Second, GatewayGone)
	assert.Equal(t, zone.LocalSubnet, c.Outages[1].Zone)
	o.To = c.at
	c.post(time.Second, o)
	assert.Len(t, c.Outages, 2, "its end is no other outage")
	assert.Equal(t, zone.LocalSubnet, c.Outages[1].Zone)
	assert.Equal(t, zone.Beyond, c.Outages[0].Zone, "one that was over before is what it was")
}

// A state that was handed out stays as it was, whatever comes later.
func TestAStateIsAValue(t *testing.T) {
	c := healthy(t)
	was := c.State
	picture := func() string {
		return fmt.Sprintf("%+v %+v %+v %+v %+v", was.Witness, was.Changes, was.Outages, was.Round.Set, was.Verdict.Because)
	}
	before := picture()
	for i := range 300 {
		c.probe("gateway", series.Silent)
		c.post(0, event.Changed{Of: event.Route, What: fmt.Sprint(i)})
		c.post(0, event.Outage{From: c.at})
		c.tests(0, map[bool]func(*evidence.Set){true: GatewayGone}[i%2 == 0])
	}
	assert.Equal(t, before, picture())
	assert.LessOrEqual(t, len(c.Past), 200, "what is kept is bounded")
	assert.LessOrEqual(t, len(c.Changes), 200)
}

func TestALogThatIsNone(t *testing.T) {
	for text, want := range map[string]string{
		"{}\n":                                   `line 1: no event is called ""`,
		"\n{\"event\":\"gossip\",\"data\":{}}\n": `line 2: no event is called "gossip"`,
		"{\"event\":\"observed\",\"sort\":\"x\"}": `line 1: no observation is called "x"`,
		"{\"event\":\"began\",\"data\":[1]}\n":    "line 1: began:",
		"no json at all\n":                        "line 1: invalid character",
	} {
		err := event.Read(bytes.NewBufferString(text), func(event.Event) error { return nil })
		assert.ErrorContains(t, err, want)
	}
}

// An hour in which nothing happens, but for what happens on any sound network: one packet in a thousand is lost, the lease is renewed, an
// answer of the name service comes a little late. The verdict never parts from current.
func TestAHealthyHour(t *testing.T) {
	for seed := range uint64(8) {
		c := healthy(t)
		chance := rand.New(rand.NewPCG(seed, 1))
		lost := 0
		fate := func() series.Fate {
			if chance.IntN(1000) == 0 {
				lost++
				return series.Silent
			}
			return series.Replied
		}
		fold := func(b event.Body) { c.State = state.Fold(c.State, event.Event{At: c.at, Body: b}) }
		for second := range 3600 {
			c.at = c.at.Add(time.Second)
			fold(event.Probed{Witness: "gateway", Sent: c.at, Fate: fate()})
			if second%2 == 0 {
				fold(event.Probed{Witness: "edge", Sent: c.at, Fate: fate()})
				fold(event.Probed{Witness: "target", Sent: c.at, Fate: fate()})
			}
			if second%3 == 0 {
				fold(event.Tried{Sent: c.at, Works: true, Step: "connection"})
			}
			if second%1800 == 900 {
				fold(event.Changed{Of: event.Lease, What: "the lease was renewed", Endpoint: c.Endpoint, Quiet: true})
			}
			require.Equal(t, state.Current, c.Verdict.Standing, "seed %d, second %d: %s", seed, second, c.Verdict.Because)
		}
		assert.Positive(t, lost)
		assert.Empty(t, c.Past)
	}
}
