package acting_test

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/acting"
	"passepartout/internal/core/change"
	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/machine"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/scenario"
)

// obedient is a machine that does what it is told, as a kernel would, until it is to refuse.
type obedient struct {
	machine.Machine
	mu       sync.Mutex
	now      change.Settings
	refuses  func(n int, o change.Op) error // the nth thing that it is told
	told     int
	deaf     bool // it takes what it is told, and does nothing
	unread   bool
	answered []change.Op
}

func (m *obedient) Read(context.Context) (*endpoint.Endpoint, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.unread {
		return nil, errors.New("netlink is gone")
	}
	e := &endpoint.Endpoint{Search: m.now.Search}
	for _, l := range m.now.Links {
		i := endpoint.Interface{Name: l.Interface, Up: l.Up, MTU: l.MTU}
		for _, a := range m.now.Addresses {
			if a.Interface == l.Interface {
				i.Addresses = append(i.Addresses, endpoint.Address{Prefix: a.Prefix})
			}
		}
		e.Interfaces = append(e.Interfaces, i)
	}
	for _, r := range m.now.Routes {
		e.Routes = append(e.Routes,
			endpoint.Route{To: r.To, Via: r.Via, Interface: r.Interface, Source: r.Source, Metric: r.Metric, Protocol: r.Protocol,
				Verdict: endpoint.Forward})
	}
	for _, a := range m.now.Resolvers {
		e.Resolvers = append(e.Resolvers, endpoint.Resolver{Address: a})
	}
	return e, nil
}

func (m *obedient) Do(_ context.Context, o change.Op) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.told++
	if m.refuses != nil {
		if err := m.refuses(m.told, o); err != nil {
			return err
		}
	}
	if m.deaf {
		return nil
	}
	next, err := m.now.Apply(o)
	if err == nil {
		m.now = next
		m.answered = append(m.answered, o)
	}
	return err
}

func (m *obedient) is() change.Settings {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.now.Clone()
}

// counter gives a machine, the settings it has, and those of a change to it that takes five steps.
func counter(t *testing.T) (m *obedient, from, to change.Settings, steps []change.Op) {
	at, via := netip.MustParsePrefix, netip.MustParseAddr
	from, err := change.Change{}.To(change.Settings{Links: []change.Link{{Interface: "eth0", Up: true, MTU: 1500}},
		Addresses: []change.Address{{Interface: "eth0", Prefix: at("172.27.40.23/24")}},
		Routes:    []change.Route{{To: at("0.0.0.0/0"), Via: via("172.27.40.1"), Interface: "eth0"}},
		Resolvers: []netip.Addr{via("172.27.40.2")}})
	require.NoError(t, err)
	p, err := change.Work(change.Change{Set: &change.Static{Interface: "eth0", Address: at("172.27.41.9/24"), Gateway: via("172.27.41.1"),
		Resolvers: []netip.Addr{via("172.27.41.2")}}}, from, change.Known{})
	require.NoError(t, err)
	for _, s := range p.Steps {
		steps = append(steps, s.Op)
	}
	require.Len(t, steps, 5)
	return &obedient{now: from.Clone()}, from, p.To, steps
}

// Whatever fails, and at whichever step: what was done before it is taken back, and what could not be taken back is said.
func TestAFailureAtAnyStepIsTakenBack(t *testing.T) {
	broken := errors.New("the kernel refuses")
	for at := 1; at <= 5; at++ {
		for name, c := range map[string]struct {
			fail func(m *obedient, n int)
			says string
		}{
			"refused":     {func(m *obedient, n int) { m.refuses = once(n, broken) }, "the kernel refuses"},
			"no effect":   {func(m *obedient, n int) { m.refuses = deafAt(m, n) }, "something else sets it"},
			"permission":  {func(m *obedient, n int) { m.refuses = once(n, os.ErrPermission) }, "permission denied"},
			"twice":       {func(m *obedient, n int) { m.refuses = once(n, broken) }, "the kernel refuses"},
			"by others":   {func(m *obedient, n int) { m.refuses = meddle(m, n, broken) }, "the kernel refuses"},
			"ended early": {func(m *obedient, n int) { m.refuses = once(n, context.Canceled) }, "canceled"},
		} {
			t.Run(fmt.Sprintf("%s at step %d", name, at), func(t *testing.T) {
				synctest.Test(t, func(t *testing.T) {
					m, from, to, steps := counter(t)
					c.fail(m, at)
					var outcomes []error
					done, err := acting.Follow(t.Context(), m, steps, func(_ int, err error) { outcomes = append(outcomes, err) })
					require.ErrorContains(t, err, c.says)
					assert.Equal(t, at-1, done)
					assert.Len(t, outcomes, at)
					m.mu.Lock()
					m.refuses, m.deaf = nil, false
					m.mu.Unlock()
					others, err := acting.TakeBack(t.Context(), m, acting.Order{From: from, To: to, Steps: steps}, done)
					require.NoError(t, err)
					assert.Empty(t, others)
					now := m.is()
					if name == "by others" { // theirs stays
						assert.Contains(t, now.Addresses, change.Address{Interface: "eth0", Prefix: netip.MustParsePrefix("192.0.2.9/32")})
						now.Addresses = now.Addresses[:0:0]
						for _, a := range m.is().Addresses {
							if a.Prefix.Addr() != netip.MustParseAddr("192.0.2.9") {
								now.Addresses = append(now.Addresses, a)
							}
						}
					}
					assert.True(t, from.Equal(&now), "%+v\n%+v", from, now)
				})
			})
		}
	}
}

// The same done by a hand: each failure at each step is taken back, now or when that can be, and the journal says so.
func TestAFailureInAHand(t *testing.T) {
	broken := errors.New("the kernel refuses")
	for at := 1; at <= 5; at++ {
		for name, fail := range map[string]func(m *obedient, n int){
			"refused":    func(m *obedient, n int) { m.refuses = once(n, broken) },
			"no effect":  func(m *obedient, n int) { m.refuses = deafAt(m, n) },
			"permission": func(m *obedient, n int) { m.refuses = once(n, os.ErrPermission) },
			"the interface goes, and returns": func(m *obedient, n int) {
				var since time.Time
				m.refuses = func(told int, _ change.Op) error {
					if told == n {
						since = time.Now()
					}
					if !since.IsZero() && time.Since(since) < 20*time.Second {
						return errors.New("no such device")
					}
					return nil
				}
			},
			"taking back fails at first": func(m *obedient, n int) {
				m.refuses = func(told int, _ change.Op) error {
					if told >= n && told < n+5 {
						return broken
					}
					return nil
				}
			},
			"nothing can be read for a while": func(m *obedient, n int) {
				m.refuses = func(told int, _ change.Op) error {
					if told == n {
						m.unread = true
						time.AfterFunc(10*time.Second, func() { m.mu.Lock(); m.unread = false; m.mu.Unlock() })
					}
					return nil
				}
			},
		} {
			t.Run(fmt.Sprintf("%s at step %d", name, at), func(t *testing.T) {
				journal := filepath.Join(t.TempDir(), "changes.jsonl")
				synctest.Test(t, func(t *testing.T) {
					m, from, to, steps := counter(t)
					fail(m, at)
					tell, news, ended := served(t, m, journal)
					order, err := json.Marshal(map[string]any{"order": acting.Order{From: from, To: to, Steps: steps, Trial: time.Minute}})
					require.NoError(t, err)
					_, err = tell.Write(append(order, '\n'))
					require.NoError(t, err)
					n := <-news
					for n.Is != acting.Ended {
						n = <-news
					}
					assert.Equal(t, acting.Failed, n.Outcome)
					tell.Close()
					require.NoError(t, <-ended)
					now := m.is()
					assert.True(t, from.Equal(&now), "%+v\n%+v", from, now)
					entries, _, err := acting.JournalAt(journal).Read()
					require.NoError(t, err)
					require.Len(t, entries, 1)
					assert.Equal(t, acting.Failed, entries[0].Outcome)
					assert.Equal(t, n.Says, entries[0].Says)
					assert.Contains(t, n.Says, "what was done before it is taken back")
					assert.NotContains(t, n.Says, "NOT")
				})
			})
		}
	}
}

func once(n int, err error) func(int, change.Op) error {
	return func(told int, _ change.Op) error {
		if told == n {
			return err
		}
		return nil
	}
}

// deafAt takes the nth step, and does nothing.
func deafAt(m *obedient, n int) func(int, change.Op) error {
	return func(told int, _ change.Op) error {
		m.deaf = told == n
		return nil
	}
}

// meddle fails at the nth step, when somebody else has given the machine another address.
func meddle(m *obedient, n int, err error) func(int, change.Op) error {
	return func(told int, _ change.Op) error {
		if told != n {
			return nil
		}
		m.now.Addresses = append(m.now.Addresses, change.Address{Interface: "eth0", Prefix: netip.MustParsePrefix("192.0.2.9/32")})
		return err
	}
}

// served gives what to tell a hand at work on a machine, and what it says.
func served(t *testing.T, m acting.Machine, journal string) (tell io.WriteCloser, news chan acting.News, ended chan error) {
	in, tell := io.Pipe()
	hears, out := io.Pipe()
	news, ended = make(chan acting.News, 20), make(chan error, 1)
	go func() {
		for d := json.NewDecoder(hears); ; {
			var n acting.News
			if d.Decode(&n) != nil {
				close(news)
				return
			}
			news <- n
		}
	}()
	go func() { ended <- acting.Serve(t.Context(), m, acting.JournalAt(journal), in, out); out.Close() }()
	return tell, news, ended
}

// A change is held until somebody says what becomes of it, or its time is over.
func TestTheGuard(t *testing.T) {
	const trial = 30 * time.Second
	for _, c := range []struct {
		name string
		say  string
		hang bool // nobody speaks any more, and the pipe stays open
		gone time.Duration
		kept bool
		at   time.Duration // when it has done it
		fail func(m *obedient)

		outcome acting.Outcome // "": by kept
		says    string
	}{
		{name: "kept", say: `{"word":"keep"}`, kept: true},
		{name: "taken back by hand", say: `{"word":"back"}`, says: "by hand"},
		{name: "a step is not done", hang: true, fail: func(m *obedient) { m.refuses = once(3, errors.New("the kernel refuses")) },
			outcome: acting.Failed, says: "the kernel refuses; what was done"},
		{name: "other words are none", say: "what?\n{\"word\":\"perhaps\"}\n{\"word\":\"keep\"}", kept: true},
		{name: "nobody speaks", hang: true, at: trial, says: "nobody kept it"},
		{name: "the program is gone", at: trial, says: "nobody kept it"},
		{name: "an interface that returns", gone: 90 * time.Second, at: 90 * time.Second},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				m, from, to, steps := counter(t)
				if c.fail != nil {
					c.fail(m)
				}
				began := time.Now()
				journal := filepath.Join(dir, "changes.jsonl")
				tell, news, ended := served(t, m, journal)
				give(t, tell, acting.Order{From: from, To: to, Steps: steps, Trial: trial, Who: "counter"})
				assert.Equal(t, acting.Begun, (<-news).Is)
				n := <-news
				for n.Is == acting.Stepped {
					n = <-news
				}
				if c.fail == nil {
					assert.Equal(t, acting.Trying, n.Is)
					assert.Equal(t, began.Add(trial), n.Until.Local())
				}
				if c.gone > 0 {
					m.refuses = func(int, change.Op) error {
						if time.Since(began) < c.gone {
							return errors.New("no such device")
						}
						return nil
					}
				}
				if c.say != "" {
					_, err := io.WriteString(tell, c.say+"\n")
					require.NoError(t, err)
				} else if !c.hang {
					tell.Close()
				}
				for n.Is != acting.Ended {
					n = <-news
				}
				assert.InDelta(t, c.at.Seconds(), time.Since(began).Seconds(), 1)
				tell.Close()
				require.NoError(t, <-ended)
				now, want := m.is(), from
				if c.kept {
					want = to
				}
				assert.True(t, want.Equal(&now), "%+v", now)
				entries, damaged, err := acting.JournalAt(journal).Read()
				require.NoError(t, err)
				assert.Zero(t, damaged)
				require.Len(t, entries, 1)
				outcome := cmp.Or(c.outcome, map[bool]acting.Outcome{true: acting.Kept, false: acting.TakenBack}[c.kept])
				assert.Equal(t, outcome, entries[0].Outcome)
				assert.Equal(t, outcome, n.Outcome)
				assert.Contains(t, entries[0].Says, c.says)
				assert.Equal(t, "counter", entries[0].Who)
			})
		})
	}
}

// A hand does one change after the other, nothing over settings that are not what they were, and takes back what is broken off.
func TestOneChangeAfterTheOther(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		m, from, to, steps := counter(t)
		h := acting.Within(t.Context(), m)
		defer h.Close()
		last := func() (n acting.News) {
			for n = range h.News() {
				if n.Is == acting.Ended || n.Is == acting.Refused {
					return n
				}
			}
			return n
		}
		require.NoError(t, h.Do(acting.Order{From: from, To: to, Steps: steps}))
		assert.Equal(t, acting.Kept, last().Outcome)
		require.NoError(t, h.Do(acting.Order{From: from, To: to, Steps: steps}))
		n := last()
		assert.Equal(t, acting.Refused, n.Is)
		assert.Equal(t, change.ErrStale.Error(), n.Says)
		way, err := change.Way(to, from)
		require.NoError(t, err)
		require.NoError(t, h.Do(acting.Order{From: to, To: from, Steps: way, Undoes: 1}))
		assert.Equal(t, acting.TakenBack, last().Outcome)
		now := m.is()
		assert.True(t, from.Equal(&now), "%+v", now)

		m.told = 0
		m.refuses = deafAt(m, 2) // it is waited for
		require.NoError(t, h.Do(acting.Order{From: from, To: to, Steps: steps, Trial: time.Minute}))
		time.Sleep(time.Second)
		m.mu.Lock()
		m.refuses, m.deaf = nil, false
		m.mu.Unlock()
		require.NoError(t, h.Back())
		n = last()
		assert.Equal(t, acting.TakenBack, n.Outcome)
		assert.Equal(t, "taken back by hand", n.Says)
		now = m.is()
		assert.True(t, from.Equal(&now), "%+v", now)
	})
}

// A hand within a program that ends takes back at once what is on trial.
func TestAProgramThatEndsWaitsForNoTrial(t *testing.T) {
	m, from, to, steps := counter(t)
	h := acting.Within(t.Context(), m)
	require.NoError(t, h.Do(acting.Order{From: from, To: to, Steps: steps, Trial: time.Hour}))
	for n := range h.News() {
		if n.Is == acting.Trying {
			break
		}
	}
	began := time.Now()
	_ = h.Close()
	assert.Less(t, time.Since(began), 10*time.Second)
	now := m.is()
	assert.True(t, from.Equal(&now), "%+v", now)
}

// A journal that is damaged loses nothing: what can be read is, what cannot is counted and stays.
func TestADamagedJournal(t *testing.T) {
	path := filepath.Join(t.TempDir(), "state", "changes.jsonl")
	j := acting.JournalAt(path)
	_, from, to, steps := counter(t)
	for id := range 3 {
		require.NoError(t, j.Append(acting.Entry{ID: id + 1, At: time.Now(), Outcome: acting.OnTrial, From: from, To: to, Steps: steps}))
	}
	require.NoError(t, j.Append(acting.Entry{ID: 2, Outcome: acting.Kept}))
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	lines := strings.SplitAfter(string(text), "\n")
	require.NoError(t,
		os.WriteFile(path, []byte(lines[0]+"{\"schema\":\"passepartout.jour\n\x00\xff\n"+lines[1]+lines[3]+lines[2][:len(lines[2])/2]),
			0o600))
	entries, damaged, err := j.Read()
	require.NoError(t, err)
	assert.Equal(t, 3, damaged)
	require.Len(t, entries, 2)
	assert.Equal(t, []acting.Outcome{acting.OnTrial, acting.Kept}, []acting.Outcome{entries[0].Outcome, entries[1].Outcome})
	assert.True(t, from.Equal(&entries[1].From))
	next, err := j.Next()
	require.NoError(t, err)
	assert.Equal(t, 3, next)
	require.NoError(t, j.Append(acting.Entry{ID: 9, Outcome: acting.Failed, Says: "after a line that was cut short"}))
	entries, _, err = j.Read()
	require.NoError(t, err)
	assert.Equal(t, 9, entries[len(entries)-1].ID)
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

func TestWhatCannotBeReadIsNotTold(t *testing.T) {
	m, from, to, steps := counter(t)
	m.unread = true
	_, err := acting.TakeBack(t.Context(), m, acting.Order{From: from, To: to, Steps: steps}, 2)
	require.ErrorContains(t, err, "netlink is gone")
	assert.Empty(t, m.answered)
}

// A lease that a change stands on is taken before its first step, kept and renewed while the change is, and given back with it.
func TestALeaseIsKeptWithItsChange(t *testing.T) {
	for _, c := range []struct {
		name string
		do   func(t *testing.T, tell io.WriteCloser)
		is   acting.Happened
		says string
	}{
		{"taken back in its trial", func(t *testing.T, tell io.WriteCloser) { word(t, tell, "back") }, acting.Ended, "by hand"},
		{"kept, until nobody speaks", func(t *testing.T, tell io.WriteCloser) { word(t, tell, "keep"); tell.Close() }, acting.Over,
			"the lease is given back"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			m := at(t, "self-assigned-address")
			terms, err := acting.Offer(t.Context(), m, "eth0", netip.Addr{})
			require.NoError(t, err)
			assert.Equal(t, "172.27.40.2", terms.Server.String())
			e, err := m.Read(t.Context())
			require.NoError(t, err)
			from := change.Of(e)
			ch := change.Lease("eth0", terms, from)
			p, err := change.Work(ch, from, change.Known{})
			require.NoError(t, err)
			tell, news, ended := served(t, m, filepath.Join(t.TempDir(), "changes.jsonl"))
			give(t, tell, acting.Order{From: p.From, To: p.To, Steps: p.Ops(), Trial: time.Minute, Lease: acting.Leased(ch)})
			n := <-news
			for n.Is == acting.Begun || n.Is == acting.Stepped {
				n = <-news
			}
			require.Equal(t, acting.Trying, n.Is, n.Says)
			now, err := acting.Settings(t.Context(), m)
			require.NoError(t, err)
			assert.Equal(t, []netip.Prefix{terms.Prefix()}, now.On("eth0", false))
			c.do(t, tell)
			for n = range news {
				if n.Is == c.is {
					break
				}
			}
			assert.Equal(t, acting.TakenBack, n.Outcome)
			assert.Contains(t, n.Says, c.says)
			now, err = acting.Settings(t.Context(), m)
			require.NoError(t, err)
			assert.True(t, from.Equal(&now), "%+v\n%+v", from, now)
			tell.Close()
			assert.NoError(t, <-ended)
		})
	}
}

// at is the simulated machine of a scenario.
func at(t *testing.T, name string) acting.Machine {
	s, err := scenario.Load(name)
	require.NoError(t, err)
	site, err := simulated.Build(s, simulated.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { site.Close() })
	return site.Machine().(acting.Machine)
}

// give tells a hand an order.
func give(t *testing.T, tell io.Writer, o acting.Order) {
	order, err := json.Marshal(map[string]any{"order": o})
	require.NoError(t, err)
	_, err = tell.Write(append(order, '\n'))
	require.NoError(t, err)
}

func word(t *testing.T, tell io.Writer, w string) {
	_, err := fmt.Fprintf(tell, "{\"word\":%q}\n", w)
	require.NoError(t, err)
}

// What cannot be leased leaves everything as it is, and says why.
func TestALeaseThatDoesNotCome(t *testing.T) {
	for name, c := range map[string]struct {
		alter func(*dhcp.Terms)
		says  string
	}{
		"something else is offered by now": {func(x *dhcp.Terms) { x.Routers = nil }, "offers something else by now"},
		"nobody else's offer is taken": {func(x *dhcp.Terms) { x.Server = netip.MustParseAddr("172.27.40.9") },
			"172.27.40.9 offered a lease on eth0 within"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			m := at(t, "no-address")
			terms, err := acting.Offer(t.Context(), m, "eth0", netip.Addr{})
			require.NoError(t, err)
			c.alter(&terms)
			from, err := acting.Settings(t.Context(), m)
			require.NoError(t, err)
			ch := change.Lease("eth0", terms, from)
			p, err := change.Work(ch, from, change.Known{})
			require.NoError(t, err)
			h := acting.Within(t.Context(), m)
			require.NoError(t, h.Do(acting.Order{From: p.From, To: p.To, Steps: p.Ops(), Lease: acting.Leased(ch)}))
			var last acting.News
			for n := range h.News() {
				if last = n; n.Is == acting.Ended {
					break
				}
			}
			assert.Equal(t, acting.Failed, last.Outcome)
			assert.Contains(t, last.Says, c.says)
			assert.Contains(t, last.Says, "nothing was changed")
			now, err := acting.Settings(t.Context(), m)
			require.NoError(t, err)
			assert.True(t, from.Equal(&now))
			_ = h.Close()
		})
	}
}

// manager is a machine whose interface somebody manages: told what to keep, he sets it himself, with a metric of his own.
type manager struct {
	*obedient
	sets change.Settings
}

func (m manager) Read(ctx context.Context) (*endpoint.Endpoint, error) {
	e, err := m.obedient.Read(ctx)
	if err == nil {
		e.Stored = m.is().Stored
	}
	return e, err
}

func (m manager) Do(ctx context.Context, o change.Op) error {
	err := m.obedient.Do(ctx, o)
	if o.Do == change.Store && err == nil {
		m.mu.Lock()
		defer m.mu.Unlock()
		m.now.Addresses, m.now.Routes = m.sets.Addresses, m.sets.Routes
	}
	return err
}

// What a manager has done when he was told is not done again; what came of it is what is written down, and taken back.
func TestAManagerDoesItHimself(t *testing.T) {
	kept := endpoint.Stored{Interface: "eth0", Manager: "networkd", Path: "/etc/systemd/network/x.network.d/90-passepartout.conf"}
	m, from, _, _ := counter(t)
	from.Stored = []endpoint.Stored{kept}
	m.now = from.Clone()
	p, err := change.Work(change.Change{Set: &change.Static{Interface: "eth0", Address: netip.MustParsePrefix("172.27.41.9/24"),
		Gateway: netip.MustParseAddr("172.27.41.1"), ForGood: true}}, from, change.Known{})
	require.NoError(t, err)
	sets := p.To.Clone()
	sets.Routes[0].Metric, sets.Routes[0].Protocol = 1024, 4
	managed := manager{m, sets}
	path := filepath.Join(t.TempDir(), "changes.jsonl")
	tell, news, ended := served(t, managed, path)
	give(t, tell, acting.Order{From: p.From, To: p.To, Steps: p.Ops()})
	n := <-news
	for n.Is != acting.Ended {
		n = <-news
	}
	require.Equal(t, acting.Kept, n.Outcome, n.Says)
	assert.Equal(t, 1, m.told, "the manager alone was told: %v", m.answered)
	entries, _, err := acting.JournalAt(path).Read()
	require.NoError(t, err)
	assert.Equal(t, 1024, entries[0].To.Routes[0].Metric)
	now := m.is()
	target, others := change.TakeBack(now, entries[0].From, entries[0].To)
	assert.Empty(t, others)
	assert.Empty(t, target.Stored[0].Part)
	tell.Close()
	assert.NoError(t, <-ended)
}
