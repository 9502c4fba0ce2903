package tui

import (
	"os"
	"path/filepath"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/zone"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/scenario"
)

// What a program waits for stands first, and becomes the target with one key.
func TestSocketsView(t *testing.T) {
	t.Parallel()
	m := standing(t, "healthy", simulated.Options{}, func(s *scenario.Scenario) {
		s.Site.Nodes["bookings"].Off = true
		s.Target = "weather.kittiwake.example:443"
	})
	assert.Equal(t, zone.None, m.result.Zone, "what is asked for works: it is the program that wants something else")
	press(m, "S")
	shows(t, m, "till-client (2114) to 203.0.113.80:443", "asked 2 times", "nobody answers.", "connections of", "sailing-display (1733)",
		"listening", "label-spooler (611)", "this machine only", "counter-share (702)", "everybody, by IPv4", "the opening (SYN) was sent")
	for _, size := range sizes {
		send(m, tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		whole(t, m, "sockets")
	}
	send(m, tea.WindowSizeMsg{Width: 120, Height: 40})
	press(m, "/")
	m.entry.input.SetValue("631")
	press(m, "enter")
	shows(t, m, "only “631”, esc shows all")
	until(t, m, "only that one", func() bool { s, _ := lookedAt[socketsSeen](m); return len(s.rows) == 1 })
	press(m, "enter")
	assert.Equal(t, socketsView, m.view, "nobody can be asked about a listener")
	press(m, "/")
	m.entry.input.SetValue("nobody")
	press(m, "enter")
	shows(t, m, "No socket has all of “nobody”.")
	press(m, "esc")
	shows(t, m, "nobody answers.")
	press(m, "down")
	shows(t, m, "▸  ▾ till-client")
	press(m, "enter")
	shows(t, m, "1 connection, enter shows them")
	press(m, "enter", "end", "home")
	file := filepath.Join(t.TempDir(), "sockets.json")
	press(m, "e")
	m.entry.input.SetValue(file)
	press(m, "enter")
	shows(t, m, "written to "+file)
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(raw), `"why": "no-answer"`)
	press(m, "enter")
	assert.Equal(t, "203.0.113.80:443", m.target.String())
	testsEnd(t, m)
	until(t, m, "the verdict on what the program wants", func() bool { return m.result.Zone == zone.Beyond })
}

// Without permission it is told that connections are stuck, and not whose they are.
func TestSocketsWithoutPermission(t *testing.T) {
	t.Parallel()
	m := standing(t, "destination-silent", simulated.Options{Privilege: simulated.EchoOnly}, nil)
	press(m, "S")
	shows(t, m, "a program that is not known to bookings.kittiwake.example 203.0.113.80:443",
		"Not known: whose 4 of the sockets are: the files of 4")
}
