package tui

import (
	"os"
	"path/filepath"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/machine/simulated"
)

// What passes is told as it passes: the tests' own questions here, and what became of them.
func TestExchangesView(t *testing.T) {
	t.Parallel()
	m := standing(t, "service-refused", simulated.Options{}, nil)
	press(m, "X")
	shows(t, m, "What passes eth0", "these tests' own among them")
	press(m, "r")
	shows(t, m, "ARP", "DNS", "203.0.113.80:443", "failed, last: a connection: refused after", "the last minute", "╳")
	press(m, "home", "enter")
	shows(t, m, "esc shows the others", "who asks whom")
	press(m, "home", "up", "end", "esc")
	shows(t, m, "the last minute")
	for _, size := range sizes {
		send(m, tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		whole(t, m, "exchanges")
	}
	send(m, tea.WindowSizeMsg{Width: 120, Height: 40})
	press(m, "/")
	m.entry.input.SetValue("tcp refused")
	press(m, "enter")
	shows(t, m, "only “tcp refused”")
	until(t, m, "only those", func() bool {
		s, _ := lookedAt[passingSeen](m)
		return len(s.list) > 0 && len(s.list) < len(s.seen.List)
	})
	assert.NotContains(t, text(m), "who has")
	press(m, "down", "enter")
	shows(t, m, "TCP 203.0.113.80:443", "a reset")
	press(m, "esc")
	file := filepath.Join(t.TempDir(), "pier.json")
	press(m, "e")
	m.entry.input.SetValue(file)
	press(m, "enter")
	shows(t, m, "written to "+file)
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(raw), `"outcome": "refused"`)
	assert.NotContains(t, string(raw), `"kind": "arp"`)
	press(m, "esc")
	until(t, m, "all of them", func() bool { s, _ := lookedAt[passingSeen](m); return len(s.list) == len(s.seen.List) })
	press(m, "z")
	until(t, m, "nothing of what was before", func() bool { s, _ := lookedAt[passingSeen](m); return len(s.list) < len(s.seen.List) })
}

// Who may not listen is told what would allow it.
func TestExchangesWithoutPermission(t *testing.T) {
	t.Parallel()
	m := standing(t, "healthy", simulated.Options{Privilege: simulated.EchoOnly}, nil)
	press(m, "X")
	shows(t, m, "What passes cannot be told: frames may not be listened to without permission; this gives it: sudo")
}
