//go:build linux

package namespaces_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/conductor"
	"passepartout/internal/core/event"
	"passepartout/internal/core/state"
	"passepartout/internal/core/target"
	"passepartout/internal/core/verdict"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/nap/naptest"
	"passepartout/internal/scenario"
	"passepartout/internal/scenario/namespaces"
)

// saidAt is what the verdict was from a moment on.
type saidAt struct {
	at       time.Time
	standing string
	zone     string
	faults   []string // the verdict's, and those beside it
	because  string
}

// edge is a moment at which the truth changes.
type edge struct {
	at    time.Duration
	until time.Duration
	zone  string
	fault string
}

// edges are the moments at which a timeline makes something wrong, or right again.
func edges(s *scenario.Scenario) (out []edge) {
	last := time.Duration(0)
	zone, fault := s.Truth(0)
	for {
		next, more := s.Timeline.Next(last)
		if !more {
			break
		}
		if z, f := s.Truth(next); z != zone || f != fault {
			if n := len(out); n > 0 {
				out[n-1].until = next
			}
			out = append(out, edge{at: next, zone: z, fault: f})
			zone, fault = z, f
		}
		last = next
	}
	if n := len(out); n > 0 {
		out[n-1].until = out[n-1].at + afterLast
	}
	return out
}

// afterLast is how long after the last change it is watched on.
const afterLast = 14 * time.Second

// right reports whether a verdict is what the truth is.
func (e edge) right(v saidAt) bool {
	return v.standing == "current" && v.zone == e.zone && (e.fault == "" || slices.Contains(v.faults, e.fault))
}

// noticed says how long after each edge a verdict was there that is right and current; −1 for never.
func noticed(s *scenario.Scenario, began time.Time, said []saidAt) (out []time.Duration) {
	for _, e := range edges(s) {
		at, until := began.Add(e.at), began.Add(e.until)
		took := time.Duration(-1)
		for i, v := range said {
			end := until
			if i+1 < len(said) {
				end = said[i+1].at
			}
			if e.right(v) && end.After(at) && v.at.Before(until) {
				took = max(v.at.Sub(at), 0)
				break
			}
		}
		out = append(out, took)
	}
	return out
}

func story(s *scenario.Scenario, began time.Time, said []saidAt) string {
	var b strings.Builder
	for _, e := range edges(s) {
		fmt.Fprintf(&b, "  truth from %5.1f s: %s %s\n", e.at.Seconds(), e.zone, e.fault)
	}
	for _, v := range said {
		fmt.Fprintf(&b, "  %5.1f s  %s %s %v %s\n", v.at.Sub(began).Seconds(), v.standing, v.zone, v.faults, v.because)
	}
	return b.String()
}

// watchSimulated watches a timeline on the simulated ground.
func watchSimulated(t *testing.T, s *scenario.Scenario) (time.Time, []saidAt) {
	site, err := simulated.Build(s, simulated.Options{})
	require.NoError(t, err)
	defer site.Close()
	want, err := target.Parse(s.Target)
	require.NoError(t, err)
	var said []saidAt
	c := conductor.New(context.Background(),
		conductor.Config{Machine: site.Machine(), Target: want, Log: func(e event.Event, after *state.State) {
			v := &after.Verdict
			now := saidAt{at: e.At, standing: v.Standing.String(), zone: v.Result.Zone.Token(), faults: faultsOf(v.Result),
				because: v.Because}
			if n := len(said); v.Standing != state.NoVerdict &&
				(n == 0 || said[n-1].standing != now.standing || said[n-1].zone != now.zone ||
					!slices.Equal(said[n-1].faults, now.faults)) {
				said = append(said, now)
			}
		}})
	c.Start()
	all := edges(s)
	time.Sleep(time.Until(site.Began.Add(all[len(all)-1].until)))
	c.Close()
	return site.Began, said
}

func faultsOf(r verdict.Result) []string {
	out := []string{string(r.Fault)}
	for _, a := range r.Also {
		out = append(out, string(a.Fault))
	}
	return out
}

// watchInKernel watches a timeline in the kernel, by the program itself.
func watchInKernel(t *testing.T, s *scenario.Scenario) (time.Time, []saidAt) {
	all := edges(s)
	return watchInKernelUntil(t, s, all[len(all)-1].until)
}

func watchInKernelUntil(t *testing.T, s *scenario.Scenario, until time.Duration) (time.Time, []saidAt) {
	lab, err := namespaces.Build(s)
	require.NoError(t, err)
	defer lab.Close()
	out, stop, err := lab.Start(namespaces.Root, binary, "watch", s.Target, "--format", "json")
	require.NoError(t, err)
	var said []saidAt
	var mu sync.Mutex
	done := make(chan struct{})
	go func() {
		defer close(done)
		lines := bufio.NewScanner(out)
		lines.Buffer(nil, 1<<20)
		for lines.Scan() {
			var l struct {
				At       time.Time
				Event    string
				Standing string
				Because  string
				Verdict  struct {
					Zone  string
					Fault string
					Also  []struct{ Fault string }
				}
			}
			if json.Unmarshal(lines.Bytes(), &l) != nil || l.Event != "verdict" {
				continue
			}
			v := saidAt{l.At, l.Standing, l.Verdict.Zone, []string{l.Verdict.Fault}, l.Because}
			for _, a := range l.Verdict.Also {
				v.faults = append(v.faults, a.Fault)
			}
			mu.Lock()
			said = append(said, v)
			mu.Unlock()
		}
	}()
	time.Sleep(time.Until(lab.Began.Add(until)))
	_ = stop()
	<-done
	return lab.Began, said
}

// TestTimeToNotice watches every timeline, and measures from each break, and each repair, to the verdict that is right and current.
func TestTimeToNotice(t *testing.T) {
	t.Parallel() // it waits nearly all the time
	for _, ground := range []struct {
		name  string
		watch func(*testing.T, *scenario.Scenario) (time.Time, []saidAt)
		needs string
	}{{"simulated", watchSimulated, ""}, {"kernel", watchInKernel, namespaces.Unavailable()}} {
		t.Run(ground.name, func(t *testing.T) {
			t.Parallel()
			if ground.needs != "" {
				t.Skip(ground.needs)
			}
			naptest.Undisturbed(t, func(truth assert.TestingT) {
				var wg sync.WaitGroup
				var mu sync.Mutex
				var all []time.Duration
				missed := 0
				for _, name := range scenario.Timelines() {
					wg.Go(func() {
						s, err := scenario.LoadTimeline(name)
						if !assert.NoError(t, err) {
							return
						}
						began, said := ground.watch(t, s)
						took := noticed(s, began, said)
						mu.Lock()
						defer mu.Unlock()
						for _, d := range took {
							if d < 0 {
								missed++
								assert.Fail(truth, "not noticed", "%s, %s\n%s", ground.name, name, story(s, began, said))
								continue
							}
							all = append(all, d)
						}
					})
				}
				wg.Wait()
				if len(all) == 0 {
					return
				}
				slices.Sort(all)
				fmt.Printf("time to notice, %s: %d of %d changes, median %.1f s, worst %.1f s\n",
					ground.name, len(all), len(all)+missed, all[len(all)/2].Seconds(), all[len(all)-1].Seconds())
				assert.Less(truth, all[len(all)-1], 20*time.Second)
			})
		})
	}
}

// TestHealthyBesideABusyCore watches a sound site in the kernel for ten minutes, while one core has no time for anything else: the verdict
// never changes.
func TestHealthyBesideABusyCore(t *testing.T) {
	if !*every {
		t.Skip("takes ten minutes; with -every, as make bench-healthy has it")
	}
	if why := namespaces.Unavailable(); why != "" {
		t.Skip(why)
	}
	const long = 10 * time.Minute
	s, err := scenario.Load("healthy")
	require.NoError(t, err)
	var over atomic.Bool
	var busy sync.WaitGroup
	busy.Go(func() {
		for !over.Load() { // nothing else
		}
	})
	began, said := watchInKernelUntil(t, s, long)
	over.Store(true)
	busy.Wait()
	fmt.Printf("beside a busy core: %v watched, %d verdicts\n", long, len(said))
	assert.Len(t, said, 1, "%s", story(s, began, said))
}
