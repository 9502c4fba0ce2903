package tui

import (
	"context"
	"slices"
	"strings"
	"sync"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/event"
	"passepartout/internal/core/state"
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
