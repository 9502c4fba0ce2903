package tui

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/scenario"
)

var update = flag.Bool("update", false, "write the frames anew into testdata; look at them before they are committed")

var clock = regexp.MustCompile(`   \d\d:\d\d:\d\d`)

// TestFrames compares whole screens with those that were looked at.
func TestFrames(t *testing.T) {
	named := func(s *evidence.Set) {
		Measured(s)
		for a, name := range map[netip.Addr]string{Gateway: "pier-gw", Core: "pier-core", Edge: "sound-edge", Provider: "sound-core",
			Exchange: "exchange", NS: "ns"} {
			s.Names = append(s.Names, evidence.Named{Address: a, Name: name + ".kittiwake.example"})
		}
	}
	for _, c := range []struct {
		name   string
		keys   []string
		change func(*evidence.Set)
	}{
		{name: "healthy", change: named},
		{name: "gateway-silent", change: func(s *evidence.Set) { named(s); GatewayGone(s); s.Bursts, s.Sizings = nil, nil }},
		{name: "address", keys: []string{"2"}, change: named},
		{name: "lease", keys: []string{"3"}, change: func(s *evidence.Set) { named(s); rogue(s) }},
		{name: "help", keys: []string{"?"}, change: named},
		{name: "question", keys: []string{"t"}, change: named},
	} {
		for _, size := range [][2]int{{80, 24}, {120, 40}, {160, 50}} {
			name := fmt.Sprintf("%s-%dx%d", c.name, size[0], size[1])
			t.Run(name, func(t *testing.T) {
				m := showing(t, size[0], size[1], c.change)
				press(m, c.keys...)
				got := clock.ReplaceAllString(text(m), "   09:14:03")
				var trimmed strings.Builder
				for line := range strings.Lines(got) {
					trimmed.WriteString(strings.TrimRight(line, " \n") + "\n")
				}
				path := filepath.Join("testdata", name+".txt")
				if *update {
					require.NoError(t, os.MkdirAll("testdata", 0o755))
					require.NoError(t, os.WriteFile(path, []byte(trimmed.String()), 0o644))
				}
				want, err := os.ReadFile(path)
				require.NoError(t, err, "go test ./internal/tui -update writes it")
				assert.Equal(t, string(want), trimmed.String())
			})
		}
	}
}

// rogue adds a lease that never ends, so that the frame does not depend on the clock, and a second DHCP server that disagrees.
func rogue(s *evidence.Set) {
	terms := Offer(24).Terms
	terms.Lease = dhcp.Endless
	Leased(s, 8*time.Minute, terms)
	stray := terms
	stray.Server = netip.MustParseAddr("172.27.40.66")
	stray.Routers, stray.Resolvers, stray.Domain = []netip.Addr{stray.Server}, []netip.Addr{stray.Server}, "home.example"
	s.Discovery.Offers = append(s.Discovery.Offers, OfferOf(stray))
	s.Routers6 = []evidence.Advertisement{
		{Router: netip.MustParseAddr("fe80::1"), Lifetime: 30 * time.Minute,
			Prefixes: []evidence.AdvertisedPrefix{{Prefix: netip.MustParsePrefix("2001:db8:40::/64")}}}}
}

// output is what the program writes to its terminal.
type output struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (o *output) Write(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.b.Write(p)
}

func (o *output) has(want string) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return strings.Contains(ansi.Strip(o.b.String()), want)
}

// TestWholeProgram runs the program itself on a simulated site, with keys sent from outside.
func TestWholeProgram(t *testing.T) {
	s, err := scenario.Load("service-refused")
	require.NoError(t, err)
	site, err := simulated.Build(s, simulated.Options{})
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	remembered := make(chan string, 1)
	m := newModel(ctx,
		Config{Ground: Ground{Machine: site.Machine(), Complaint: s.Complaint, Targets: []string{s.Target}, Close: site.Close},
			Deadline: 10 * time.Second, Remember: func(target string) { remembered <- target }})
	out := &output{}
	p := tea.NewProgram(m, tea.WithContext(ctx), tea.WithInput(nil), tea.WithOutput(out), tea.WithoutSignalHandler(),
		tea.WithWindowSize(120, 40))
	ended := make(chan error, 1)
	go func() { _, err := p.Run(); ended <- err }()
	p.Send(tea.KeyPressMsg{Code: tea.KeyEnter})
	require.Eventually(t, func() bool { return out.has("BEYOND the gateway") && out.has("refuses") }, time.Minute, 10*time.Millisecond)
	assert.Equal(t, s.Target, <-remembered)
	p.Send(tea.KeyPressMsg{Text: "q", Code: 'q'})
	select {
	case err := <-ended:
		assert.NoError(t, err)
	case <-time.After(5 * time.Second):
		t.Fatal("q does not end the program")
	}
	m.leave()
	m.leave() // twice does no harm
}

// A key must be answered at once while news pours in: what one costs is printed, and bounded generously.
func TestAKeyIsAnsweredQuickly(t *testing.T) {
	m := showing(t, 160, 50, func(s *evidence.Set) {
		for i := range 250 {
			s.Neighbours = append(s.Neighbours,
				evidence.Neighbour{Asked: netip.AddrFrom4([4]byte{172, 27, 40, byte(i)}), Reply: Answer(Core, 1)})
		}
		for range 20 {
			s.Hops = append(s.Hops, Path(Bookings, Gateway, Edge, Provider, Exchange, Bookings)...)
		}
	})
	const n = 200
	began := time.Now()
	for range n {
		send(m, newsMsg{m.generation})
		press(m, "down")
		_ = m.frame()
	}
	each := time.Since(began) / n
	fmt.Printf("news, a key and a frame of 160 by 50: %v\n", each.Round(10*time.Microsecond))
	assert.Less(t, each, 33*time.Millisecond)
}
