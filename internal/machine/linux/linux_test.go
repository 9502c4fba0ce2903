//go:build linux

package linux_test

import (
	"context"
	"fmt"
	"io"
	"net/netip"
	"os"
	"slices"
	"sync"
	"testing"
	"time"
	"unsafe"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/series"
	"passepartout/internal/core/target"
	"passepartout/internal/machine"
	"passepartout/internal/machine/linux"
	"passepartout/internal/machine/machinetest"
	"passepartout/internal/probe/watch"
	"passepartout/internal/scenario"
	"passepartout/internal/scenario/namespaces"
)

// lab builds a site in namespaces and gives the live machine, to be used on its endpoint.
func lab(t *testing.T, name string) (*namespaces.Lab, machine.Machine) {
	if why := namespaces.Unavailable(); why != "" {
		t.Skip(why)
	}
	s, err := scenario.Load(name)
	require.NoError(t, err)
	return labOf(t, s)
}

func labOf(t *testing.T, s *scenario.Scenario) (*namespaces.Lab, machine.Machine) {
	if why := namespaces.Unavailable(); why != "" {
		t.Skip(why)
	}
	l, err := namespaces.Build(s)
	require.NoError(t, err)
	t.Cleanup(l.Close)
	m, err := linux.New()
	require.NoError(t, err)
	return l, m
}

func on(t *testing.T, l *namespaces.Lab, f func()) {
	require.NoError(t, l.On("ticket-03", func() error { f(); return nil }))
}

func TestConformance(t *testing.T) {
	l, m := lab(t, "healthy")
	machinetest.Run(t, machinetest.Ground{Machine: l.Inside(m), Do: func(f func()) { on(t, l, f) }, Switch: func(t *testing.T, up bool) {
		require.NoError(t, l.On("ticket-03", func() error { return switchPort("eth0", up) }))
	}})
}

func switchPort(name string, up bool) error {
	link, err := netlink.LinkByName(name)
	if err != nil {
		return err
	}
	if up {
		return netlink.LinkSetUp(link)
	}
	return netlink.LinkSetDown(link)
}

func TestThisMachineCanBeRead(t *testing.T) {
	m, err := linux.New()
	require.NoError(t, err)
	e, err := m.Read(t.Context())
	require.NoError(t, err)
	assert.NotEmpty(t, e.Interfaces)
	p := m.Permissions()
	for _, x := range []machine.Permission{p.Echo, p.Frames} {
		assert.Equal(t, x.Granted, x.Why == "", "withheld with its reason, or granted")
		assert.Equal(t, x.Granted, x.How != "")
	}
}

func TestWatchTellsOfChangesAndOfAPortThatGoes(t *testing.T) {
	l, m := lab(t, "healthy")
	ctx, cancel := context.WithCancel(t.Context())
	var changes <-chan struct{}
	on(t, l, func() {
		var err error
		changes, err = m.Watch(ctx)
		require.NoError(t, err)
	})
	told := func(what string) {
		select {
		case <-changes:
		case <-time.After(3 * time.Second):
			t.Fatal("no word of " + what)
		}
		for quiet := false; !quiet; { // a change makes several notifications
			select {
			case <-changes:
			case <-time.After(50 * time.Millisecond):
				quiet = true
			}
		}
	}
	on(t, l, func() {
		link, err := netlink.LinkByName("eth0")
		require.NoError(t, err)
		addr, err := netlink.ParseAddr("172.27.40.77/24")
		require.NoError(t, err)
		require.NoError(t, netlink.AddrAdd(link, addr))
	})
	told("an address")
	on(t, l, func() {
		e, err := m.Read(t.Context())
		require.NoError(t, err)
		assert.True(t, e.Owns(netip.MustParseAddr("172.27.40.77")))
		link, err := netlink.LinkByName("eth0")
		require.NoError(t, err)
		require.NoError(t, netlink.LinkDel(link))
	})
	told("a port that went")
	on(t, l, func() {
		e, err := m.Read(t.Context())
		require.NoError(t, err)
		_, ok := e.Interface("eth0")
		assert.False(t, ok)
		_, err = m.Route(t.Context(), netip.MustParseAddr("203.0.113.80"), "eth0")
		assert.ErrorIs(t, err, machine.ErrGone)
	})
	cancel()
	for range changes { // closed at the end
	}
}

func TestFilterOnThisMachineIsToldFromOneElsewhere(t *testing.T) {
	l, m := lab(t, "host-firewall")
	on(t, l, func() {
		port, err := m.OpenDatagram(machine.DatagramConfig{To: netip.MustParseAddrPort("172.27.40.2:53")})
		require.NoError(t, err)
		defer port.Close()
		_, err = port.Send([]byte("x"))
		r := machine.LocalError(err)
		assert.True(t, r.Forbidden, "%v", err)
	})
	l, m = lab(t, "prohibited-by-policy")
	on(t, l, func() {
		ctx, cancel := context.WithTimeout(t.Context(), 3*time.Second)
		defer cancel()
		_, r := m.Connect(ctx, machine.ConnectConfig{To: netip.MustParseAddrPort("203.0.113.80:443")})
		assert.Equal(t, evidence.Unreachable, r.Outcome)
		assert.Equal(t, evidence.Prohibited, r.Why)
		assert.Equal(t, "198.51.100.1", r.From.String())
		assert.Equal(t, [2]uint8{3, 13}, [2]uint8{r.ICMPType, r.ICMPCode})
	})
	l, m = lab(t, "route-blocked")
	on(t, l, func() {
		r, err := m.Route(t.Context(), netip.MustParseAddr("203.0.113.80"), "")
		require.NoError(t, err)
		assert.Equal(t, "blackhole", r.Verdict.String())
	})
}

// TestRoundTripAgainstCapture compares measured round trips with those that a packet socket on the same port saw, by the kernel's own
// stamps: 50 targets, five probes a second each.
func TestRoundTripAgainstCapture(t *testing.T) {
	const targets, each = 50, 40
	for _, busy := range []bool{false, true} {
		name := map[bool]string{false: "idle", true: "both cores busy"}[busy]
		t.Run(name, func(t *testing.T) {
			s, err := scenario.Load("healthy")
			require.NoError(t, err)
			printer := s.Site.Nodes["label-printer"].Ports["eth0"]
			first := netip.MustParseAddr("172.27.40.200")
			for a := first; len(printer.Addresses) <= targets; a = a.Next() {
				printer.Addresses = append(printer.Addresses, netip.PrefixFrom(a, 24))
			}
			l, m := labOf(t, s)
			var capture *os.File
			var w *watch.Watcher
			measured := make(chan watch.Result, 2*targets*each)
			ctx, cancel := context.WithCancel(t.Context())
			defer cancel()
			on(t, l, func() {
				capture = capturePort(t, "eth0")
				w = watch.New(ctx, watch.Config{Machine: l.Inside(m), Ended: func(_ *watch.Subject, r watch.Result) { measured <- r }})
			})
			stop := make(chan struct{})
			defer close(stop)
			if busy {
				for range 2 {
					go func() {
						for x := 0; ; x++ {
							select {
							case <-stop:
								return
							default:
								_ = fmt.Sprint(x)
							}
						}
					}()
				}
			}
			seen := captured(capture)
			for a := first; a.As4()[3] < first.As4()[3]+targets; a = a.Next() {
				w.Add(watch.Spec{Target: must(target.Parse(a.String())), Interval: 200 * time.Millisecond, Count: each})
			}
			for !w.Finished() {
				time.Sleep(20 * time.Millisecond)
			}
			time.Sleep(20 * time.Millisecond)
			capture.Close()
			truth := seen()
			close(measured)
			var errs []time.Duration
			for r := range measured {
				if want, ok := truth[r.Seq]; ok && r.Fate == series.Replied {
					errs = append(errs, (r.RTT - want).Abs())
				}
			}
			require.Greater(t, len(errs), targets*each*9/10)
			slices.Sort(errs)
			median, tail := errs[len(errs)/2], errs[len(errs)*99/100]
			fmt.Printf("round trip of 50 targets against a capture with kernel stamps, %s: error %v at the median, %v at 99 %% (%d probes)\n", name, median, tail, len(errs))
			assert.Less(t, median, 500*time.Microsecond)
		})
	}
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// capturePort opens a packet socket that stamps every frame in the kernel.
func capturePort(t *testing.T, port string) *os.File {
	link, err := netlink.LinkByName(port)
	require.NoError(t, err)
	fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_RAW|unix.SOCK_NONBLOCK, 0)
	require.NoError(t, err)
	require.NoError(t, unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_TIMESTAMPNS, 1))
	require.NoError(t,
		unix.Bind(fd, &unix.SockaddrLinklayer{Protocol: unix.ETH_P_ALL<<8&0xff00 | unix.ETH_P_ALL>>8, Ifindex: link.Attrs().Index}))
	return os.NewFile(uintptr(fd), port)
}

// captured reads frames until the capture is closed; the function it returns waits for that and gives the round trips by sequence number.
func captured(capture *os.File) func() map[uint16]time.Duration {
	var wg sync.WaitGroup
	sent, out := map[uint16]time.Time{}, map[uint16]time.Duration{}
	wg.Go(func() {
		raw, err := capture.SyscallConn()
		if err != nil {
			return
		}
		frame, control := make([]byte, 2048), make([]byte, 128)
		for {
			n, cn := 0, 0
			var rerr error
			err := raw.Read(func(fd uintptr) bool {
				n, cn, _, _, rerr = unix.Recvmsg(int(fd), frame, control, 0)
				return rerr != unix.EAGAIN
			})
			if err != nil || rerr == io.EOF {
				return
			}
			messages, err := unix.ParseSocketControlMessage(control[:cn])
			if err != nil || len(messages) == 0 || n < 42 || frame[12] != 8 || frame[13] != 0 || frame[23] != 1 {
				continue
			}
			ts := (*unix.Timespec)(unsafe.Pointer(&messages[0].Data[0]))
			stamp := time.Unix(ts.Unix())
			seq := uint16(frame[40])<<8 | uint16(frame[41])
			switch frame[34] {
			case 8:
				sent[seq] = stamp
			case 0:
				if at, ok := sent[seq]; ok {
					out[seq] = stamp.Sub(at)
				}
			}
		}
	})
	return func() map[uint16]time.Duration { wg.Wait(); return out }
}

func TestForeignRepliesAreIgnored(t *testing.T) {
	l, m := lab(t, "healthy")
	on(t, l, func() {
		port, err := m.OpenEcho(machine.EchoConfig{})
		require.NoError(t, err)
		other, err := m.OpenEcho(machine.EchoConfig{})
		require.NoError(t, err)
		defer other.Close()
		_, err = other.Send(machine.EchoRequest{To: netip.MustParseAddr("172.27.40.1"), Seq: 5})
		require.NoError(t, err)
		time.AfterFunc(200*time.Millisecond, func() { port.Close() })
		a, err := port.Receive()
		assert.Error(t, err, "a reply to another port's request came: %+v", a)
	})
}
