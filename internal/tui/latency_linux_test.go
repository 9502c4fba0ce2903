package tui

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/machine/simulated"
	"passepartout/internal/scenario"
)

// TestKeyLatency measures from a key to the frame that answers it, in the program itself, while 50 targets are probed; and what four
// targets cost.
func TestKeyLatency(t *testing.T) {
	if testing.Short() {
		t.Skip("measures")
	}
	s, err := scenario.Load("healthy")
	require.NoError(t, err)
	site, err := simulated.Build(s, simulated.Options{})
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 60*time.Second)
	defer cancel()
	m := newModel(ctx,
		Config{Ground: Ground{Machine: site.Machine(), Targets: []string{s.Target}, Close: site.Close}, Deadline: 10 * time.Second,
			Asked: true, Target: s.Target})
	out := &output{}
	p := tea.NewProgram(m, tea.WithContext(ctx), tea.WithInput(nil), tea.WithOutput(out), tea.WithoutSignalHandler(),
		tea.WithWindowSize(160, 50))
	ended := make(chan struct{})
	go func() { _, _ = p.Run(); close(ended) }()
	key := func(k string) { p.Send(tea.KeyPressMsg{Text: k, Code: []rune(k)[0]}) }
	require.Eventually(t, func() bool { return out.has("No fault stands in the way") }, time.Minute, 10*time.Millisecond)
	key("6")
	require.Eventually(t, func() bool { return out.has("whose loss") }, time.Minute, 10*time.Millisecond)
	time.Sleep(2 * time.Second)
	before := used()
	time.Sleep(5 * time.Second)
	fmt.Printf("watching the witnesses of the demonstration on screen, site included: %.1f %% of a core\n", 100*(used()-before).Seconds()/5)
	key("a")
	var list []string
	for i := range 50 {
		list = append(list, fmt.Sprintf("172.27.40.%d", i+50))
	}
	p.Send(tea.PasteMsg{Content: strings.Join(list, "\n")})
	p.Send(tea.KeyPressMsg{Code: tea.KeyEnter})
	require.Eventually(t, func() bool { return out.has("172.27.40.60") }, time.Minute, 10*time.Millisecond)
	var took []time.Duration
	for i := range 120 {
		k, want := "-", "last 5 min"
		if i%2 == 1 {
			k, want = "+", "last 1 min"
		}
		out.clear()
		began := time.Now()
		key(k)
		for !out.changed(want) && time.Since(began) < 2*time.Second {
			time.Sleep(200 * time.Microsecond)
		}
		took = append(took, time.Since(began))
		time.Sleep(20 * time.Millisecond)
	}
	slices.Sort(took)
	fmt.Printf("a key while 50 targets are probed: answered within %v at the median, %v at 99 %%\n",
		took[len(took)/2].Round(100*time.Microsecond), took[len(took)*99/100].Round(100*time.Microsecond))
	assert.Less(t, took[len(took)/2], 300*time.Millisecond)
	key("q")
	<-ended
	m.leave()
}

func (o *output) clear() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.b.Reset()
}

// changed reports whether the digit in which two texts differ was written: the program writes differences only.
func (o *output) changed(want string) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return strings.Contains(ansi.Strip(o.b.String()), want[5:6])
}

func used() time.Duration {
	var u syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}
