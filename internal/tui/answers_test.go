package tui

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/zone"
	"passepartout/internal/machine/simulated"
)

// What only a person can look at is asked, and the answer counts at once.
func TestSaying(t *testing.T) {
	m := standing(t, "wrong-network", simulated.Options{Privilege: simulated.EchoOnly}, nil)
	shows(t, m, "not determined", "You   Is this machine's address one of this place's network?", "w tells what you found")
	press(m, "w")
	shows(t, m, "What have you found out?", "no, it is another place's", "rules out", "“the address belongs to another network”")
	press(m, "esc")
	shows(t, m, "not determined")
	answer(t, m)
	shows(t, m, "The fault lies in this HOST", "likely")
	// of these tests, or of those before them: they run again where this machine stood still
	until(t, m, "what it was before", func() bool {
		return m.state.Verdict.Amended == "Not determined" || len(m.state.Past) > 0 && m.state.Past[len(m.state.Past)-1].Fault == ""
	})
	assert.Equal(t, zone.Host, m.result.Zone)
	press(m, "w")
	shows(t, m, "You have said: Is this machine's address one of this place's network?")
	press(m, "pgdown", "enter")
	until(t, m, "an answer is taken back", func() bool { return m.result.Fault != "wrong-network" && len(m.given()) == 0 })
	answer(t, m)
	until(t, m, "an answer", func() bool { return len(m.given()) > 0 })
	runs := m.state.Round.Number
	press(m, "r")
	until(t, m, "another run of the tests", func() bool { return m.state.Round.Number > runs })
	assert.Empty(t, m.given(), "what was found before may have been mended since")
	press(m, "w")
	shows(t, m, "The tests are still running")
}

// answer says the second of the things that may be said first, once they are there: not while the tests run again.
func answer(t *testing.T, m *model) {
	t.Helper()
	press(m, "w")
	shows(t, m, "no, it is another place's")
	press(m, "down", "enter")
}

func TestNothingToSay(t *testing.T) {
	m := standing(t, "healthy", simulated.Options{}, nil)
	press(m, "w")
	shows(t, m, "Nothing stands in the way")
	press(m, "esc", "1")
	assert.False(t, m.shows(answersLayer))
}
