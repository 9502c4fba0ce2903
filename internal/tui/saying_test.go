package tui

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/verdict"
	"passepartout/internal/machine/simulated"
)

// What only a person can look at is asked, and the answer counts at once.
func TestSaying(t *testing.T) {
	m := standing(t, "wrong-network", simulated.Options{Privilege: simulated.EchoOnly}, nil)
	shows(t, m, "not determined", "You   Is this machine's address one of this place's network?", "w tells what you found")
	press(m, "w")
	shows(t, m, "What have you found out?", "no, it is another place's", "rules out", "wrong-network")
	press(m, "esc")
	shows(t, m, "not determined")
	press(m, "w", "down")
	press(m, "enter")
	assert.Equal(t, verdict.Host, m.result.Zone)
	shows(t, m, "The fault lies in this HOST", "amended, was undetermined", "likely")
	press(m, "w")
	shows(t, m, "You have said: Is this machine's address one of this place's network?")
	press(m, "pgdown", "enter")
	assert.NotEqual(t, "wrong-network", m.result.Fault, "an answer can be taken back")
	press(m, "r")
	assert.Empty(t, m.said, "what was found before may have been mended since")
	for m.set == nil {
		time.Sleep(10 * time.Millisecond)
		m.Update(newsMsg{m.generation})
	}
	press(m, "w")
	shows(t, m, "The tests are still running")
}

func TestNothingToSay(t *testing.T) {
	m := standing(t, "healthy", simulated.Options{}, nil)
	press(m, "w")
	shows(t, m, "Nothing stands in the way")
	press(m, "esc", "1")
	assert.False(t, m.saying)
}
