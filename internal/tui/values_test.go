package tui

import (
	"errors"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/event"
	"passepartout/internal/core/state"
	"passepartout/internal/machine/simulated"
)

// What is asked for on the telephone stands on one card: each value is copied by a key, and the whole case as text.
func TestValuesAreReadOutAndCopied(t *testing.T) {
	t.Parallel()
	m := standing(t, "gateway-outside-subnet", simulated.Options{}, nil)
	kept, refused := make(chan string, 8), make(chan error, 8)
	m.Handed = func(text string) (string, error) {
		kept <- text
		return "state/copied.txt", <-refused
	}
	m.complaint = "I set the counter up by the sheet."
	press(m, "v")
	require.Equal(t, valuesLayer, m.top())
	shows(t, m, "hardware address", "address and prefix", "172.27.40.23/24", "default gateway", "172.27.41.1", "name servers",
		"I set the counter up")
	for m.card.rows[m.card.picked].Name != "default gateway" {
		press(m, "down")
	}
	shows(t, m, "1 7 2 . 2 7 . 4 1 . 1")
	refused <- nil
	press(m, "enter")
	shows(t, m, "default gateway: given to the terminal's clipboard", "state/copied.txt")
	require.Equal(t, "172.27.41.1", <-kept)
	refused <- nil
	press(m, "end", "pgup", "home", "a")
	shows(t, m, "the whole case: given to", "state/copied.txt")
	whole := <-kept
	for _, has := range []string{"fault in this host", "gateway-outside-subnet", "Asked of you", "172.27.41.1", m.result.Sentence,
		m.result.Next[0], "ticket-03"} {
		assert.Contains(t, whole, has)
	}
	assert.NotContains(t, whole, "changed  ")
	refused <- errors.New("no space left on device")
	press(m, "enter")
	shows(t, m, "not kept in a file: no space left on device")
	press(m, "esc")
	assert.Nil(t, m.top())

	press(m, "g")
	until(t, m, "the plan", func() bool { return m.acts.draft != nil && m.acts.draft.looked })
	press(m, "enter")
	until(t, m, "the proof", func() bool { return m.acts.doing != nil && m.acts.doing.proven })
	press(m, "k")
	until(t, m, "the end", func() bool { return m.acts.doing == nil })
	until(t, m, "the log", func() bool { return len(m.case_.State().Acts) == 1 })
	press(m, "v", "end")
	shows(t, m, "What was done", "Set eth0: gateway 172.27.40.1", "kept; then: ")
	assert.Contains(t, m.card.Text(), "no fault found")
}

// The clipboard is the terminal's own (OSC 52); nothing that came from outside gets there as anything but text.
func TestCopyingIsTold(t *testing.T) {
	t.Parallel()
	m := standing(t, "healthy", simulated.Options{}, nil)
	press(m, "v")
	cmd := m.copyOut("172.27.40.1", "gateway")
	require.NotNil(t, cmd)
	assert.Equal(t, tea.SetClipboard("172.27.40.1")(), cmd())
	for _, r := range m.card.rows {
		assert.NotContains(t, r.Value, "\x1b")
		assert.False(t, strings.ContainsAny(r.Value, "\n\r"))
	}
}

// Whoever keeps the case hears of all that happens in it, one question after the other.
func TestTheScreensCaseIsHeard(t *testing.T) {
	t.Parallel()
	m := standing(t, "healthy", simulated.Options{}, nil)
	heard := make(chan event.Event, 1<<16)
	m.Log = func(e event.Event, _ *state.State) { heard <- e }
	press(m, "t")
	m.input.SetValue("weather.kittiwake.example:443")
	press(m, "enter")
	testsEnd(t, m)
	press(m, "t")
	m.input.SetValue("203.0.113.53")
	press(m, "enter")
	testsEnd(t, m)
	m.leave()
	var s state.State
	for len(heard) > 0 {
		s = state.Fold(s, <-heard)
	}
	require.Len(t, s.Past, 1)
	assert.Equal(t, "weather.kittiwake.example:443", s.Past[0].Target)
	assert.Equal(t, "203.0.113.53", s.Verdict.Set.Target.String())
	assert.NotEmpty(t, s.Stopped)
}
