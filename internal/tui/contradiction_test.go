package tui

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/lease"
	"passepartout/internal/core/state"
	"passepartout/internal/core/topology"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/scenario"
)

// In each of the timelines, on each view in turn, whatever stands on one screen is held against the rest of it: the headline, the line, the
// foot, the checks, the outages and the lease tell one story.
func TestNothingOnTheScreenContradicts(t *testing.T) {
	if testing.Short() {
		t.Skip("under the race detector fifteen sites at once are no site any more")
	}
	t.Parallel()
	var steps, screens int
	var mu sync.Mutex
	var wg sync.WaitGroup
	for _, name := range scenario.Timelines() {
		wg.Go(func() {
			s, err := scenario.LoadTimeline(name)
			if !assert.NoError(t, err) {
				return
			}
			site, err := simulated.Build(s, simulated.Options{})
			if !assert.NoError(t, err) {
				return
			}
			m := newModel(t.Context(),
				Config{Ground: Ground{Machine: site.Machine(), Targets: []string{s.Target}, Close: site.Close}, Deadline: 10 * time.Second,
					Asked: true, Target: s.Target})
			defer m.leave()
			carryOut(m, m.Init())
			send(m, tea.WindowSizeMsg{Width: 150, Height: 46})
			last := time.Duration(0)
			for next, more := s.Timeline.Next(0); more; next, more = s.Timeline.Next(next) {
				last = next
			}
			said := map[string]bool{}
			for until := site.Began.Add(last + 10*time.Second); time.Now().Before(until); {
				pump(m, 300*time.Millisecond)
				flaws := contradictions(m)
				mu.Lock()
				steps, screens = steps+1, screens+len(views)
				for _, f := range flaws {
					if !said[f] {
						said[f] = true
						assert.Fail(t, "a contradiction", "%s, %.1f s: %s\n%s", name, time.Since(site.Began).Seconds(), f, text(m))
					}
				}
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	require.Greater(t, steps, 5*len(scenario.Timelines()))
	fmt.Printf("no contradiction: %d timelines, %d steps, %d screens held against what else was said\n", len(scenario.Timelines()), steps,
		screens)
}

// contradictions lists what on the screens of a moment does not go together.
func contradictions(m *model) (out []string) {
	if m.set == nil || !m.settled() {
		if all := text(m); strings.Contains(all, "certain ·") {
			out = append(out, "certain, without a verdict")
		}
		return out
	}
	v := &m.state.Verdict
	z := v.Result.Zone.Blamed()
	blamed := z != zone.Unknown
	head, foot := m.headline(), ""
	for i, view := range views {
		m.view = view
		lines := strings.Split(text(m), "\n")
		if !slices.ContainsFunc(lines, func(l string) bool { return strings.TrimSpace(l) == strings.TrimSpace(ansi.Strip(head)) }) {
			out = append(out, view.name+" has another headline")
		}
		if last := standingOf(lines[len(lines)-1]); i == 0 {
			foot = last
		} else if last != foot {
			out = append(out, fmt.Sprintf("the foot of %s says %q, of the overview %q", view.name, last, foot))
		}
	}
	m.view = views[0]
	if foot != v.Standing.String() {
		out = append(out, fmt.Sprintf("the foot says %q of a verdict that is %v", foot, v.Standing))
	}
	if v.Standing != state.Current && strings.Contains(ansi.Strip(head), "certain") {
		out = append(out, "certain, of a verdict that is "+v.Standing.String())
	}
	var broken []topology.Station
	line := m.line()
	for i, st := range slices.Concat(line.Host, line.Local, line.Names, line.Beyond) {
		in := st.Role.ZoneOf()
		if local := i - len(line.Host); local >= 0 && local < len(line.Local) {
			in = zone.LocalSubnet // a name server of the segment, say
		}
		doubted := v.Standing != state.Current && in >= v.From && st.Role != topology.Loopback
		switch {
		case st.State == verdict.Broken:
			broken = append(broken, st)
			told := slices.ContainsFunc(v.Result.Also, func(o verdict.Other) bool { return o.Zone == in })
			if v.Standing == state.Current && blamed && in > z && st.Role != topology.Service && !told {
				out = append(out, fmt.Sprintf("the line is broken at %s, behind the fault", st.Label))
			}
			if v.Standing == state.Current && blamed && in < z && len(v.Result.Also) == 0 {
				out = append(out, fmt.Sprintf("the line is broken at %s, before the fault", st.Label))
			}
		case st.State == verdict.Holds && doubted:
			out = append(out, fmt.Sprintf("%s holds on the line, and the verdict is %v from there on", st.Label, v.Standing))
		}
	}
	if v.Standing == state.Current && v.Result.Zone == zone.None && len(broken) > 0 && len(v.Result.Also) == 0 {
		out = append(out, fmt.Sprintf("no fault, and the line is broken at %s", broken[0].Label))
	}
	if v.Standing == state.Current && blamed && len(broken) == 0 && v.Result.Fault != "" {
		out = append(out, fmt.Sprintf("%s, and the line is whole", v.Result.Fault))
	}
	for _, row := range m.checkList(60) { // none is called sound from where on the verdict does not stand
		if row.check < 0 || v.Standing == state.Current {
			continue
		}
		if c := m.result.Checks[row.check]; c.Zone >= v.From &&
			strings.HasPrefix(strings.TrimLeft(ansi.Strip(row.text), " ▸"), strands[verdict.Holds]) {
			out = append(out, fmt.Sprintf("the check %s holds in a verdict that is %v", c.ID, v.Standing))
		}
	}
	if n := len(m.state.Outages); n > 0 && v.Standing == state.Current && blamed {
		if o := m.state.Outages[n-1]; o.To.IsZero() && o.Zone != z {
			out = append(out, fmt.Sprintf("an outage is laid to %v, and the verdict to %v", o.Zone, z))
		}
	}
	if n := len(m.state.Outages); n > 0 && v.Standing == state.Current && v.Result.Zone == zone.None &&
		m.state.Outages[n-1].From.Before(v.Reached) && strings.Contains(text(m), "still going on") {
		out = append(out, "no fault, and an outage that began before is still going on")
	}
	return append(out, leaseContradicts(m)...)
}

// leaseContradicts holds the lease view against the clock.
func leaseContradicts(m *model) (out []string) {
	m.view = leaseView
	defer func() { m.view = views[0] }()
	said := text(m)
	for i := range m.state.Endpoint.Leases {
		l := &m.state.Endpoint.Leases[i]
		if l.Interface != m.set.Interface || !l.InForce {
			continue
		}
		if phase := l.At(m.now); phase != lease.Expired && strings.Contains(said, "expired") {
			out = append(out, fmt.Sprintf("the lease view says expired of a lease that is %v", phase))
		}
	}
	return out
}

func standingOf(foot string) string {
	words := strings.Fields(foot)
	return words[len(words)-1]
}
