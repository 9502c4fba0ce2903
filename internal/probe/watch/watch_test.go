package watch_test

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/netip"
	"runtime"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/blame"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/series"
	"passepartout/internal/core/target"
	"passepartout/internal/core/zone"
	"passepartout/internal/machine"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/probe/watch"
	"passepartout/internal/scenario"
)

func parse(text string) target.Target {
	t, err := target.Parse(text)
	if err != nil {
		panic(err)
	}
	return t
}

// wire is a machine made for exact times: what becomes of the nth echo request is decided by fate, and the clock is the bubble's.
type wire struct {
	machine.Machine
	fate func(to netip.Addr, n int) (delay time.Duration, copies int) // no copies: lost
	err  func() error                                                 // of sending

	mu       sync.Mutex
	sent     map[netip.Addr]int
	arrivals chan machine.EchoArrival
	done     chan struct{}
}

func newWire(fate func(netip.Addr, int) (time.Duration, int)) *wire {
	return &wire{fate: fate, err: func() error { return nil }, sent: map[netip.Addr]int{}, arrivals: make(chan machine.EchoArrival, 4096),
		done: make(chan struct{})}
}

func (w *wire) Permissions() machine.Permissions {
	return machine.Permissions{Echo: machine.Permission{Granted: true}}
}
func (w *wire) Watch(ctx context.Context) (<-chan struct{}, error) {
	return nil, errors.New("not here")
}
func (w *wire) Read(context.Context) (*endpoint.Endpoint, error)        { return &endpoint.Endpoint{}, nil }
func (w *wire) OpenEcho(machine.EchoConfig) (machine.EchoSocket, error) { return w, nil }
func (w *wire) Close() error                                            { close(w.done); return nil }

func (w *wire) Send(r machine.EchoRequest) (time.Time, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	at := time.Now()
	if err := w.err(); err != nil {
		return at, err
	}
	n := w.sent[r.To]
	w.sent[r.To]++
	delay, copies := w.fate(r.To, n)
	for range copies {
		time.AfterFunc(delay, func() {
			w.arrivals <- machine.EchoArrival{Seq: r.Seq, To: r.To,
				Arrival: machine.Arrival{Outcome: evidence.Answered, From: r.To, At: time.Now()}}
		})
	}
	return at, nil
}

func (w *wire) Receive() (machine.EchoArrival, error) {
	select {
	case a := <-w.arrivals:
		return a, nil
	case <-w.done:
		return machine.EchoArrival{}, errors.New("closed")
	}
}

var far = netip.MustParseAddr("203.0.113.80")

// counts runs a watcher over a wire for a time, and gives what became of one target.
func counts(t *testing.T, m *wire, s watch.Spec, d time.Duration, during func(*watch.Watcher, int)) (sum series.Summary,
	said evidence.Reply, outages []blame.Outage) {
	synctest.Test(t, func(t *testing.T) {
		m.arrivals, m.done = make(chan machine.EchoArrival, 4096), make(chan struct{})
		ctx, cancel := context.WithCancel(t.Context())
		w := watch.New(ctx, watch.Config{Machine: m})
		s.Target = parse(far.String())
		id, _ := w.Add(s)
		if during != nil {
			during(w, id)
		}
		time.Sleep(d)
		w.See(func(_ time.Duration, subjects []*watch.Subject, l *blame.Ledger) {
			sum, said, outages = subjects[0].Record.Summary(), subjects[0].Said, l.Outages()
		})
		cancel()
		w.Wait()
		time.Sleep(time.Minute) // what is still in the air
	})
	return sum, said, outages
}

func TestFates(t *testing.T) {
	steady := 20 * time.Millisecond
	for _, c := range []struct {
		name string
		fate func(to netip.Addr, n int) (time.Duration, int)
		err  error
		want series.Counts
	}{
		{"all answered", func(netip.Addr, int) (time.Duration, int) { return steady, 1 }, nil, series.Counts{Received: 20}},
		{"every fifth lost", func(_ netip.Addr, n int) (time.Duration, int) { return steady, min(n%5, 1) }, nil,
			series.Counts{Received: 16, Silent: 4}},
		{"one twice", func(_ netip.Addr, n int) (time.Duration, int) {
			if n == 7 {
				return steady, 2
			}
			return steady, 1
		}, nil, series.Counts{Received: 20, Again: 1}},
		{"one late", func(_ netip.Addr, n int) (time.Duration, int) {
			if n == 12 {
				return 1500 * time.Millisecond, 1
			}
			return steady, 1
		}, nil, series.Counts{Received: 19, Late: 1}},
		{"overtaken", func(_ netip.Addr, n int) (time.Duration, int) {
			return steady + time.Duration(n%2)*150*time.Millisecond, 1
		}, nil, series.Counts{Received: 20}},
		{"not sent", func(netip.Addr, int) (time.Duration, int) { return steady, 1 }, machine.ErrNoRoute, series.Counts{NotSent: 20}},
	} {
		m := newWire(c.fate)
		m.err = func() error { return c.err }
		sum, said, _ := counts(t, m, watch.Spec{Interval: 100 * time.Millisecond, Count: 20}, 6*time.Second, nil)
		assert.Equal(t, c.want, sum.Counts, c.name)
		if c.err != nil {
			assert.Contains(t, said.Reason, "no way there")
		}
		if sum.Received == 20 && c.name == "all answered" {
			assert.Equal(t, steady, sum.Times.Median)
			assert.Zero(t, sum.Variation.P95)
		}
	}
}

func TestPauseResumeResetRemove(t *testing.T) {
	m := newWire(func(netip.Addr, int) (time.Duration, int) { return time.Millisecond, 1 })
	sum, _, _ := counts(t, m, watch.Spec{}, 10*time.Second, func(w *watch.Watcher, id int) {
		time.Sleep(5100 * time.Millisecond)
		w.Pause(id, true)
		time.Sleep(10 * time.Second)
		w.Pause(id, false)
		w.Change(id, func(s *watch.Spec) { s.Interval = 2 * time.Second })
	})
	assert.InDelta(t, 5+5, sum.Received, 1, "five before, none while paused, five at half the rate")
	sum, _, _ = counts(t, m, watch.Spec{}, 3*time.Second, func(w *watch.Watcher, id int) {
		time.Sleep(20 * time.Second)
		w.ResetAll()
	})
	assert.InDelta(t, 3, sum.Received, 1)
	synctest.Test(t, func(t *testing.T) {
		m := newWire(func(netip.Addr, int) (time.Duration, int) { return 50 * time.Millisecond, 1 })
		ctx, cancel := context.WithCancel(t.Context())
		w := watch.New(ctx, watch.Config{Machine: m})
		id, _ := w.Add(watch.Spec{Target: parse(far.String())})
		time.Sleep(1020 * time.Millisecond) // one is under way
		w.Remove(id)
		time.Sleep(5 * time.Second)
		assert.LessOrEqual(t, m.sent[far], 2, "a target that was removed is not asked again")
		for range watch.MostTargets {
			w.Add(watch.Spec{Target: parse(far.String()), Interval: time.Minute})
		}
		_, ok := w.Add(watch.Spec{Target: parse(far.String())})
		assert.False(t, ok, "too many")
		cancel()
		w.Wait()
		time.Sleep(time.Minute)
	})
}

// A machine that slept has lost nothing: the gap is a gap, and the axis goes on after it.
func TestSleepIsAGap(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		m := newWire(func(netip.Addr, int) (time.Duration, int) { return 30 * time.Millisecond, 1 })
		var mu sync.Mutex
		slept := time.Duration(0)
		ctx, cancel := context.WithCancel(t.Context())
		w := watch.New(ctx, watch.Config{Machine: m, Asleep: func() time.Duration { mu.Lock(); defer mu.Unlock(); return slept }})
		w.Add(watch.Spec{Target: parse(far.String()), Rank: 1, Zone: zone.Beyond})
		time.Sleep(5010 * time.Millisecond) // one has just been sent
		mu.Lock()
		slept = time.Hour
		mu.Unlock()
		time.Sleep(5 * time.Second)
		w.See(func(now time.Duration, subjects []*watch.Subject, l *blame.Ledger) {
			assert.InDelta(t, time.Hour.Seconds()+10, now.Seconds(), 1)
			assert.Zero(t, subjects[0].Record.Counts().Lost())
			assert.Empty(t, l.Outages())
			assert.Equal(t, blame.Unknown, l.At(30*time.Minute).State)
			assert.Equal(t, blame.Fine, l.At(time.Hour+8*time.Second).State)
		})
		cancel()
		w.Wait()
		time.Sleep(time.Minute)
	})
}

// For as long as this process does not get its turn no answer can be looked at: what is under way is waited for longer by as much, and no
// further.
func TestStandingStillIsNoLoss(t *testing.T) {
	for stood, late := range map[time.Duration]int{0: 1, 100 * time.Millisecond: 1, 500 * time.Millisecond: 0} {
		synctest.Test(t, func(t *testing.T) {
			m := newWire(func(_ netip.Addr, n int) (time.Duration, int) {
				if n == 5 {
					return 700 * time.Millisecond, 1
				}
				return time.Millisecond, 1
			})
			ctx, cancel := context.WithCancel(t.Context())
			began := time.Now()
			w := watch.New(ctx, watch.Config{Machine: m, Stood: func() time.Duration {
				if time.Since(began) > 5200*time.Millisecond { // while the sixth was under way
					return stood
				}
				return 0
			}})
			w.Add(watch.Spec{Target: parse(far.String()), Rank: 1, Zone: zone.Beyond})
			time.Sleep(10 * time.Second)
			w.See(func(_ time.Duration, subjects []*watch.Subject, l *blame.Ledger) {
				assert.Equal(t, late, subjects[0].Record.Counts().Late, stood)
				assert.Len(t, l.Outages(), late, stood)
			})
			cancel()
			w.Wait()
			time.Sleep(time.Minute)
		})
	}
}

// A machine that is late in answering itself is late in looking at what others answer.
func TestALateLoopbackIsNoLoss(t *testing.T) {
	for own, whose := range map[time.Duration][]zone.Zone{time.Millisecond: {zone.Beyond}, 500 * time.Millisecond: nil,
		3 * time.Second: {zone.Host}} {
		synctest.Test(t, func(t *testing.T) {
			m := newWire(func(to netip.Addr, n int) (time.Duration, int) {
				switch {
				case n != 5:
					return time.Millisecond, 1
				case to.IsLoopback():
					return own, 1
				}
				return 700 * time.Millisecond, 1
			})
			ctx, cancel := context.WithCancel(t.Context())
			w := watch.New(ctx, watch.Config{Machine: m})
			w.Add(watch.Spec{Target: parse("127.0.0.1"), Rank: 1, Zone: zone.Host})
			w.Add(watch.Spec{Target: parse(far.String()), Rank: 2, Zone: zone.Beyond})
			time.Sleep(12 * time.Second)
			w.See(func(_ time.Duration, subjects []*watch.Subject, l *blame.Ledger) {
				assert.Equal(t, len(whose), subjects[0].Record.Counts().Lost()+subjects[1].Record.Counts().Lost(), own)
				var zones []zone.Zone
				for _, o := range l.Outages() {
					zones = append(zones, o.Zone)
				}
				assert.Equal(t, whose, zones, own)
			})
			cancel()
			w.Wait()
			time.Sleep(time.Minute)
		})
	}
}

// Sequence numbers wrap after 65,536 requests; answers still find their own.
func TestSequenceWraps(t *testing.T) {
	m := newWire(func(_ netip.Addr, n int) (time.Duration, int) { return time.Duration(10+n%80) * time.Millisecond, 1 })
	sum, _, _ := counts(t, m, watch.Spec{Interval: 2 * time.Millisecond, Count: 70_000}, 145*time.Second, nil)
	assert.Equal(t, series.Counts{Received: 70_000}, sum.Counts)
	assert.Equal(t, 10*time.Millisecond, sum.Times.Least)
	assert.Equal(t, 89*time.Millisecond, sum.Times.Top)
}

// A day of ten targets, one probe a second each. Every figure is that of a brute-force count, and memory is bounded.
func TestADay(t *testing.T) {
	if testing.Short() {
		t.Skip("a day takes some seconds")
	}
	const day = 24 * 3600
	fate := func(to netip.Addr, n int) (time.Duration, int) {
		x := (n*2654435761 + int(to.As4()[3])*40503) >> 7 & 0xffff // scattered, and the same for the count
		if x%97 == 0 || n%5000 < 12 {
			return 0, 0
		}
		return time.Duration(5000+x%30000) * time.Microsecond, 1
	}
	var before, after runtime.MemStats
	synctest.Test(t, func(t *testing.T) {
		m := newWire(fate)
		ctx, cancel := context.WithCancel(t.Context())
		runtime.GC()
		runtime.ReadMemStats(&before)
		w := watch.New(ctx, watch.Config{Machine: m, Stood: func() time.Duration { return 0 }})
		for i := range 10 {
			w.Add(watch.Spec{Target: parse(fmt.Sprintf("203.0.113.%d", i+1)), Rank: i + 1, Zone: zone.Beyond, Count: day})
		}
		for range 24 {
			time.Sleep(time.Hour)
			w.See(func(time.Duration, []*watch.Subject, *blame.Ledger) {})
		}
		time.Sleep(10 * time.Second)
		runtime.GC()
		runtime.ReadMemStats(&after)
		w.See(func(_ time.Duration, subjects []*watch.Subject, l *blame.Ledger) {
			assert.NotEmpty(t, l.Outages())
			for _, s := range subjects {
				var times []time.Duration
				var runs []int
				lost := 0
				for n := range day {
					d, copies := fate(s.Address, n)
					if copies == 0 {
						lost++
						continue
					}
					times = append(times, d)
					if lost > 0 {
						runs, lost = append(runs, lost), 0
					}
				}
				slices.Sort(times)
				sum := s.Record.Summary()
				assert.Equal(t, len(times), sum.Received)
				assert.Equal(t, day-len(times), sum.Silent)
				var got []int
				for _, r := range sum.LossRuns {
					got = append(got, r.Length)
				}
				assert.Equal(t, runs, got)
				for share, have := range map[float64]time.Duration{.05: sum.Times.P05, .5: sum.Times.Median, .95: sum.Times.P95,
					.99: sum.Times.P99} {
					at := share * float64(len(times)-1)
					low, high := times[int(math.Floor(at))], times[int(math.Ceil(at))]
					assert.InDelta(t, float64(low)+(at-math.Floor(at))*float64(high-low), have, 1)
				}
			}
		})
		cancel()
		w.Wait()
		time.Sleep(time.Minute)
	})
	grown := int64(after.HeapAlloc) - int64(before.HeapAlloc)
	fmt.Printf("a day of 10 targets: %d probes, heap grown by %.1f MB, at most %.1f MB for 10 full records\n", 10*day, float64(grown)/1e6,
		10*float64(series.BytesFor(series.Keep))/1e6)
	assert.Less(t, grown, int64(10*series.BytesFor(series.Keep)+20_000_000))
}

func at(t *testing.T, name string, p simulated.Privilege) machine.Machine {
	s, err := scenario.Load(name)
	require.NoError(t, err)
	site, err := simulated.Build(s, simulated.Options{Privilege: p})
	require.NoError(t, err)
	t.Cleanup(site.Close)
	return site.Machine()
}

func TestMethodsOnASite(t *testing.T) {
	for _, c := range []struct {
		target    string
		method    watch.Method
		privilege simulated.Privilege
		want      series.Fate
		said      string
	}{
		{"bookings.kittiwake.example:443", watch.Echo, simulated.Full, series.Replied, ""},
		{"bookings.kittiwake.example:443", watch.Echo, simulated.Unprivileged, series.Replied, ""},
		{"weather.kittiwake.example:443", watch.Connect, simulated.EchoOnly, series.Replied, ""},
		{"203.0.113.80:81", watch.Connect, simulated.Full, series.Unreachable, ""},
		{"2001:db8:113::70", watch.Echo, simulated.Full, series.Replied, ""},
		{"172.27.40.99", watch.Echo, simulated.Full, series.Silent, ""},
	} {
		const probes = 5
		ctx, cancel := context.WithCancel(t.Context())
		results := make(chan watch.Result, 100)
		w := watch.New(ctx,
			watch.Config{Machine: at(t, "healthy", c.privilege), Ended: func(_ *watch.Subject, r watch.Result) { results <- r }})
		w.Add(watch.Spec{Target: parse(c.target), Method: c.method, Interval: 100 * time.Millisecond, Count: probes})
		var got []series.Fate
		for range probes {
			got = append(got, (<-results).Fate)
		}
		cancel()
		w.Wait()
		assert.Contains(t, got, c.want, "%s by %s", c.target, c.method)
		for _, fate := range got {
			assert.Contains(t, []series.Fate{c.want, series.Silent}, fate,
				"%s by %s: a machine that stands still makes answers late, and nothing else", c.target, c.method)
		}
	}
}

// A name is looked up again when its time to live has run out, and the watcher tells when it leads elsewhere.
func TestNamesMove(t *testing.T) {
	m := at(t, "target-moves", simulated.Full)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	w := watch.New(ctx, watch.Config{Machine: m})
	w.Add(watch.Spec{Target: parse("bookings.kittiwake.example"), Interval: 100 * time.Millisecond})
	w.Add(watch.Spec{Target: parse("nosuch.kittiwake.example")})
	w.Add(watch.Spec{Target: parse("weather.kittiwake.example"), Families: evidence.Families{No4: true}})
	moved := func() (moves []watch.Move) {
		w.See(func(_ time.Duration, subjects []*watch.Subject, _ *blame.Ledger) { moves = subjects[0].Moves })
		return moves
	}
	assert.Eventually(t, func() bool { return len(moved()) > 0 }, time.Minute, 100*time.Millisecond)
	w.See(func(_ time.Duration, subjects []*watch.Subject, _ *blame.Ledger) {
		assert.Equal(t, netip.MustParseAddr("203.0.113.81"), subjects[0].Moves[0].To)
		assert.Equal(t, netip.MustParseAddr("203.0.113.81"), subjects[0].Address)
		assert.Contains(t, subjects[1].Trouble, "NXDOMAIN")
		assert.Contains(t, subjects[2].Trouble, "no address", "none in the chosen family")
	})
}

// Answers to requests that were not made, from others than were asked, or long after all patience, change nothing.
func TestForeignAnswersAreIgnored(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		m := newWire(func(netip.Addr, int) (time.Duration, int) { return 0, 0 })
		ctx, cancel := context.WithCancel(t.Context())
		w := watch.New(ctx, watch.Config{Machine: m})
		w.Add(watch.Spec{Target: parse(far.String()), Count: 1})
		time.Sleep(1100 * time.Millisecond)
		forge := func(seq uint16, from netip.Addr) {
			m.arrivals <- machine.EchoArrival{Seq: seq, To: from,
				Arrival: machine.Arrival{Outcome: evidence.Answered, From: from, At: time.Now()}}
			time.Sleep(time.Millisecond)
		}
		forge(0, netip.MustParseAddr("198.51.100.66"))
		forge(77, far)
		time.Sleep(15 * time.Second)
		forge(0, far) // later than any answer is waited for
		w.See(func(_ time.Duration, subjects []*watch.Subject, _ *blame.Ledger) {
			assert.Equal(t, series.Counts{Silent: 1}, subjects[0].Record.Counts())
		})
		cancel()
		w.Wait()
		time.Sleep(time.Minute)
	})
}

// A port that goes away and comes back: what could not be sent is the host's, with its cause, and probing resumes by itself.
func TestPortGoesAndComesBack(t *testing.T) {
	s, err := scenario.Load("healthy")
	require.NoError(t, err)
	s.Timeline = scenario.Timeline{
		Events: []scenario.Event{
			{From: scenario.Duration(3 * time.Second), For: scenario.Duration(3 * time.Second), Unplug: "ticket-03/eth0"}}}
	site, err := simulated.Build(s, simulated.Options{})
	require.NoError(t, err)
	defer site.Close()
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	w := watch.New(ctx, watch.Config{Machine: site.Machine()})
	for i, a := range []string{"127.0.0.1", "172.27.40.1", "203.0.113.80"} {
		w.Add(watch.Spec{Target: parse(a), Zone: []zone.Zone{zone.Host, zone.LocalSubnet, zone.Beyond}[i], Rank: i + 1,
			Interval: 200 * time.Millisecond})
	}
	time.Sleep(10 * time.Second)
	w.See(func(now time.Duration, subjects []*watch.Subject, l *blame.Ledger) {
		unplugged := slices.DeleteFunc(slices.Clone(l.Outages()), func(o blame.Outage) bool { return o.Evidence() != "eth0 had no signal" })
		if assert.Len(t, unplugged, 1, "a machine that stands still for a second may have an outage besides: %v", l.Outages()) {
			assert.Equal(t, zone.Host, unplugged[0].Zone)
			assert.InDelta(t, 4, unplugged[0].Length().Seconds(), 2.5, "three seconds, and a busy machine's settling")
		}
		last, _ := subjects[2].Record.Last()
		assert.Equal(t, series.Replied, last.Fate)
		assert.Greater(t, last.At, now-3*time.Second)
	})
}
