package tui

import (
	"context"
	"net/netip"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/acting"
	"passepartout/internal/core/evidence"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/scenario"
	"passepartout/internal/sheetfile"
)

// standing is the program at the endpoint of a scenario, after its tests.
func standing(t *testing.T, name string, o simulated.Options, change func(*scenario.Scenario)) *model {
	s, err := scenario.Load(name)
	require.NoError(t, err)
	if change != nil {
		change(s)
	}
	site, err := simulated.Build(s, o)
	require.NoError(t, err)
	g := Ground{Machine: site.Machine(), Targets: []string{s.Target}, Close: site.Close,
		Hand: func(ctx context.Context) (*acting.Hand, error) {
			return acting.Within(ctx, site.Machine().(acting.Machine)), nil
		}}
	if raw, _ := s.SheetText(); raw != nil {
		g.Sheet, err = sheetfile.Parse(raw, s.Sheet)
		require.NoError(t, err)
	}
	m := newModel(t.Context(), Config{Ground: g, Deadline: 10 * time.Second})
	m.Init()
	send(m, tea.WindowSizeMsg{Width: 120, Height: 40})
	t.Cleanup(m.leave)
	carryOut(m, m.ask())
	testsEnd(t, m)
	return m
}

func TestNeighboursView(t *testing.T) {
	t.Run("a large segment is asked after a question", func(t *testing.T) {
		m := standing(t, "healthy", simulated.Options{}, func(s *scenario.Scenario) {
			s.Site.Nodes["ticket-03"].Ports["eth0"].Addresses[0] = netip.MustParsePrefix("172.27.40.23/21")
		})
		press(m, "4")
		shows(t, m, "Neighbours on")
		press(m, "a")
		shows(t, m, "2046 addresses: a once more asks them all, 1000 a second")
		press(m, "down")
		press(m, "a")
		shows(t, m, "a once more asks them all")
		press(m, "a")
		shows(t, m, "of 2045 addresses asked, at most 1000 a second", "esc stops")
		press(m, "esc")
		shows(t, m, "; stopped")
	})
	t.Run("one that is too large is not", func(t *testing.T) {
		m := standing(t, "proxy-arp", simulated.Options{}, nil)
		press(m, "4")
		shows(t, m, "Neighbours on")
		press(m, "a")
		shows(t, m, "at most 4096, a /20, are asked as a whole")
	})
	t.Run("without frames", func(t *testing.T) {
		m := standing(t, "healthy", simulated.Options{Privilege: simulated.Unprivileged}, nil)
		press(m, "4")
		shows(t, m, "Neighbours on")
		press(m, "m")
		shows(t, m, "can only be asked in raw frames", "cannot be heard: it needs permission")
		press(m, "a")
		shows(t, m, "of 253 addresses asked, by the system on our behalf")
	})
	t.Run("a machine without a port", func(t *testing.T) {
		m := showing(t, 120, 40, func(s *evidence.Set) { s.Endpoint.Interfaces = s.Endpoint.Interfaces[:1]; s.Interface = "" })
		press(m, "4")
		shows(t, m, "no network interface besides loopback")
		press(m, "8")
		shows(t, m, "no such interface")
	})
	t.Run("what is wrong stands out, and each choice has its detail", func(t *testing.T) {
		m := standing(t, "neighbour-entry-pinned", simulated.Options{}, nil)
		press(m, "4")
		shows(t, m, "Neighbours on")
		press(m, "a")
		shows(t, m, "━╳ 1 wrong", "fixed, and wrong", "253 of 253")
		press(m, "down", "down", "up")
		assert.Equal(t, netip.MustParseAddr("172.27.40.2"), m.neighbours().chosen)
		shows(t, m, "172.27.40.2   pier-core.kittiwake.example by reverse DNS")
		press(m, "2")
		press(m, "4")
		assert.Equal(t, netip.MustParseAddr("172.27.40.2"), m.neighbours().chosen, "it is still there")
	})
}

func TestNamesView(t *testing.T) {
	m := standing(t, "hosts-file-override", simulated.Options{}, nil)
	press(m, "5")
	shows(t, m, "the hosts file answers first, with 203.0.113.18", "203.0.113.80", "A TCP", "no AAAA for it")
	press(m, "p")
	shows(t, m, "asked over UDP alone from now on")
	for began := time.Now(); strings.Contains(text(m), "A TCP") && time.Since(began) < 5*time.Second; {
		pump(m, 20*time.Millisecond)
	}
	assert.NotContains(t, text(m), "A TCP")
	press(m, "y")
	shows(t, m, "MX", "no MX for it")
	press(m, "n")
	assert.True(t, m.shows(entryLayer))
	m.entry.input.SetValue(strings.Repeat("a.", 150) + "example")
	press(m, "enter")
	assert.Contains(t, m.entry.flaw, "at most 253")
	m.entry.input.SetValue("nosuch")
	press(m, "enter")
	shows(t, m, "no such name")
	press(m, "c")
	shows(t, m, "Compared", "esc stops")
	press(m, "esc")
	shows(t, m, "Compared", "at first", "again")
	e, ok := m.view.export(m)
	assert.True(t, ok)
	assert.Equal(t, []string{".json", ".txt"}, e.Endings())
}

func TestCountersView(t *testing.T) {
	m := standing(t, "slow-port", simulated.Options{}, nil)
	press(m, "8")
	shows(t, m, "10 Mbit/s half duplex", "documented: 1 Gbit/s full duplex", "nothing was lost at the interface", "none: receive errors")
	press(m, "z")
	shows(t, m, "counted from zero since")
	assert.Equal(t, ' ', bar(0, 10))
	assert.Equal(t, '▁', bar(1, 1000))
	assert.Equal(t, '█', bar(10, 10))
}
