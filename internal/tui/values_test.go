package tui

import (
	"errors"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

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
	m.Handed = nil
	assert.Equal(t, tea.SetClipboard("172.27.41.1")(), m.copyOut("172.27.41.1", "gateway")(), "the terminal's own (OSC 52)")
	for _, r := range m.card.rows {
		assert.False(t, strings.ContainsAny(r.Value, "\n\r\x1b"), "nothing that came from outside gets there as anything but text")
	}
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

// A note is written on the card, kept in the case, and handed over with it.
func TestANoteIsKeptWithTheCase(t *testing.T) {
	t.Parallel()
	m := standing(t, "gateway-silent", simulated.Options{}, nil)
	press(m, "v", "n")
	shows(t, m, "note", "esc leaves", "hardware address")
	press(m, "enter")
	shows(t, m, "write something down first")
	m.entry.input.SetValue(strings.Repeat("x", longestNote+1))
	press(m, "enter")
	shows(t, m, "the most are 2000")
	m.entry.input.SetValue("Port 7 on the switch is dark.\x1b[31m")
	press(m, "enter")
	shows(t, m, "noted at")
	until(t, m, "the note", func() bool { return len(m.state.Notes) == 1 })
	press(m, "esc", "v", "end")
	shows(t, m, "Notes", "Port 7 on the switch is dark.")
	assert.NotContains(t, m.ticketNow().Text(), "\x1b")

	again := logged()
	press(again, "v", "n")
	assert.Contains(t, ansi.Strip(again.frame().Content), "nothing more is written down in it")
}
