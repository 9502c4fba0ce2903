package tui

import (
	"context"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/event"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/series"
	"passepartout/internal/core/state"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
	"passepartout/internal/machine/simulated"
)

// kept runs the tests of a scenario for one target after the other, and gives the log of all of it beside the model at the end.
func kept(t *testing.T, name string, targets ...string) (*model, *state.Timeline) {
	m := standing(t, name, simulated.Options{}, nil)
	var mu sync.Mutex
	line := &state.Timeline{}
	m.Log = func(e event.Event, _ *state.State) {
		mu.Lock()
		defer mu.Unlock()
		line.Add(e)
	}
	for _, text := range targets {
		press(m, "t")
		m.input.SetValue(text)
		press(m, "enter")
		testsEnd(t, m)
	}
	whole := &state.Timeline{}
	mu.Lock()
	defer mu.Unlock()
	for _, e := range line.Events() { // what comes from now on is of no interest
		whole.Add(e)
	}
	return m, whole
}

// reopened looks at a recording in a window as large as another's.
func reopened(m *model, line *state.Timeline) *model {
	r := newModel(context.Background(), Config{Recorded: &Recording{Name: "counter.case", Timeline: line}})
	r.width, r.height, r.theme = m.width, m.height, m.theme
	return r
}

// bodyOf is a view as it is drawn, without what a recording marks: the topmost and the last line.
func bodyOf(m *model, v *view) []string {
	m.show(v)
	m.open()
	lines := strings.Split(ansi.Strip(m.frame().Content), "\n")
	const heard = "Exchanges" // what is heard is not in the log
	if at := slices.IndexFunc(lines, func(l string) bool { return strings.TrimSpace(l) == heard }); v == leaseView && at >= 0 {
		lines = lines[:at+2]
	}
	return lines[1 : len(lines)-1]
}

// What follows from the log stands in a recording as it stood in the case that lived, at the same moment.
func TestARecordingShowsWhatWasShown(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"gateway-silent", "dhcp-rogue"} {
		m, line := kept(t, name, "bookings.kittiwake.example:443")
		r := reopened(m, line)
		live := line.End()
		m.generation++ // nothing that happens from now on is taken in
		m.state = state.State{}
		m.take(live)
		m.now, r.now = live.At, live.At
		for _, v := range views {
			if v.replay != nil { // they move on while one looks: the tests below are about them
				continue
			}
			if !v.kept {
				assert.Contains(t, strings.Join(bodyOf(r, v), " "), "recording", "%s: %s", name, v.name)
				continue
			}
			assert.Equal(t, bodyOf(m, v), bodyOf(r, v), "%s: %s", name, v.name)
		}
		m.leave()
	}
}

// A recording is gone through in time, and shows at each moment what was known then. No key asks anything of anybody, or does harm.
func TestARecordingInTime(t *testing.T) {
	t.Parallel()
	m, line := kept(t, "gateway-silent", "172.27.40.2", "bookings.kittiwake.example:443")
	r := reopened(m, line)
	m.leave()
	n := len(line.Moments())
	require.Greater(t, n, 3)
	assert.Equal(t, zone.LocalSubnet, r.result.Zone)
	shows(t, r, "recorded · counter", "asked for bookings.kittiwake.example:443")
	assert.NotContains(t, text(r), "Before, ")
	press(r, "<")
	shows(t, r, "1 of ", "the tests began", "asked for 172.27.40.2")
	seen := []string{}
	for range n {
		if title := r.state.Verdict.Title(); r.state.Verdict.Standing != state.NoVerdict && !slices.Contains(seen, title) {
			seen = append(seen, title)
		}
		press(r, ".")
	}
	assert.Equal(t, []string{"No fault stands in the way", "The gateway does not answer"}, seen)
	press(r, ",", "v")
	require.Equal(t, valuesLayer, r.top())
	press(r, "esc")
	for _, v := range views {
		press(r, v.key)
		for k := rune('!'); k <= '~'; k++ {
			if k == 'q' {
				continue
			}
			_, cmd := r.Update(tea.KeyPressMsg{Code: k, Text: string(k)})
			_ = cmd
			r.View()
			for r.top() != nil {
				press(r, "esc")
			}
		}
		press(r, "up", "down", "pgup", "pgdown", "home", "end", "enter", "tab", "left", "right")
	}
	assert.Nil(t, r.case_)
	assert.Nil(t, r.acts.hand)
	empty := reopened(r, &state.Timeline{})
	empty.View()
	press(empty, ".", ",", "1", "2", "v")
}

// Two recordings are laid side by side: what parts them is shown, the rest when it is asked for; the keys of time move the left one, and
// the views are about it.
func TestTwoRecordingsSideBySide(t *testing.T) {
	t.Parallel()
	live, broken := kept(t, "gateway-outside-subnet", "bookings.kittiwake.example:443")
	_, whole := kept(t, "healthy", "bookings.kittiwake.example:443")
	m := newModel(context.Background(), Config{Recorded: &Recording{Name: "broken.case", Timeline: broken},
		Beside: &Recording{Name: "whole.case", Timeline: whole}})
	m.width, m.height, m.theme = live.width, live.height, live.theme
	page := func() string { return ansi.Strip(m.frame().Content) }
	assert.Contains(t, page(), "left")
	for _, has := range []string{"broken.case", "whole.case", "host (certain)", "none (certain)", "more that are the same"} {
		assert.Contains(t, page(), has)
	}
	assert.NotContains(t, page(), "loopback", "it is the same in both")
	press(m, "d")
	assert.Contains(t, page(), "≠")
	for range 12 {
		press(m, "pgdown")
	}
	assert.NotContains(t, page(), "more lines below")
	press(m, "home", "d", "<")
	assert.Contains(t, page(), "1 of ", "the left one stands at its beginning")
	assert.NotContains(t, page(), "host (certain)")
	press(m, ">", "tab")
	lines := strings.Split(page(), "\n")
	assert.Contains(t, lines[2], "whole.case")
	assert.Contains(t, lines[3], "broken.case")
	press(m, "esc")
	assert.Contains(t, page(), "recorded · whole.c")
	assert.Contains(t, page(), "= beside")
	press(m, "=")
	assert.Contains(t, page(), "broken.case")

	same := newModel(context.Background(), Config{Recorded: &Recording{Name: "a.case", Timeline: whole},
		Beside: &Recording{Name: "b.case", Timeline: whole}})
	same.width, same.height, same.theme = 80, 24, live.theme
	text := ansi.Strip(same.frame().Content)
	assert.Contains(t, text, "The two cases say the same of everything but times.")
	for line := range strings.SplitSeq(text, "\n") {
		assert.LessOrEqual(t, ansi.StringWidth(line), 80)
	}
}

// A night that was watched is gone through: at each moment the lanes and the band say whose loss it was, as far as it was known then.
func TestARecordingTellsWhoseLossItWas(t *testing.T) {
	t.Parallel()
	line := &state.Timeline{}
	began := time.Date(2026, 11, 23, 9, 14, 3, 0, time.UTC)
	at := began
	add := func(b event.Body) { line.Add(event.Event{At: at, Body: b}) }
	set := evidencetest.Healthy()
	add(event.Began{Round: 1, Question: evidence.Subject{Target: set.Target, Interface: "eth0"}, Endpoint: set.Endpoint})
	at = at.Add(2 * time.Second)
	add(event.Judged{Round: 1, Settled: true, Over: true, Verdict: event.VerdictOf(verdict.Judge(set))})
	for i, w := range []event.Watched{{Witness: "127.0.0.1", Zone: zone.Host}, {Witness: "172.27.40.1", Zone: zone.LocalSubnet},
		{Witness: "203.0.113.53", Zone: zone.Beyond}} {
		w.Rank = i + 1
		add(w)
	}
	for second := range 200 {
		for i, name := range []string{"127.0.0.1", "172.27.40.1", "203.0.113.53"} {
			p := event.Probed{Witness: name, Sent: at, Fate: series.Replied, RTT: time.Duration(i*i*10+1) * time.Millisecond}
			if i > 0 && second >= 60 && second < 90 { // the gateway, and all behind it
				p.Fate, p.RTT = series.Silent, 0
			}
			add(p)
		}
		switch at = at.Add(time.Second); second {
		case 62:
			add(event.Outage{Zone: zone.LocalSubnet, From: began.Add(62 * time.Second)})
		case 92:
			add(event.Outage{Zone: zone.LocalSubnet, From: began.Add(62 * time.Second), To: began.Add(92 * time.Second)})
		}
	}
	add(event.Stopped{Because: "it was ended"})

	m := newModel(context.Background(), Config{Recorded: &Recording{Name: "night.case", Timeline: line}})
	m.width, m.height, m.theme = 142, 44, newTheme(darkBackground)
	page := func() string { return ansi.Strip(m.frame().Content) }
	press(m, "6", "-")
	shows(t, m, "127.0.0.1", "172.27.40.1", "203.0.113.53", "whose loss", "LOCAL SUBNET", "├", "local subnet", "last 5 min")
	shows(t, m, "09:15:05", "30 s") // when it began, and for how long it was
	assert.NotContains(t, page(), "how it is asked")
	press(m, "x", "p", "a", "enter")
	assert.Nil(t, m.top())
	assert.Contains(t, page(), "nobody is asked any more")
	for !strings.Contains(m.recorded.moments[m.recorded.at].What, "an outage began") {
		press(m, ",")
	}
	shows(t, m, "09:15:05")
	assert.NotContains(t, page(), "30 s", "it was not over then")
	press(m, "<")
	shows(t, m, "Watching begins with the first verdict")
}

// logged is a recording whose tests saw that, after a second, beside a machine that is as it should be.
func logged(saw ...evidence.Observation) *model {
	line := &state.Timeline{}
	at := time.Date(2026, 11, 23, 9, 14, 3, 0, time.UTC)
	add := func(b event.Body) { line.Add(event.Event{At: at, Body: b}) }
	set := evidencetest.Healthy()
	set.Endpoint.Neighbours = nil
	q := evidence.Subject{Target: set.Target, Interface: "eth0"}
	add(event.Began{Round: 1, Question: q, Endpoint: set.Endpoint})
	at = at.Add(time.Second)
	for _, o := range saw {
		add(event.Observed{Round: 1, What: o})
	}
	add(event.Judged{Round: 1, Settled: true, Over: true, Verdict: event.VerdictOf(verdict.Judge(set))})
	at = at.Add(time.Second)
	add(event.Stopped{Because: "it was ended"})
	m := newModel(context.Background(), Config{Recorded: &Recording{Name: "counter.case", Timeline: line}})
	m.width, m.height, m.theme = 142, 44, newTheme(darkBackground)
	return m
}

// The way is as the tests saw it, up to the moment where one stands.
func TestARecordingShowsTheWay(t *testing.T) {
	t.Parallel()
	var hops []evidence.Observation
	for _, h := range evidencetest.Path(evidencetest.Bookings, evidencetest.Gateway, evidencetest.Edge, netip.Addr{}, evidencetest.Bookings) {
		hops = append(hops, h)
	}
	hops = append(hops, evidence.Lookup{Server: evidencetest.NS, Name: "bookings.kittiwake.example", Type: "A", RCode: "NOERROR",
		Addresses: []netip.Addr{evidencetest.Bookings}, Reply: evidencetest.Answer(evidencetest.NS, 2)})
	m := logged(hops...)
	press(m, "7")
	shows(t, m, "to bookings.kittiwake.example", "as the tests that began at 09:14:03", "enter unfold", "172.27.40.1")
	assert.NotContains(t, text(m), "lay beside")
	press(m, "m", "c", "f", "enter", "<")
	shows(t, m, "The tests had followed no way by then")
	press(m, ">")
	shows(t, m, "as the tests that began at")
}

// What the tests have looked up stands there as each server had it.
func TestARecordingShowsTheNames(t *testing.T) {
	t.Parallel()
	m := logged(evidence.Lookup{Server: evidencetest.NS, Name: "bookings.kittiwake.example", Type: "A", RCode: "NOERROR",
		Records:   []evidence.Record{{Name: "bookings.kittiwake.example", Type: "A", TTL: time.Minute, Value: "203.0.113.99"}},
		Addresses: []netip.Addr{netip.MustParseAddr("203.0.113.99")}, Reply: evidencetest.Answer(evidencetest.NS, 2)})
	press(m, "5")
	shows(t, m, "Who is asked", "bookings.kittiwake.example", "asked at 09:14:03", "203.0.113.99")
	assert.NotContains(t, text(m), "compare")
	press(m, "n", "c", "y", "p")
	assert.Nil(t, m.top(), "nothing is asked")
	press(m, "<")
	shows(t, m, "Who is asked")
	assert.NotContains(t, text(m), "203.0.113.99", "it was not looked up then")
}

// What the tests have counted at the interface stands there.
func TestARecordingShowsTheCounters(t *testing.T) {
	t.Parallel()
	m := logged(evidence.InterfaceCount{Interface: "eth0", Over: time.Second,
		After: endpoint.Counters{ReceivedPackets: 300, ReceivedBytes: 90_000, ReceiveErrors: 35}})
	press(m, "8")
	shows(t, m, "eth0", "received", "sent", "read by the tests that began at 09:14:03", "While the tests ran", "35")
	press(m, "z")
	assert.NotContains(t, text(m), "counted from zero")
	press(m, "<")
	shows(t, m, "have not been read")
}

// Who was found on the segment stands there, with what is wrong about it.
func TestARecordingShowsTheNeighbours(t *testing.T) {
	t.Parallel()
	two := []endpoint.HardwareAddr{{2, 0, 0, 0, 0, 1}, {2, 0, 0, 0, 0, 2}}
	m := logged(evidence.Neighbour{Asked: evidencetest.Gateway, Method: "arp", Asks: 1, Hardware: two,
		Reply: evidencetest.Answer(evidencetest.Gateway, 1)}, evidence.Heard{Address: evidencetest.NS, Hardware: two[1]})
	press(m, "4")
	shows(t, m, "Neighbours on eth0", "172.27.40.1", "several answer", "its name was not asked for", "As the tests that began at 09:14:03")
	assert.NotContains(t, text(m), "ask the segment")
	press(m, "a", "f", "m", "down", "end")
	assert.Nil(t, m.top(), "nobody is asked")
	press(m, "<")
	shows(t, m, "Neighbours on eth0")
	assert.NotContains(t, text(m), "several answer", "it was not known then")
}
