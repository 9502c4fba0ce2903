//go:build linux

package namespaces_test

import (
	"context"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/blame"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/series"
	"passepartout/internal/core/target"
	"passepartout/internal/core/zone"
	"passepartout/internal/probe"
	"passepartout/internal/probe/watch"
	"passepartout/internal/scenario"

	"github.com/vishvananda/netlink"
)

// Names move on both grounds when the timeline says so, and their time to live is the one that the site gives.
func TestNamesMoveOnBothGrounds(t *testing.T) {
	t.Parallel()
	s, err := scenario.Load("target-moves")
	require.NoError(t, err)
	s.Timeline.Repeat = 0
	s.Timeline.Events[0].From, s.Timeline.Events[0].For = scenario.Duration(6*time.Second), 0 // the first question is asked long before
	var wg sync.WaitGroup
	defer wg.Wait()
	for _, g := range grounds(t, s) {
		wg.Go(func() { // at the same time: the timelines of both run already
			ask := func() evidence.Lookup {
				return probe.Lookup(t.Context(), g.machine, netip.MustParseAddr("172.27.40.2"), "bookings.kittiwake.example", "A")
			}
			first := ask()
			assert.Equal(t, []netip.Addr{netip.MustParseAddr("203.0.113.80")}, first.Addresses, g.name)
			assert.Equal(t, 2*time.Second, first.Life, g.name)
			assert.Eventually(t, func() bool {
				a := ask().Addresses
				return len(a) == 1 && a[0] == netip.MustParseAddr("203.0.113.81")
			}, 30*time.Second, 100*time.Millisecond, g.name)
		})
	}
}

// On the kernel ground a port that is switched off mid-run is the host's outage with its cause, and probing resumes by itself.
func TestPortSwitchedOffMidRun(t *testing.T) {
	t.Parallel()
	lab, m := healthyLab(t)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	w := watch.New(ctx, watch.Config{Machine: m})
	for i, a := range []string{"127.0.0.1", "172.27.40.1"} {
		to, _ := target.Parse(a)
		w.Add(watch.Spec{Target: to, Zone: []zone.Zone{zone.Host, zone.LocalSubnet}[i], Rank: i + 1, Interval: 200 * time.Millisecond})
	}
	port := func(change func(netlink.Link) error) {
		require.NoError(t, lab.On("ticket-03", func() error {
			link, err := netlink.LinkByName("eth0")
			if err != nil {
				return err
			}
			return change(link)
		}))
	}
	time.Sleep(2500 * time.Millisecond)
	port(netlink.LinkSetDown)
	time.Sleep(3 * time.Second)
	port(netlink.LinkSetUp)
	time.Sleep(5 * time.Second)
	w.See(func(now time.Duration, subjects []*watch.Subject, l *blame.Ledger) {
		off := slices.DeleteFunc(slices.Clone(l.Outages()),
			func(o blame.Outage) bool { return !strings.Contains(o.Evidence(), "eth0 was switched off") })
		if assert.Len(t, off, 1, "%+v", l.Outages()) { // a machine that stands still may make others of its own
			assert.Equal(t, zone.Host, off[0].Zone)
		}
		gw := subjects[1].Record
		assert.Greater(t, gw.Counts().NotSent, 5, "the machine knows no way there")
		last, _ := gw.Last()
		assert.Equal(t, series.Replied, last.Fate, "and probing went on by itself")
	})
}
