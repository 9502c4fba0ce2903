package tui

import (
	"reflect"
	"strings"
	"sync"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/event"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/state"
	"passepartout/internal/core/verdict"
)

// inboxes hold the messages of commands that have ended, for each model: the tests are what otherwise the terminal's loop is. A model
// belongs to one goroutine.
var inboxes sync.Map

func inbox(m *model) chan tea.Msg {
	c, _ := inboxes.LoadOrStore(m, make(chan tea.Msg, 4096))
	return c.(chan tea.Msg)
}

// send gives the program a message, and has its commands carried out.
func send(m *model, msg tea.Msg) {
	_, cmd := m.Update(msg)
	carryOut(m, cmd)
}

func carryOut(m *model, cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	go func() {
		msg := cmd()
		if list := reflect.ValueOf(msg); msg != nil && list.Kind() == reflect.Slice && list.Type().Elem() == reflect.TypeFor[tea.Cmd]() {
			for i := range list.Len() { // of a batch
				carryOut(m, list.Index(i).Interface().(tea.Cmd))
			}
			return
		}
		if msg != nil {
			inbox(m) <- msg
		}
	}()
}

// patience is for how long a test waits for what is to come: the machines that these tests run on may be slow, and stand still.
const patience = 2 * time.Minute

// pump takes in whatever has come within a time.
func pump(m *model, within time.Duration) {
	timer := time.NewTimer(within)
	defer timer.Stop()
	for takes(m, timer.C) {
	}
}

// takes takes one message in. It is false when none has come until then.
func takes(m *model, until <-chan time.Time) bool {
	select {
	case msg := <-inbox(m):
		send(m, msg)
		return true
	case <-until:
		return false
	}
}

// until takes messages in, one by one, until something is so.
func until(t *testing.T, m *model, what string, so func() bool) {
	t.Helper()
	for began := time.Now(); !so(); takes(m, time.After(10*time.Millisecond)) {
		if time.Since(began) > patience {
			t.Fatalf("not within %v: %s\n%s", patience, what, text(m))
		}
	}
}

// testsEnd waits for the end of the tests that are under way.
func testsEnd(t *testing.T, m *model) {
	t.Helper()
	until(t, m, "the end of the tests", func() bool { return m.state.Round.Over })
}

func shows(t *testing.T, m *model, wants ...string) {
	t.Helper()
	for _, want := range wants {
		if !eventually(m, want, patience) {
			assert.Fail(t, "not on the screen", "%q\n%s", want, text(m))
		}
	}
}

func eventually(m *model, want string, within time.Duration) bool {
	for began := time.Now(); time.Since(began) < within; {
		if strings.Contains(text(m), want) {
			return true
		}
		pump(m, 20*time.Millisecond)
	}
	return false
}

// stateOf is a case in which one run of the tests has found that evidence.
func stateOf(s *evidence.Set) state.State {
	at := time.Now()
	st := state.Fold(state.State{},
		event.Event{At: at,
			Body: event.Began{Round: 1, Question: evidence.Subject{Target: s.Target, Interface: s.Interface, Families: s.Families},
				Endpoint: s.Endpoint, Sheet: s.Sheet}})
	return judgedAs(st, s)
}

// judgedAs is the same case after its tests have found that evidence.
func judgedAs(st state.State, s *evidence.Set) state.State {
	st.Round.Set = *s
	result := verdict.Judge(s)
	over := len(s.Open) == 0
	return state.Fold(st,
		event.Event{At: time.Now(), Body: event.Judged{Round: st.Round.Number, Settled: result.Settled, Over: over, Result: &result}})
}
