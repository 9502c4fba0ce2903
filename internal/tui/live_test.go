package tui

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/series"
	"passepartout/internal/core/target"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/nap/naptest"
	"passepartout/internal/probe/watch"
	"passepartout/internal/scenario"
)

// alive is the program on a simulated site, its tests run to their end, with keys pressed by hand.
func alive(t *testing.T, name string, width, height int) *model {
	s, err := scenario.Load(name)
	require.NoError(t, err)
	site, err := simulated.Build(s, simulated.Options{})
	require.NoError(t, err)
	m := newModel(t.Context(),
		Config{Ground: Ground{Machine: site.Machine(), Targets: []string{s.Target}, Close: site.Close}, Deadline: 10 * time.Second})
	m.Init()
	send(m, tea.WindowSizeMsg{Width: width, Height: height})
	t.Cleanup(m.leave)
	carryOut(m, m.ask())
	testsEnd(t, m)
	return m
}

func type_(m *model, text string) {
	for _, r := range text {
		if r == ' ' {
			send(m, tea.KeyPressMsg{Code: ' ', Text: " "})
			continue
		}
		send(m, tea.KeyPressMsg{Code: r, Text: string(r)})
	}
}

func TestReachView(t *testing.T) {
	t.Parallel()
	m := alive(t, "healthy", 140, 44)
	press(m, "6")
	shows(t, m, "HOST", "loopback", "LOCAL SUBNET", "pier-gw", "BEYOND", "sound-edge", "bookings", "whose loss", "No outage since", "± ")
	press(m, "a")
	type_(m, "172.27.40.50, weather.kittiwake.example:443 203.0.113.99")
	press(m, "enter")
	shows(t, m, "3 added", "172.27.40.50", "weather.kittiwake.ex", "no answer yet")

	press(m, "a")
	for wrong, want := range map[string]string{"bad..name": "target", "@/nonexistent/list": "no such file",
		strings.Repeat("10.0.0.1 ", 2001): "at most 2000"} {
		m.pasteEntry(wrong)
		press(m, "enter")
		shows(t, m, want)
		if !m.shows(entryLayer) { // a file is read away from the screen
			press(m, "a")
		}
		m.entry.input.SetValue("")
		m.entry.flaw = ""
	}
	list := filepath.Join(t.TempDir(), "list")
	require.NoError(t, os.WriteFile(list, []byte("# the pier\n172.27.40.60\n172.27.40.70 # office\n"), 0o644))
	type_(m, "@"+list)
	press(m, "enter")
	shows(t, m, "2 added", "172.27.40.70")

	press(m, "down", "enter") // the gateway: how it is asked
	assert.Contains(t, text(m), "every 1s size 48")
	m.entry.input.SetValue("every 0.2s size 1400 count 5 whole ipv4")
	press(m, "enter")
	shows(t, m, "every 200ms size 1400 count 5 whole ipv4", "done")
	press(m, "p", "-")
	assert.Contains(t, text(m), "last 5 min")
	press(m, "x")
	assert.Contains(t, text(m), "is no longer watched")
	press(m, "z")
	assert.Contains(t, text(m), "counted from zero")
	for _, size := range sizes {
		send(m, tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		whole(t, m, fmt.Sprint("reach ", size))
	}
	press(m, "?")
	shows(t, m, "a run of probes without answer")
}

// A fault of the segment is seen, laid to its zone, listed, and told on the overview and in what is exported.
func TestReachLaysALossToItsZone(t *testing.T) {
	t.Parallel()
	m := alive(t, "fault-comes-and-goes", 140, 44)
	press(m, "6")
	for _, x := range []int{1, 2, 3, 4, 5, 6} {
		m.case_.Watcher().Change(x, func(s *watch.Spec) { s.Interval = 200 * time.Millisecond })
	}
	naptest.Undisturbed(t, func(truth assert.TestingT) { // what is lost while this machine itself stands still is laid to nobody
		for _, want := range []string{"did not", "local subnet", "loopback answered throughout; pier-gw, ", "lost", "├"} {
			if !assert.True(truth, eventually(m, want, 30*time.Second), want) {
				return
			}
		}
		press(m, "1")
		assert.True(truth, eventually(m, "Watched since", patience) && eventually(m, " outage", patience), "overview")
	})
	press(m, "6", "e")
	dir := t.TempDir()
	for name, want := range map[string]string{"r.csv": "timeout", "r.jsonl": `"outage"`, "r.svg": "whose loss", "r.pdf": "%PDF"} {
		press(m, "esc", "e")
		m.entry.input.SetValue(filepath.Join(dir, name))
		press(m, "enter")
		shows(t, m, "written to "+filepath.Join(dir, name))
		got, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		assert.Contains(t, string(got), want)
	}
	press(m, "e")
	m.entry.input.SetValue(filepath.Join(dir, "r.doc"))
	press(m, "enter")
	assert.Contains(t, text(m), "let the name end in .svg, .pdf, .csv, .jsonl")
	m.entry.input.SetValue("/nonexistent/r.svg")
	press(m, "enter")
	shows(t, m, "no such file")
	assert.True(t, m.shows(entryLayer), "nothing typed is lost")
}

func TestPathView(t *testing.T) {
	t.Parallel()
	m := alive(t, "balanced-middle", 140, 44)
	press(m, "7")
	shows(t, m, "to bookings.kittiwake.example 203.0.113.80", "TCP 443, one flow", "┃pier-gw", "this subnet", "provider",
		"all comes through", "┃bookings", "●")
	press(m, "m", "m", "f") // UDP, eight flows
	shows(t, m, "8 flows", "2 stations share the load", "198.51.100.35")
	press(m, "down", "enter")
	press(m, "c")
	assert.Contains(t, text(m), "the path as it is now, kept")
	press(m, "down", "enter")
	shows(t, m, "by ICMP echo", "━━ reached")
	for _, size := range sizes {
		send(m, tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		whole(t, m, fmt.Sprint("beside ", size))
	}
	press(m, "esc", "z")
	for _, size := range sizes {
		send(m, tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		whole(t, m, fmt.Sprint("path ", size))
	}
	press(m, "e")
	file := filepath.Join(t.TempDir(), "p.json")
	m.entry.input.SetValue(file)
	press(m, "enter")
	shows(t, m, "written to "+file)
	got, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(got), "passepartout.trace/1")
}

func TestPathThatEnds(t *testing.T) {
	t.Parallel()
	m := alive(t, "path-stops", 120, 40)
	press(m, "7")
	shows(t, m, "the last that answers", "ends here", "not reached")
	m = alive(t, "name-not-found", 100, 30)
	press(m, "7")
	shows(t, m, "led to no address")
}

func TestSettingsLine(t *testing.T) {
	web, _ := target.Parse("bookings.kittiwake.example:443")
	plain, _ := target.Parse("172.27.40.1")
	for _, c := range []struct {
		text   string
		target target.Target
		want   string // what it reads back as, or a part of the error
	}{
		{"", plain, "every 0s size 0"},
		{"every 2 size 0 count 3", plain, "every 2s size 0 count 3"},
		{"tcp every 1m", web, "every 1m0s size 0 tcp"},
		{"whole size 1472", plain, "every 0s size 1472 whole"},
		{"whole size 1473", plain, "at most 1472"},
		{"every 10ms", plain, "give a time from 100ms to 1m0s"},
		{"every soon", plain, `"soon"`},
		{"size -1", plain, "0 to 65507"},
		{"count 0", plain, "from 1"},
		{"tcp", plain, "names no port"},
		{"ipv6", plain, "the other family"},
		{"fast", plain, "not known here"},
	} {
		s, err := readSettings(c.text, watch.Spec{Target: c.target}, 1500)
		if err != nil {
			assert.Contains(t, err.Error(), c.want, c.text)
			continue
		}
		assert.Equal(t, c.want, settingsOf(s), c.text)
	}
}

// Lanes are drawn by place: times by height, losses as runs with their length.
func TestLanes(t *testing.T) {
	l := lane{from: 0, to: 20 * time.Second, width: 20}
	var points []series.Point
	for i, c := range "rRrr......rl.uNrDrrr" {
		fate := map[rune]series.Fate{'r': series.Replied, 'R': series.Replied, 'D': series.Replied, '.': series.Silent, 'l': series.Late,
			'u': series.Unreachable, 'N': series.NotSent}[c]
		p := series.Point{At: time.Duration(i) * time.Second, Fate: fate, RTT: 5 * time.Millisecond}
		switch c {
		case 'R':
			p.RTT = 19 * time.Millisecond
		case 'D':
			p.Again = 1
		}
		points = append(points, p)
	}
	assert.Equal(t, []string{"⠄⠁⠄⠄      ⠄    ⠄⠄⠄⠄⠄"}, l.times(points, 20*time.Millisecond, 1))
	tall := l.times(points, 20*time.Millisecond, 3)
	require.Len(t, tall, 3)
	assert.Equal(t, " ⠁ ", string([]rune(tall[0])[:3]), "the longest stands at the top")
	assert.Empty(t, strings.TrimSpace(tall[1]), "nothing in the middle")
	assert.Equal(t, "⠁ ⠁⠁", string([]rune(tall[2])[:4]), "the others in the lowest quarter")
	cells, any := l.losses(points)
	assert.True(t, any)
	got := ""
	for _, c := range cells {
		if c.shape == "" {
			c.shape = " "
		}
		got += c.shape
	}
	assert.Equal(t, "    ├─6──┤ ◦1▣▽ ∷   ", got)
	_, any = l.losses(nil)
	assert.False(t, any)
	axis := l.axis(func(at time.Duration) time.Time { return time.Date(2026, 11, 23, 9, 14, 0, 0, time.UTC).Add(at) })
	assert.True(t, strings.HasSuffix(axis, "now"), axis)
	assert.Contains(t,
		lane{0, time.Hour, 100}.axis(func(at time.Duration) time.Time { return time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC).Add(at) }),
		"09:10")
}
