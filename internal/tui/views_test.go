package tui

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/report"
)

// adding has one more view in the list until the test is over.
func adding(t *testing.T, v *view) {
	was := views
	views = append(slices.Clone(was), v)
	t.Cleanup(func() { views = was })
}

// A live view is its value and its place in the list: key, foot, help, line, looking, writing and its end follow from them.
func TestALiveViewIsAValueAndALine(t *testing.T) {
	type beats struct{ n, stopped int }
	type seen struct{ n int }
	adding(t, &view{
		key: "z", name: "pulse", does: "how often it was looked", at: "path", live: true,
		deeds: []deed{{"b", "beat", "one beat more", false}},
		open: func(m *model) {
			if hold[beats](m) == nil {
				keep(m, &beats{})
			}
		},
		look: func(m *model) func() any {
			n := hold[beats](m).n
			return func() any { return seen{n} }
		},
		draw: func(m *model) []string {
			s, _ := lookedAt[seen](m)
			return append(m.head(), fmt.Sprintf("%d beats", s.n))
		},
		press: func(m *model, k tea.KeyPressMsg) (tea.Cmd, bool) {
			if k.String() != "b" {
				return nil, false
			}
			hold[beats](m).n++
			return m.look(), true
		},
		export: func(m *model) (report.Export, bool) {
			n := hold[beats](m).n
			return report.Export{
				Data: map[string]func(io.Writer) error{".txt": func(w io.Writer) error { _, err := fmt.Fprint(w, n); return err }}}, true
		},
		stop: func(m *model) {
			if b := hold[beats](m); b != nil {
				b.stopped++
			}
		},
	})
	m := showing(t, 142, 44, nil)
	press(m, "z")
	shows(t, m, "0 beats", "z pulse", "b beat")
	press(m, "b", "b")
	shows(t, m, "2 beats")
	whole(t, m, "a view that was added")
	press(m, "?")
	shows(t, m, "how often it was looked", "one beat more")
	press(m, "esc", "e")
	file := filepath.Join(t.TempDir(), "pulse.txt")
	m.entry.input.SetValue(file)
	press(m, "enter")
	shows(t, m, "written to "+file)
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "2", string(raw))
	held := hold[beats](m)
	m.leave()
	assert.Equal(t, 1, held.stopped)
}

// What was looked up for a case that is left does not come into the next one.
func TestNewsOfAnEarlierCaseIsDropped(t *testing.T) {
	type seen struct{ who string }
	v := &view{key: "z", name: "pulse", draw: func(m *model) []string { return make([]string, m.height-2) }}
	adding(t, v)
	m := showing(t, 142, 44, nil)
	earlier := m.generation
	carryOut(m, m.ask())
	require.NotEqual(t, earlier, m.generation)
	send(m, lookedMsg{earlier, v, seen{"the one before"}})
	_, known := lookedAt[seen](m)
	assert.False(t, known)
	before := m.state
	send(m, newsMsg{generation: earlier})
	assert.Equal(t, before.At, m.state.At)
	send(m, lookedMsg{m.generation, v, seen{"this one"}})
	s, _ := lookedAt[seen](m)
	assert.Equal(t, "this one", s.who)
}

// A view that panics ends the program with its trace, and not as if all were well.
func TestAPanicIsAnError(t *testing.T) {
	adding(t, &view{key: "z", name: "broken", draw: func(*model) []string { panic("a mistake of ours") }})
	keys, type_ := io.Pipe()
	defer type_.Close()
	var screen bytes.Buffer
	go func() {
		time.Sleep(500 * time.Millisecond)
		_, _ = type_.Write([]byte("z"))
	}()
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	err := run(ctx, Config{Ground: Ground{Machine: still{}}, Target: "bookings.kittiwake.example:443", Asked: true, Deadline: time.Minute},
		tea.WithInput(keys), tea.WithOutput(&screen), tea.WithWindowSize(142, 44), tea.WithoutSignalHandler())
	require.ErrorIs(t, err, tea.ErrProgramPanic)
}

// A file of targets that never ends, or whose other end nobody opens, is told of at once.
func TestAFileOfTargetsThatIsNone(t *testing.T) {
	fifo := filepath.Join(t.TempDir(), "pipe")
	require.NoError(t, syscall.Mkfifo(fifo, 0o600))
	for _, path := range []string{fifo, "/dev/zero", "/nonexistent", t.TempDir()} {
		m := alive(t, "healthy", 142, 44)
		press(m, "6")
		shows(t, m, "whose loss")
		press(m, "a")
		m.entry.input.SetValue("@" + path)
		began := time.Now()
		press(m, "enter")
		assert.Less(t, time.Since(began), time.Second, "the screen goes on")
		shows(t, m, filepath.Base(path))
		shows(t, m, map[string]string{"/nonexistent": "no such file"}[path])
		press(m, "esc")
		shows(t, m, "whose loss")
		m.leave()
	}
}

// The path, watched again by r, and laid beside itself: nothing is shared between what moves and what was kept.
func TestPathAgainAndKept(t *testing.T) {
	m := alive(t, "healthy", 142, 44)
	press(m, "7", "r")
	shows(t, m, "┃pier-gw", "┃bookings")
	for range 3 {
		press(m, "c", "enter", "r", "m")
		pump(m, 400*time.Millisecond)
		whole(t, m, "path beside itself")
	}
	shows(t, m, "as at ")
}
