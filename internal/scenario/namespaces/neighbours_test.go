//go:build linux

package namespaces_test

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/vishvananda/netlink"
	"github.com/vishvananda/netns"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/names"
	"passepartout/internal/core/neighbours"
	"passepartout/internal/machine"
	"passepartout/internal/machine/linux"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/machine/wire"
	"passepartout/internal/nap"
	"passepartout/internal/nap/naptest"
	"passepartout/internal/probe"
	"passepartout/internal/probe/neighbourwatch"
	"passepartout/internal/scenario"
	"passepartout/internal/scenario/namespaces"
)

// onGrounds runs f at the endpoint of a scenario, simulated and in namespaces.
func onGrounds(t *testing.T, change func(*scenario.Scenario), f func(t *testing.T, ground string, m machine.Machine)) {
	load := func() *scenario.Scenario {
		s, err := scenario.Load("healthy")
		require.NoError(t, err)
		change(s)
		return s
	}
	t.Run("simulated", func(t *testing.T) {
		site, err := simulated.Build(load(), simulated.Options{})
		require.NoError(t, err)
		defer site.Close()
		f(t, "simulated", site.Machine())
	})
	t.Run("namespaces", func(t *testing.T) {
		if why := namespaces.Unavailable(); why != "" {
			t.Skip(why)
		}
		lab, err := namespaces.Build(load())
		require.NoError(t, err)
		defer lab.Close()
		m, err := linux.New()
		require.NoError(t, err)
		f(t, "namespaces", lab.Inside(m))
	})
}

// asked counts the requests that leave the port, by a second port on it that hears this machine too.
type asked struct {
	mu    sync.Mutex
	times []time.Time
	bad   []netip.Addr
}

func (a *asked) listen(t *testing.T, m machine.Machine, within netip.Prefix) (stop func()) {
	port, err := m.OpenFrames(machine.FrameConfig{Interface: "eth0", Own: true})
	require.NoError(t, err)
	own := port.Hardware()
	done := make(chan struct{})
	go func() {
		defer close(done)
		for {
			frame, at, err := port.Receive()
			if err != nil {
				return
			}
			f, ok := wire.ParseFrame(frame)
			if !ok || !f.Asks.Is4() || f.Source != own {
				continue
			}
			a.mu.Lock()
			a.times = append(a.times, at)
			if !within.Contains(f.Asks) {
				a.bad = append(a.bad, f.Asks)
			}
			a.mu.Unlock()
		}
	}()
	return func() { port.Close(); <-done }
}

// most is the largest number of requests within any second.
func (a *asked) most() (most int) {
	slices.SortFunc(a.times, time.Time.Compare)
	from := 0
	for i, at := range a.times {
		for at.Sub(a.times[from]) >= time.Second {
			from++
		}
		most = max(most, i-from+1)
	}
	return most
}

// A check never sends more than fifty requests for hardware addresses in any second, whoever keeps silent and whoever asks: switches shut a
// port for not much more.
func TestPoliteToASegment(t *testing.T) {
	const bar = 50
	if why := namespaces.Unavailable(); why != "" {
		t.Skip(why)
	}
	for _, name := range []string{"healthy", "gateway-silent", "segment-isolated", "mask-too-wide"} {
		for _, as := range []namespaces.As{namespaces.Root, namespaces.EchoAllowed} {
			t.Run(name+" as "+as.String(), func(t *testing.T) {
				t.Parallel()
				s, err := scenario.Load(name)
				require.NoError(t, err)
				lab, err := namespaces.Build(s)
				require.NoError(t, err)
				defer lab.Close()
				m, err := linux.New()
				require.NoError(t, err)
				naptest.Undisturbed(t, func(truth assert.TestingT) {
					a := &asked{}
					stop := a.listen(t, lab.Inside(m), netip.MustParsePrefix("0.0.0.0/0"))
					_, errs, _, err := lab.Run(as, binary, "check", "--format", "json", s.Target)
					stop()
					require.NoError(t, err, errs)
					fmt.Printf("requests within any second of a check, %s as %s: at most %d (bar %d), %d in all\n", name, as, a.most(), bar,
						len(a.times))
					assert.LessOrEqual(truth, a.most(), bar)
					assert.NotEmpty(truth, a.times)
				})
			})
		}
	}
}

// A whole segment is asked in its time, never above its rate, and nothing outside it.
func TestAskingASegment(t *testing.T) {
	for _, c := range []struct {
		bits  int
		rate  int
		bound time.Duration
	}{{24, neighbourwatch.UsualRate, 1500 * time.Millisecond}, {20, neighbourwatch.LargeRate, 8 * time.Second}} {
		t.Run(fmt.Sprintf("a /%d", c.bits), func(t *testing.T) {
			prefix := netip.PrefixFrom(netip.MustParseAddr("172.27.40.23"), c.bits)
			onGrounds(t, func(s *scenario.Scenario) {
				s.Site.Nodes["ticket-03"].Ports["eth0"].Addresses[0] = prefix
				s.Site.Segments["pier"].Switch = ""
			}, func(t *testing.T, ground string, m machine.Machine) {
				e, err := m.Read(t.Context())
				require.NoError(t, err)
				ctx, cancel := context.WithCancel(t.Context())
				p, err := neighbourwatch.Start(ctx, neighbourwatch.Config{Machine: m, Interface: "eth0", Endpoint: e, Quiet: true})
				require.NoError(t, err)
				a := &asked{}
				stop := a.listen(t, m, prefix.Masked())
				require.NoError(t, p.Ask(ctx, 0))
				g := p.See().Progress
				stop()
				cancel()
				p.Wait()
				a.mu.Lock()
				defer a.mu.Unlock()
				fmt.Printf("a /%d asked, %s: %d addresses in %.2f s (bar %.1f s), at most %d requests within any second (stated: %d), "+
					"%d answered, %d requests outside the segment\n",
					c.bits, ground, g.Asked, g.Took.Seconds(), c.bound.Seconds(), a.most(), c.rate, g.Answered, len(a.bad))
				assert.Equal(t, 7, g.Answered)
				assert.Empty(t, a.bad)
				assert.LessOrEqual(t, a.most(), c.rate+8, "the system's own questions for its neighbours among them")
				assert.Less(t, g.Took, 3*c.bound, "generously: machines are noisy")
			})
		})
	}
}

// Without frames the system asks on our behalf: no more than 128 at a time.
func TestAskingASegmentUnprivileged(t *testing.T) {
	onGrounds(t, func(*scenario.Scenario) {}, func(t *testing.T, ground string, m machine.Machine) {
		m = withoutFrames{m}
		e, err := m.Read(t.Context())
		require.NoError(t, err)
		ctx, cancel := context.WithCancel(t.Context())
		p, err := neighbourwatch.Start(ctx, neighbourwatch.Config{Machine: m, Interface: "eth0", Endpoint: e, Quiet: true})
		require.NoError(t, err)
		require.NoError(t, p.Ask(ctx, 0))
		g := p.See().Progress
		cancel()
		p.Wait()
		fmt.Printf("a /24 asked without frames, %s: %d addresses in %.2f s (bar 3 s), %d answered\n", ground, g.Asked, g.Took.Seconds(),
			g.Answered)
		assert.Equal(t, 7, g.Answered)
		assert.Less(t, g.Took, 9*time.Second, "generously")
	})
}

type withoutFrames struct{ machine.Machine }

func (w withoutFrames) Permissions() machine.Permissions {
	p := w.Machine.Permissions()
	p.Frames = machine.Permission{Why: "needs permission to send raw frames"}
	return p
}

func (w withoutFrames) OpenFrames(machine.FrameConfig) (machine.FrameSocket, error) {
	return nil, fmt.Errorf("frames: %w", context.Canceled)
}

// Names, the switch, a taken address and one that is free, on a kernel as on the simulated ground.
func TestNeighboursOnBothGrounds(t *testing.T) {
	t.Parallel()
	onGrounds(t, func(*scenario.Scenario) {}, func(t *testing.T, ground string, m machine.Machine) {
		e, err := m.Read(t.Context())
		require.NoError(t, err)
		e.Resolvers = e.Resolvers[:0] // in namespaces this process sees the files of the machine that runs the tests
		ctx, cancel := context.WithCancel(t.Context())
		p, err := neighbourwatch.Start(ctx, neighbourwatch.Config{Machine: m, Interface: "eth0", Endpoint: e})
		require.NoError(t, err)
		defer func() { cancel(); p.Wait() }()
		require.NoError(t, p.Ask(ctx, 0))
		printer := netip.MustParseAddr("172.27.40.50")
		assert.Eventually(t, func() bool {
			for _, r := range p.See().Rows {
				if r.Address == printer && len(r.Names) > 0 {
					return r.Names[0] == neighbours.Name{Text: "label-printer.local", Source: neighbours.ByMulticastDNS}
				}
			}
			return false
		}, 5*time.Second, 20*time.Millisecond)
		assert.Eventually(t, func() bool { s := p.See().Switch; return s != nil && s.Name == "pier-switch-1" && s.VLAN == 40 },
			4*time.Second, 20*time.Millisecond)
		taken := p.Try(ctx, printer)
		assert.NotEmpty(t, taken.Holders)
		free := p.Try(ctx, netip.MustParseAddr("172.27.40.90"))
		assert.Empty(t, free.Holders)
		assert.True(t, free.Over)
		own := p.Try(ctx, netip.MustParseAddr("172.27.40.23"))
		assert.Empty(t, own.Holders, "this machine itself is nobody else")
	})
}

// inNamespace opens a machine's sockets in a namespace.
type inNamespace struct {
	machine.Machine
	ns netns.NsHandle
}

func (i inNamespace) OpenDatagram(c machine.DatagramConfig) (port machine.DatagramSocket, err error) {
	if failed := namespaces.In(i.ns, func() error { port, err = i.Machine.OpenDatagram(c); return nil }); failed != nil {
		return nil, failed
	}
	return port, err
}

// Name servers with delays that are known: their order, and how near the times come.
func TestComparisonAgainstKnownDelays(t *testing.T) {
	if why := namespaces.Unavailable(); why != "" {
		t.Skip(why)
	}
	ns, err := namespaces.New()
	require.NoError(t, err)
	defer ns.Close()
	delays := map[netip.Addr]time.Duration{netip.MustParseAddr("127.0.1.1"): 12 * time.Millisecond,
		netip.MustParseAddr("127.0.1.2"): 2 * time.Millisecond, netip.MustParseAddr("127.0.1.3"): 30 * time.Millisecond}
	order := []netip.Addr{netip.MustParseAddr("127.0.1.1"), netip.MustParseAddr("127.0.1.2"), netip.MustParseAddr("127.0.1.3")}
	m, err := linux.New()
	require.NoError(t, err)
	trial := names.NewTrial(order)
	err = namespaces.In(ns, func() error {
		lo, err := netlink.LinkByName("lo")
		if err != nil {
			return err
		}
		return netlink.LinkSetUp(lo)
	})
	require.NoError(t, err)
	for server, delay := range delays {
		var conn net.PacketConn
		require.NoError(t, namespaces.In(ns, func() (err error) {
			conn, err = net.ListenPacket("udp", netip.AddrPortFrom(server, 53).String())
			return err
		}))
		defer conn.Close()
		go func() {
			_ = (&dns.Server{PacketConn: conn, Handler: dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
				due := time.Now().Add(delay)
				a := new(dns.Msg).SetReply(q)
				a.Answer = []dns.RR{
					&dns.A{Hdr: dns.RR_Header{Name: q.Question[0].Name, Rrtype: dns.TypeA, Class: dns.ClassINET, Ttl: 60},
						A: net.IPv4(203, 0, 113, 80)}}
				nap.Until(due)
				_ = w.WriteMsg(a)
			})}).ActivateAndServe()
		}()
	}
	var mu sync.Mutex
	probe.Compare(t.Context(), inNamespace{m, ns},
		probe.TrialQuestion{Servers: order, Names: []string{"a.kittiwake.example", "b.kittiwake.example"}, Rounds: 40,
			Pause: 2 * time.Millisecond}, func(l evidence.Lookup) {
			mu.Lock()
			defer mu.Unlock()
			trial.Add(l)
		})
	for _, x := range trial.Tallies {
		typical, ok := x.Warm.Typical()
		require.True(t, ok)
		off := typical - delays[x.Server]
		fmt.Printf("name server with a delay of %v: typical %v, off by %v (bar 1 ms), worst %v; %d of %d answered\n", delays[x.Server],
			typical.Round(time.Microsecond), off.Round(time.Microsecond), x.Warm.Times[len(x.Warm.Times)-1].Round(time.Microsecond),
			x.Warm.Answered, x.Warm.Asked)
		assert.InDelta(t, 0, off.Seconds(), 0.010, "generously: machines are noisy")
	}
	a := trial.Advice()
	assert.Equal(t, order[1], a.Best, a.Words)
	fmt.Println("advice:", a.Words)
}
