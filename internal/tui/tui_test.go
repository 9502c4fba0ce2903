package tui

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/event"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/state"
	"passepartout/internal/core/topology"
	"passepartout/internal/core/verdict"
	"passepartout/internal/machine"
)

// still is a machine of which only the settings and the permissions matter: the tests put evidence in by hand.
type still struct{ machine.Machine }

func (still) Permissions() machine.Permissions {
	yes := machine.Permission{Granted: true, How: "raw"}
	return machine.Permissions{Echo: yes, Frames: yes}
}

func (still) Interfaces(context.Context) ([]endpoint.Interface, error) { return nil, nil }

func (still) OpenFrames(machine.FrameConfig) (machine.FrameSocket, error) {
	return nil, errors.New("there is nothing to hear")
}

func (still) Neighbours(context.Context) ([]endpoint.Neighbour, error) { return nil, nil }

func (still) OpenDatagram(machine.DatagramConfig) (machine.DatagramSocket, error) {
	return nil, machine.ErrNoRoute
}

func (still) Connect(context.Context, machine.ConnectConfig) (net.Conn, evidence.Reply) {
	return nil, evidence.Reply{Outcome: evidence.LocalError}
}

func (still) OpenFlow(machine.FlowConfig) (machine.FlowSocket, error) { return nil, machine.ErrNoRoute }

// Read never ends, so that a run never brings evidence of its own.
func (still) Read(ctx context.Context) (*endpoint.Endpoint, error) {
	<-ctx.Done()
	return nil, ctx.Err()
}

func (still) Watch(context.Context) (<-chan struct{}, error) {
	return nil, errors.New("nothing changes")
}

func program(t *testing.T, width, height int) *model {
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(cancel)
	m := newModel(ctx,
		Config{Ground: Ground{Machine: still{}, Complaint: "The booking page just hangs.",
			Targets: []string{"bookings.kittiwake.example:443", "weather.kittiwake.example:443"}}, Deadline: time.Minute})
	t.Cleanup(m.leave)
	m.Init()
	send(m, tea.WindowSizeMsg{Width: width, Height: height})
	return m
}

// showing puts evidence onto the overview.
func showing(t *testing.T, width, height int, change func(*evidence.Set)) *model {
	m := program(t, width, height)
	carryOut(m, m.ask())
	s := Healthy()
	if change != nil {
		change(s)
	}
	m.take(stateOf(s))
	return m
}

func press(m *model, keys ...string) {
	for _, k := range keys {
		msg := tea.KeyPressMsg{Text: k}
		if code, special := map[string]rune{"enter": tea.KeyEnter, "esc": tea.KeyEscape, "up": tea.KeyUp, "down": tea.KeyDown,
			"backspace": tea.KeyBackspace, "pgdown": tea.KeyPgDown, "left": tea.KeyLeft, "right": tea.KeyRight, "home": tea.KeyHome,
			"end": tea.KeyEnd, "pgup": tea.KeyPgUp, "tab": tea.KeyTab, "space": tea.KeySpace}[k]; special {
			msg = tea.KeyPressMsg{Code: code}
		} else {
			msg.Code = []rune(k)[0]
		}
		send(m, msg)
	}
}

func text(m *model) string { return ansi.Strip(m.frame().Content) }

// whole checks that a frame fills the screen and no more, and carries nothing that a terminal would obey.
func whole(t *testing.T, m *model, what string) {
	v := m.frame()
	assert.True(t, v.AltScreen, what)
	assert.LessOrEqual(t, lipgloss.Width(v.Content), m.width, what)
	assert.Equal(t, m.height, lipgloss.Height(v.Content), what)
	for _, r := range ansi.Strip(v.Content) {
		if r != '\n' && !unicode.IsPrint(r) {
			t.Errorf("%s: %q on the screen", what, r)
		}
	}
}

var sizes = [][2]int{{60, 20}, {80, 24}, {100, 30}, {120, 36}, {142, 44}, {200, 60}, {240, 70}, {300, 90}}

func TestEveryPageFillsTheScreenAtEverySize(t *testing.T) {
	hostile := func(s *evidence.Set) {
		s.Endpoint.Host = strings.Repeat("long", 60)
		s.Names = []evidence.Named{{Address: Gateway, Name: strings.Repeat("日本", 40) + ".example"},
			{Address: Edge, Name: strings.Repeat("x", 250)}}
		for i := range 40 {
			s.Endpoint.Routes = append(s.Endpoint.Routes,
				endpoint.Route{To: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(i), 0, 0}), 16), Via: Gateway, Interface: "eth0",
					Verdict: endpoint.Forward})
			Interface(s).Addresses = append(Interface(s).Addresses,
				endpoint.Address{Prefix: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(i), 0, 1}), 16)})
		}
	}
	noPort := func(s *evidence.Set) {
		s.Interface = ""
		s.Endpoint = &endpoint.Endpoint{Host: "bare", Interfaces: s.Endpoint.Interfaces[:1]}
	}
	for _, size := range sizes {
		for name, change := range map[string]func(*evidence.Set){"healthy": nil, "silent": GatewayGone, "withheld": WithoutFrames,
			"hostile": hostile, "no port": noPort, "asking": func(s *evidence.Set) { s.Open = evidence.Kinds() }} {
			m := showing(t, size[0], size[1], change)
			at := fmt.Sprintf("%s at %dx%d", name, size[0], size[1])
			whole(t, m, "overview, "+at)
			for i := range m.result.Checks {
				m.selectCheck(i)
				whole(t, m, "a check, "+at)
			}
			press(m, "2")
			whole(t, m, "address, "+at)
			press(m, "?")
			whole(t, m, "help, "+at)
			press(m, "x", "i")
			whole(t, m, "ports, "+at)
			press(m, "esc", "t")
			whole(t, m, "question, "+at)
		}
	}
}

func TestBeforeTheSizeIsKnownAndWhenTooSmall(t *testing.T) {
	m := newModel(t.Context(), Config{Ground: Ground{Machine: still{}}})
	assert.Empty(t, m.frame().Content)
	assert.True(t, m.frame().AltScreen)
	for _, size := range [][2]int{{59, 20}, {60, 19}, {20, 5}, {1, 1}} {
		send(m, tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		assert.LessOrEqual(t, lipgloss.Height(m.frame().Content), size[1])
		assert.True(t, m.frame().AltScreen)
	}
	send(m, tea.WindowSizeMsg{Width: 70, Height: 19})
	assert.Contains(t, text(m), "This window is 70 by 19. Passepartout needs 60 by 20")
	send(m, tea.WindowSizeMsg{Width: 60, Height: 20})
	assert.Contains(t, text(m), "What should be reachable?", "all is back when there is room")
}

func TestOverview(t *testing.T) {
	m := showing(t, 142, 44, GatewayGone)
	for _, want := range []string{"The fault lies in the LOCAL SUBNET.", "certain", "The gateway 172.27.40.1 does not answer",
		"Next  See that the gateway", "━╳ .1 silent", "▸━╳ gateway", "who has 172.27.40.1?", "asked", "heard", "means", "clears", "mend"} {
		assert.Contains(t, text(m), want)
	}
	press(m, "up")
	assert.Contains(t, text(m), "▸━━ DHCP")
	for range 40 {
		press(m, "down")
	}
	assert.Contains(t, text(m), "▸·· packet size", "the list ends")
	for range 40 {
		press(m, "k")
	}
	assert.Contains(t, text(m), "▸━━ loopback")

	m = showing(t, 80, 24, nil)
	assert.Contains(t, text(m), "No fault stands in the way.")
	assert.Contains(t, text(m), "▸━━ service", "the acid test is what a reader sees first")
	for range 40 {
		press(m, "up")
		assert.Regexp(t, `(?m)^▸`, text(m), "the chosen check is never scrolled away")
	}
}

func TestMouse(t *testing.T) {
	m := showing(t, 142, 44, nil)
	lines := strings.Split(text(m), "\n")
	y := slices.IndexFunc(lines, func(l string) bool { return strings.Contains(l, "━━ names") && strings.Contains(l, "│") })
	require.Positive(t, y)
	send(m, tea.MouseClickMsg{X: 5, Y: y, Button: tea.MouseLeft})
	assert.Contains(t, text(m), "▸━━ names")
	send(m, tea.MouseWheelMsg{Button: tea.MouseWheelUp})
	assert.Contains(t, text(m), "▸━━ uplink")
	send(m, tea.MouseClickMsg{X: 5, Y: 0, Button: tea.MouseLeft})
	assert.Contains(t, text(m), "▸━━ uplink", "a click beside the list changes nothing")
}

func TestWaitingSaysForWhatAndHowLong(t *testing.T) {
	m := showing(t, 120, 40, func(s *evidence.Set) {
		GatewayGone(s)
		s.Open = []evidence.Kind{evidence.NameLookup, evidence.ServiceConnect}
	})
	assert.Contains(t, text(m), "Asking …")
	assert.Contains(t, text(m), "waiting for: name lookup, service connect")
	assert.NotContains(t, text(m), "The fault lies")
}

func TestLaterEvidenceAmendsTheVerdict(t *testing.T) {
	m := showing(t, 120, 40, func(s *evidence.Set) { s.Open = []evidence.Kind{evidence.PathTrace} })
	assert.Contains(t, text(m), "certain · still asking")
	s := Healthy()
	GatewayGone(s)
	m.take(judgedAs(m.state, s))
	assert.Contains(t, text(m), "amended, was: no fault stands in the way")
	assert.Contains(t, text(m), "LOCAL SUBNET")
	before := text(m)
	send(m, newsMsg{m.generation - 1})
	assert.Equal(t, before, text(m), "news of an earlier case is not for this screen")
	send(m, lookedMsg{m.generation - 1, reachView, reachShot{}})
	_, seen := lookedAt[reachShot](m)
	assert.False(t, seen, "nor is what was fetched for it")
}

func TestAddressView(t *testing.T) {
	m := showing(t, 142, 44, nil)
	press(m, "2")
	for _, want := range []string{"172.27.40.23/24   mask 255.255.255.0   254 usable addresses   set by DHCP, 52 min left", "172.27.40.0 ├",
		"┤ .255", ".1 gateway", ".2 name server", ".23 this machine", "outside   ■ 203.0.113.53 name server   reached through the gateway",
		"offered by 172.27.40.2", "everything else, IPv4       by 172.27.40.1 through eth0   set by DHCP"} {
		assert.Contains(t, text(m), want)
	}
	assert.NotContains(t, text(m), "differs")

	m = showing(t, 142, 44, func(s *evidence.Set) {
		GatewayGone(s)
		s.Endpoint.Routes[0].Via = netip.MustParseAddr("172.27.41.1")
	})
	press(m, "2")
	assert.Contains(t, text(m), "outside   ╳ 172.27.41.1 gateway   one octet away: the third is 41, this subnet has 40")
	assert.Contains(t, text(m), "╍╍ differs")

	m = showing(t, 142, 44, func(s *evidence.Set) {
		Interface(s).Addresses[0].Prefix = netip.PrefixFrom(Own, 28)
		s.Endpoint.Routes = nil
	})
	press(m, "2")
	assert.Contains(t, text(m),
		"◇ 172.27.40.1 gateway, offered by 172.27.40.2, not set   on this segment by the offer, left out by the mask set here")

	m = showing(t, 80, 24, func(s *evidence.Set) { Interface(s).Addresses = nil; WithoutFrames(s) })
	press(m, "2")
	assert.Contains(t, text(m), "No address.")
	assert.Contains(t, text(m), "could not be asked")
}

// Every mark of a span stands in its column and its label under it.
func TestSpanLabelsDoNotCollide(t *testing.T) {
	m := showing(t, 100, 40, nil)
	p := netip.MustParsePrefix("172.27.40.0/24")
	for _, octets := range [][]byte{{1, 2, 3, 4}, {1, 254}, {250, 251, 252, 253, 254}, {10, 60, 120, 180}, {1}} {
		var marks []mark
		for _, o := range octets {
			marks = append(marks, mark{netip.AddrFrom4([4]byte{172, 27, 40, o}), "◆", "a neighbour", verdict.Holds})
		}
		lines := m.drawSpan(p, marks)
		all := ansi.Strip(strings.Join(lines, "\n"))
		assert.Equal(t, len(octets), strings.Count(ansi.Strip(lines[0]), "◆"), "%v", octets)
		for _, o := range octets {
			assert.Equal(t, 1, strings.Count(all, fmt.Sprintf(".%d a neighbour", o)), "%v: %s", octets, all)
		}
		for _, l := range lines {
			assert.LessOrEqual(t, ansi.StringWidth(l), 100)
		}
	}
}

func TestQuestion(t *testing.T) {
	m := program(t, 120, 30)
	assert.Contains(t, text(m), "“The booking page just hangs.”")
	assert.Contains(t, text(m), "▸ bookings.kittiwake.example:443", "the first target is suggested")
	assert.NotNil(t, m.frame().Cursor, "a real cursor stands in the input")
	press(m, "down")
	assert.Equal(t, "weather.kittiwake.example:443", m.input.Value())
	press(m, "up")
	assert.Equal(t, "bookings.kittiwake.example:443", m.input.Value())
	press(m, "x")
	press(m, "enter")
	assert.Contains(t, text(m), "a port is a number from 1 to 65535", "one clear line")
	assert.Contains(t, text(m), "443x", "and nothing is lost")
	press(m, "backspace")
	assert.NotContains(t, text(m), "a port is a number")
	send(m, tea.PasteMsg{Content: " 4\n"})
	assert.Equal(t, "bookings.kittiwake.example:4434", m.input.Value())
	press(m, "enter")
	assert.Contains(t, text(m), "asked for bookings.kittiwake.example:4434")
	press(m, "t")
	assert.Contains(t, text(m), "What should be reachable?")
	assert.Equal(t, "bookings.kittiwake.example:4434", m.input.Value())
}

func TestPortsAndFailure(t *testing.T) {
	m := showing(t, 100, 30, func(s *evidence.Set) {
		s.Endpoint.Interfaces = append(s.Endpoint.Interfaces, endpoint.Interface{Name: "wlan0", Kind: endpoint.Wireless})
	})
	press(m, "i")
	assert.Contains(t, text(m), "Which interface do you mean?")
	assert.Contains(t, text(m), "wlan0")
	assert.NotContains(t, text(m), "lo  ")
	press(m, "down", "enter")
	assert.Equal(t, "wlan0", m.iface)

	m = showing(t, 100, 30, nil)
	m.take(state.Fold(m.state,
		event.Event{At: time.Now(),
			Body: event.Ended{Round: 1, Because: "no such interface: \"eth7\"; this machine has lo, eth0", Failed: true}}))
	assert.Contains(t, text(m), "The tests could not be run")
	assert.Contains(t, text(m), "this machine has lo, eth0")
}

// What changes on the machine puts the verdict in doubt at once: headline, line and foot say so, and nothing is called certain.
func TestAVerdictInDoubt(t *testing.T) {
	for _, size := range sizes {
		m := showing(t, size[0], size[1], nil)
		assert.Contains(t, text(m), "━━ current")
		assert.Contains(t, text(m), "certain")
		changed := *m.set.Endpoint
		changed.Interfaces = slices.Clone(changed.Interfaces)
		changed.Interfaces[1].Carrier = endpoint.CarrierAbsent
		m.take(state.Fold(m.state,
			event.Event{At: time.Now(),
				Body: event.Changed{Of: event.Link, What: "eth0 has lost its signal", Endpoint: &changed, Void: true}}))
		for _, k := range []string{"1", "2", "3", "4", "5", "6", "7", "8", "9"} {
			press(m, k)
			page := text(m)
			for _, want := range []string{"Not so any more since", "eth0 has lost its signal", "━╳ outdated"} {
				assert.Contains(t, page, want, "view %s at %v", k, size)
			}
			assert.NotContains(t, page, "certain", "view %s", k)
			assert.NotRegexp(t, "━━ (eth0|bookings)", page, "view %s: the line knows it no more", k)
			whole(t, m, fmt.Sprintf("view %s in doubt, at %v", k, size))
		}
	}
}

// The line is the menu: arrows walk along it, and a station that is clicked opens its view.
func TestTheLineIsTheMenu(t *testing.T) {
	m := showing(t, 120, 40, nil)
	var way []string
	for range 8 {
		press(m, "left")
		way = append(way, m.view.name)
	}
	assert.Equal(t, []string{"sockets", "path", "names", "reach", "neighbours", "lease", "address", "counters"}, way)
	press(m, "right")
	assert.Equal(t, addressView, m.view)
	for _, k := range []string{"1", "2", "6"} {
		press(m, k)
		for _, station := range []struct {
			label string
			view  *view
		}{{"eth0", countersView}, {".23/24", addressView}, {"bookings", socketsView}} {
			press(m, k)
			lines := strings.Split(text(m), "\n")
			y := slices.IndexFunc(lines, func(l string) bool { return strings.Contains(l, "━━") && strings.Contains(l, station.label) })
			x := ansi.StringWidth(lines[y][:strings.Index(lines[y], station.label)])
			send(m, tea.MouseClickMsg{X: x + 1, Y: y, Button: tea.MouseLeft})
			assert.Equal(t, station.view, m.view, "%s on view %s", station.label, k)
		}
	}
}

func TestCases(t *testing.T) {
	opened := ""
	closed := 0
	c := Config{Deadline: time.Minute, Open: func(name string) (Ground, error) {
		if name == "broken" {
			return Ground{}, errors.New("it cannot be built")
		}
		opened = name
		return Ground{Machine: still{}, Complaint: "Nothing works.", Targets: []string{"bookings"}, Close: func() { closed++ }}, nil
	}}
	for i := range 60 {
		c.Cases = append(c.Cases,
			Case{Name: fmt.Sprintf("case-%d", i),
				Complaint: fmt.Sprintf("Complaint number %d, which is a long one so that it must be broken into lines.", i)})
	}
	c.Cases = append(c.Cases, Case{Name: "broken", Complaint: "Last."})
	m := newModel(t.Context(), c)
	send(m, tea.WindowSizeMsg{Width: 80, Height: 24})
	assert.Contains(t, text(m), "Which complaint will you look into?")
	assert.NotContains(t, text(m), "case-", "a name would give the answer away")
	whole(t, m, "cases")
	press(m, "pgdown", "pgdown")
	assert.Contains(t, text(m), "▸ Complaint number 20")
	press(m, "enter")
	shows(t, m, "“Nothing works.”")
	assert.Equal(t, "case-20", opened)
	assert.Contains(t, text(m), "“Nothing works.”")
	press(m, "enter", "s")
	assert.Contains(t, text(m), "Which complaint")
	for range 10 {
		press(m, "pgdown")
	}
	press(m, "enter")
	shows(t, m, "it cannot be built")
	m.leave()
	assert.Equal(t, 1, closed, "a site is closed once")
}

func TestLineShrinks(t *testing.T) {
	s := Healthy()
	s.Names = []evidence.Named{{Address: Gateway, Name: "pier-gw.kittiwake.example"}, {Address: Edge, Name: "sound-edge.kittiwake.example"},
		{Address: Provider, Name: "sound-core.kittiwake.example"}}
	l := topology.Of(s, verdict.Judge(s))
	drawn, _ := drawLine(newTheme(darkBackground), l, 160)
	wide := ansi.Strip(strings.Join(drawn, "\n"))
	assert.Contains(t, wide, "loopback ━━ eth0 ━━ .23/24 ")
	assert.Contains(t, wide, "┻━━ sound-edge ━━ sound-core ━━ 198.51.100.13 ━━ bookings :443")
	assert.Contains(t, wide, "┏━━ 203.0.113.53 names")
	narrow, _ := drawLine(newTheme(darkBackground), l, 80)
	assert.Contains(t, ansi.Strip(strings.Join(narrow, "\n")), "━━ 3 stations ━━ bookings :443")
	for _, row := range narrow {
		assert.LessOrEqual(t, ansi.StringWidth(row), 80)
	}
	drawn, _ = drawLine(newTheme(lightBackground), topology.Line{}, 80)
	assert.Len(t, drawn, 2, "nothing known yet")
}

func TestRecent(t *testing.T) {
	path := filepath.Join(t.TempDir(), "deep", "recent.json")
	r := openRecentAt(path)
	assert.Empty(t, r.Targets())
	for i := range 20 {
		r.Add(fmt.Sprintf("host-%d", i))
	}
	r.Add("host-15")
	got := openRecentAt(path).Targets()
	assert.Len(t, got, mostRecent)
	assert.Equal(t, "host-15", got[0])
	assert.Equal(t, "host-19", got[1])
	openRecentAt("/proc/nowhere/recent.json").Add("x") // cannot be written: no harm
}

func TestHelpNamesEveryKeyThatWorks(t *testing.T) {
	m := showing(t, 120, 60, nil)
	press(m, "?")
	for _, b := range m.keys.foot() {
		if b.Enabled() {
			assert.Regexp(t, `(?m)^ +`+regexp.QuoteMeta(b.Help().Key)+` `, text(m), b.Help().Desc)
		}
	}
	for _, v := range views {
		assert.Regexp(t, `(?m)^ +`+v.key+` +`+v.name+` +`+regexp.QuoteMeta(v.does), text(m), v.name)
	}
	assert.NotContains(t, text(m), "look into another complaint", "only in a demonstration")
	press(m, "esc")
	assert.Contains(t, text(m), "No fault stands in the way")
}
