package conductor_test

import (
	"bytes"
	"os/exec"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/conductor"
	"passepartout/internal/core/event"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/state"
	"passepartout/internal/core/target"
	"passepartout/internal/core/zone"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/scenario"
)

// at is a case in a scenario, with the log that it writes.
func at(t *testing.T, name string) (*conductor.Conductor, func() []byte) {
	s, err := scenario.Load(name)
	require.NoError(t, err)
	site, err := simulated.Build(s, simulated.Options{})
	require.NoError(t, err)
	t.Cleanup(site.Close)
	want, err := target.Parse(s.Target)
	require.NoError(t, err)
	var mu sync.Mutex
	var log bytes.Buffer
	out := event.NewWriter(&log)
	c := conductor.New(t.Context(), conductor.Config{Machine: site.Machine(), Target: want, Log: func(e event.Event, _ *state.State) {
		mu.Lock()
		defer mu.Unlock()
		assert.NoError(t, out.Write(e))
	}})
	t.Cleanup(c.Close)
	return c, func() []byte {
		mu.Lock()
		defer mu.Unlock()
		return bytes.Clone(log.Bytes())
	}
}

func folded(t *testing.T, log []byte) (s state.State) {
	require.NoError(t, event.Read(bytes.NewReader(log), func(e event.Event) error {
		s = state.Fold(s, e)
		return nil
	}))
	return s
}

// wait waits until the state is as wanted, by the news alone.
func wait(t *testing.T, c *conductor.Conductor, what string, so func(s state.State) bool) state.State {
	t.Helper()
	over := time.After(30 * time.Second)
	for {
		if s := c.State(); so(s) {
			return s
		}
		select {
		case <-c.News():
		case <-over:
			require.Fail(t, "not within half a minute", what)
		}
	}
}

func current(s state.State) bool { return s.Verdict.Standing == state.Current && s.Round.Over }

func TestOnceIsOneRound(t *testing.T) {
	c, log := at(t, "healthy")
	s, err := c.Once()
	require.NoError(t, err)
	assert.Equal(t, zone.None, s.Verdict.Result.Zone)
	assert.Equal(t, state.Current, s.Verdict.Standing)
	assert.Equal(t, 1, s.Round.Number)
	assert.Empty(t, s.Witness, "nothing is watched afterwards")
	assert.Equal(t, s.Verdict.Result, folded(t, log()).Verdict.Result)
}

// What was found wrong while this machine itself stood still is no evidence: it is tested again, and said so.
func TestAMachineThatStandsStillIsTestedAgain(t *testing.T) {
	for name, again := range map[string]bool{"gateway-silent": true, "healthy-container-host": false} {
		c, log := at(t, name)
		stand := time.AfterFunc(20*time.Millisecond, func() {
			assert.NoError(t, exec.Command("sh", "-c", "kill -STOP $PPID; sleep 0.3; kill -CONT $PPID").Run())
		})
		s, err := c.Once()
		stand.Stop()
		require.NoError(t, err)
		if !again {
			assert.Equal(t, zone.None, s.Verdict.Result.Zone, name)
			continue
		}
		assert.Equal(t, zone.LocalSubnet, s.Verdict.Result.Zone, name)
		assert.Greater(t, s.Round.Number, 1, name)
		assert.Contains(t, s.Round.Because, "stood still", name)
		assert.Equal(t, state.Current, s.Verdict.Standing)
		assert.True(t, bytes.Contains(log(), []byte(`"Void":true`)))
	}
}

func TestAgainRunsEverythingOnce(t *testing.T) {
	c, log := at(t, "healthy")
	c.Start()
	first := wait(t, c, "the first verdict", current)
	assert.Equal(t, 1, first.Round.Number)
	c.Again()
	second := wait(t, c, "the second", func(s state.State) bool { return s.Round.Number > 1 && current(s) })
	assert.Equal(t, 2, second.Round.Number)
	assert.True(t, second.Verdict.Checked.After(first.Verdict.Checked))
	assert.NotEmpty(t, second.Witness)
	assert.Empty(t, second.Past, "the verdict is the same")
	assert.Equal(t, 1, first.Round.Number)
	c.Stop("the test is over")
	again := folded(t, log())
	assert.Equal(t, "the test is over", again.Stopped)
	assert.Equal(t, second.Verdict.Result.Zone, again.Verdict.Result.Zone)
}

func TestWhatAPersonSaysCountsAtOnce(t *testing.T) {
	c, _ := at(t, "gateway-does-not-forward")
	c.Start()
	wait(t, c, "the first verdict", current)
	said := evidence.Answer{Question: "others-affected", Answer: "they-do"}
	c.Say(said)
	s := c.State()
	assert.Equal(t, []evidence.Answer{said}, s.Round.Set.Answers)
	c.Again()
	s = wait(t, c, "the second verdict", func(s state.State) bool { return s.Round.Number > 1 && current(s) })
	assert.Equal(t, []evidence.Answer{said}, s.Round.Set.Answers, "what was said is known to later tests")
	c.Say(evidence.Answer{Question: said.Question})
	assert.Empty(t, c.State().Round.Set.Answers)
}

func TestCloseEndsAllInTheMiddle(t *testing.T) {
	for _, after := range []time.Duration{0, 20 * time.Millisecond, 400 * time.Millisecond} {
		c, log := at(t, "gateway-silent")
		c.Start()
		time.Sleep(after)
		began := time.Now()
		c.Close()
		assert.Less(t, time.Since(began), 5*time.Second)
		length := len(log())
		time.Sleep(100 * time.Millisecond)
		assert.Len(t, log(), length, "nothing comes after the end")
	}
}
