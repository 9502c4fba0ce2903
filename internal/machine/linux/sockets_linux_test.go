//go:build linux

package linux_test

import (
	"bufio"
	"context"
	"encoding/hex"
	"flag"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"passepartout/internal/core/sockets"
	"passepartout/internal/machine"
	"passepartout/internal/probe/socketwatch"
	"passepartout/internal/scenario"
	"passepartout/internal/scenario/namespaces"
)

// A process that a lab starts enters it first.
func TestMain(m *testing.M) {
	namespaces.MaybeEnter()
	os.Exit(m.Run())
}

var stuckRuns = flag.Int("stuck-runs", 1, "how often what is stuck is made and looked at")

func tableOf(t *testing.T, l *namespaces.Lab, m machine.Machine) (out *sockets.Table) {
	on(t, l, func() {
		var err error
		out, err = m.(machine.SocketTeller).Sockets(t.Context())
		require.NoError(t, err)
	})
	return out
}

// listenAt begins to listen on a node. Each connection is handed to serve, which may be nil.
func listenAt(t *testing.T, l *namespaces.Lab, node, network, at string, serve func(net.Conn)) net.Listener {
	var listener net.Listener
	require.NoError(t, l.On(node, func() (err error) { listener, err = net.Listen(network, at); return err }))
	t.Cleanup(func() { listener.Close() })
	go func() {
		for serve != nil {
			c, err := listener.Accept()
			if err != nil {
				return
			}
			t.Cleanup(func() { c.Close() })
			go serve(c)
		}
	}()
	return listener
}

func dialFrom(t *testing.T, l *namespaces.Lab, to string) net.Conn {
	var c net.Conn
	require.NoError(t, l.On("ticket-03", func() (err error) { c, err = net.DialTimeout("tcp", to, 20*time.Second); return err }))
	t.Cleanup(func() { c.Close() })
	return c
}

// attempt begins a connection and does not wait for it.
func attempt(t *testing.T, l *namespaces.Lab, to netip.AddrPort) {
	on(t, l, func() {
		fd, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, 0)
		require.NoError(t, err)
		t.Cleanup(func() { unix.Close(fd) })
		require.ErrorIs(t, unix.Connect(fd, &unix.SockaddrInet4{Addr: to.Addr().As4(), Port: int(to.Port())}), unix.EINPROGRESS)
	})
}

// line is what /proc/net says of one socket (proc(5)).
type line struct {
	protocol      string
	local, remote netip.AddrPort
	state         uint64
	inode         uint64
	user          uint64
}

// linesOf reads them all, on the node where the calling thread is.
func linesOf(t *testing.T) (out []line) {
	for _, file := range []string{"tcp", "tcp6", "udp", "udp6"} {
		f, err := os.Open("/proc/thread-self/net/" + file)
		require.NoError(t, err)
		defer f.Close()
		for lines := bufio.NewScanner(f); lines.Scan(); {
			fields := strings.Fields(lines.Text())
			if fields[0] == "sl" {
				continue
			}
			x := line{protocol: strings.TrimSuffix(file, "6"), local: endIn(t, fields[1]), remote: endIn(t, fields[2])}
			x.state, err = strconv.ParseUint(fields[3], 16, 8)
			require.NoError(t, err)
			x.user, err = strconv.ParseUint(fields[7], 10, 32)
			require.NoError(t, err)
			x.inode, err = strconv.ParseUint(fields[9], 10, 64)
			require.NoError(t, err)
			out = append(out, x)
		}
	}
	return out
}

// endIn reads "0100007F:1F90": words of an address as the processor has them, here the least octet first.
func endIn(t *testing.T, text string) netip.AddrPort {
	words, port, _ := strings.Cut(text, ":")
	raw, err := hex.DecodeString(words)
	require.NoError(t, err)
	for i := 0; i < len(raw); i += 4 {
		slices.Reverse(raw[i : i+4])
	}
	a, _ := netip.AddrFromSlice(raw)
	n, err := strconv.ParseUint(port, 16, 16)
	require.NoError(t, err)
	if a.IsUnspecified() && n == 0 {
		return netip.AddrPort{}
	}
	return netip.AddrPortFrom(a.Unmap(), uint16(n))
}

var kernelNumber = map[sockets.State]uint64{sockets.Established: 1, sockets.SynSent: 2, sockets.SynReceived: 3, sockets.FinWait1: 4,
	sockets.FinWait2: 5,
	sockets.TimeWait: 6, sockets.Closed: 7, sockets.CloseWait: 8, sockets.LastAck: 9, sockets.Listen: 10, sockets.Closing: 11}

// The same sockets, in the same states, of the same processes, as /proc tells.
func TestSocketsAgainstProcfs(t *testing.T) {
	l, m := lab(t, "healthy")
	listenAt(t, l, "ticket-03", "tcp4", "127.0.0.1:631", nil)
	listenAt(t, l, "ticket-03", "tcp6", "[::]:445", nil)
	listenAt(t, l, "bookings", "tcp", "203.0.113.80:8000", func(c net.Conn) { _, _ = c.Write(make([]byte, 5000)) })
	here := listenAt(t, l, "ticket-03", "tcp4", "127.0.0.1:8001", func(net.Conn) {})
	for range 5 {
		dialFrom(t, l, "203.0.113.80:8000")
		dialFrom(t, l, here.Addr().String())
		dialFrom(t, l, "[::1]:445") // nobody accepts them
	}
	dialFrom(t, l, here.Addr().String()).Close() // the other end goes on
	attempt(t, l, netip.MustParseAddrPort("203.0.113.99:443"))
	var child *exec.Cmd
	on(t, l, func() {
		for _, at := range []string{"0.0.0.0:5353", "[::1]:5354"} {
			c, err := net.ListenPacket("udp", at)
			require.NoError(t, err)
			t.Cleanup(func() { c.Close() })
		}
		c, err := net.Dial("udp", "203.0.113.53:53")
		require.NoError(t, err)
		file, err := c.(*net.UDPConn).File()
		require.NoError(t, err)
		child = exec.Command("sleep", "60") // which then is its only owner
		child.ExtraFiles = []*os.File{file}
		require.NoError(t, child.Start())
		file.Close()
		c.Close()
	})
	defer func() { _ = child.Process.Kill(); _ = child.Wait() }()
	time.Sleep(300 * time.Millisecond) // until they have come to rest
	got := tableOf(t, l, m)
	var want []line
	on(t, l, func() { want = linesOf(t) })
	var told []line
	names := map[string]int{}
	for i := range got.Sockets {
		s := &got.Sockets[i]
		x := line{s.Protocol.String(), s.Local, s.Remote, kernelNumber[s.State], s.Inode, uint64(s.User)}
		told = append(told, x)
		p, known := got.Program(s)
		names[p.Name]++
		switch {
		case s.Inode == 0: // one that nobody has accepted belongs to whoever listens; what was closed, to nobody
			assert.Equal(t, s.State == sockets.Established, known, "%+v", s)
		case s.Remote.Port() == 53:
			assert.Equal(t, child.Process.Pid, p.PID)
			assert.Equal(t, "sleep", p.Name)
		default:
			links, err := filepath.Glob(fmt.Sprintf("/proc/%d/fd/*", p.PID))
			require.NoError(t, err)
			assert.True(t, slices.ContainsFunc(links, func(link string) bool {
				to, _ := os.Readlink(link)
				return to == fmt.Sprintf("socket:[%d]", s.Inode)
			}), "%+v is not of %+v", s, p)
		}
		if s.Remote.IsValid() && s.State == sockets.Established && s.Protocol == sockets.TCP {
			assert.True(t, s.Measured)
			assert.Positive(t, s.RTT)
		}
	}
	assert.ElementsMatch(t, want, told)
	assert.GreaterOrEqual(t, len(told), 30)
	assert.Equal(t, 1, names["sleep"])
	assert.Empty(t, got.Withheld)
}

// Each is told as itself, and none as another.
func TestWhatIsStuckInTheKernel(t *testing.T) {
	t.Parallel()
	for range *stuckRuns {
		whatIsStuck(t)
	}
}

func whatIsStuck(t *testing.T) {
	s, err := scenario.Load("healthy")
	require.NoError(t, err)
	s.Site.Nodes["bookings"].Filter = []scenario.Rule{{Chain: "in", Proto: "tcp", Port: 8006, Action: "drop"}}
	l, m := labOf(t, s)
	quiet := func(c net.Conn) { time.Sleep(time.Minute) }
	listenAt(t, l, "bookings", "tcp", "203.0.113.80:8001", func(c net.Conn) { _, _ = c.Write(make([]byte, 38_000)) })
	listenAt(t, l, "bookings", "tcp", "203.0.113.80:8002", quiet)
	listenAt(t, l, "tides", "tcp", "203.0.113.70:8003", quiet)
	listenAt(t, l, "bookings", "tcp", "203.0.113.80:8004", func(c net.Conn) { _, _ = io.Copy(c, c) })
	busy := listenAt(t, l, "ticket-03", "tcp", "127.0.0.1:8005", nil)
	dialFrom(t, l, "203.0.113.80:8001")
	full := dialFrom(t, l, "203.0.113.80:8002")
	go func() { _, _ = io.Copy(full, zeros{}) }()
	lost := dialFrom(t, l, "203.0.113.70:8003")
	well := dialFrom(t, l, "203.0.113.80:8004")
	go func() {
		for {
			if _, err := well.Write(make([]byte, 100)); err != nil {
				return
			}
			time.Sleep(100 * time.Millisecond)
		}
	}()
	go func() { _, _ = io.Copy(io.Discard, well) }()
	dialFrom(t, l, busy.Addr().String())
	dialFrom(t, l, "203.0.113.80:8004") // idle
	attempt(t, l, netip.MustParseAddrPort("203.0.113.80:8006"))
	require.NoError(t, l.On("tides", func() error {
		link, err := netlink.LinkByName("eth0")
		if err != nil {
			return err
		}
		return netlink.LinkSetDown(link)
	}))
	_, err = lost.Write(make([]byte, 1400))
	require.NoError(t, err)
	var k sockets.Tracker
	var seen *sockets.Seen
	for range 8 {
		table := tableOf(t, l, m)
		table.Own = -1 // these are not the program's own
		k.Take(table)
		seen = k.See()
		time.Sleep(time.Second)
	}
	got := map[string]string{}
	for i := range seen.Stuck {
		x := &seen.Stuck[i]
		where := x.Remote.String()
		if x.State == sockets.Listen {
			where = x.Local.String()
		}
		got[where] = x.Why.String()
		assert.GreaterOrEqual(t, x.For, 2*time.Second)
		assert.LessOrEqual(t, x.For, 20*time.Second)
	}
	assert.Equal(t, map[string]string{"203.0.113.80:8001": "not-read", "203.0.113.80:8002": "other-end-full",
		"203.0.113.70:8003": "not-acknowledged",
		"127.0.0.1:8005":    "not-accepted", "203.0.113.80:8006": "no-answer"}, got)
}

// zeros never end.
type zeros struct{}

func (zeros) Read(b []byte) (int, error) { return len(b), nil }

// A way that loses packets is told as that.
func TestALossyWayInTheKernel(t *testing.T) {
	t.Parallel()
	for range *stuckRuns {
		l, m := lab(t, "path-lossy")
		listenAt(t, l, "bookings", "tcp", "203.0.113.80:8004", func(c net.Conn) { _, _ = io.Copy(c, c) })
		c := dialFrom(t, l, "203.0.113.80:8004")
		go func() { _, _ = io.Copy(io.Discard, c) }()
		var k sockets.Tracker
		for range 8 {
			for range 25 {
				_, err := c.Write(make([]byte, 1000))
				require.NoError(t, err)
				time.Sleep(40 * time.Millisecond)
			}
			table := tableOf(t, l, m)
			table.Own = -1
			k.Take(table)
		}
		seen := k.See()
		require.Len(t, seen.Stuck, 1, "%+v", seen.Sockets)
		assert.Equal(t, sockets.Lossy, seen.Stuck[0].Why, "%+v", seen.Stuck[0])
		c.Close()
	}
}

// unheard is a machine that does not tell of the ends of connections.
type unheard struct{ machine.Machine }

func (u unheard) Sockets(ctx context.Context) (*sockets.Table, error) {
	return u.Machine.(machine.SocketTeller).Sockets(ctx)
}
func (unheard) Closings(context.Context) (<-chan machine.Closing, error) {
	return nil, os.ErrPermission
}

// A thousand short connections are all told of; where the system does not tell of ends, how many were not seen is.
func TestShortConnections(t *testing.T) {
	t.Parallel()
	const connections = 1000
	l, m := lab(t, "healthy")
	told, err := socketwatch.Start(t.Context(), l.Inside(m))
	require.NoError(t, err)
	untold, err := socketwatch.Start(t.Context(), unheard{l.Inside(m)})
	require.NoError(t, err)
	server := listenAt(t, l, "ticket-03", "tcp4", "127.0.0.1:8001", func(c net.Conn) { _, _ = io.Copy(io.Discard, c); c.Close() })
	on(t, l, func() {
		ended := make(chan struct{}, connections)
		began := time.Now()
		for i := range connections {
			time.Sleep(time.Until(began.Add(time.Duration(i) * 8 * time.Millisecond)))
			c, err := net.Dial("tcp4", server.Addr().String())
			require.NoError(t, err)
			time.AfterFunc(50*time.Millisecond, func() { c.Close(); ended <- struct{}{} })
		}
		for range connections {
			<-ended
		}
	})
	require.Eventually(t, func() bool { seen, _ := told.See(); return seen.Closed >= 2*connections }, time.Minute, 50*time.Millisecond)
	seen, err := told.See()
	require.NoError(t, err)
	assert.Equal(t, [2]int{2 * connections, 2 * connections}, [2]int{seen.Opened, seen.Closed}, "of each both ends are here")
	assert.True(t, seen.Told)
	require.Eventually(t, func() bool { seen, _ := untold.See(); return seen.Opened+seen.Missed >= 2*connections }, time.Minute,
		50*time.Millisecond)
	less, err := untold.See()
	require.NoError(t, err)
	assert.Equal(t, 2*connections, less.Opened+less.Missed, "%d seen, %d said to have been missed", less.Opened, less.Missed)
	fmt.Printf("short connections: %d of %d told by their ends; without, %d seen and %d said to have been missed\n", seen.Closed,
		2*connections, less.Opened,
		less.Missed)
}

var many = flag.Bool("many-sockets", false, "a hundred thousand sockets of two thousand processes are read; else two thousand of forty")

// Many sockets are read, with their owners, and grouped.
func TestManySockets(t *testing.T) {
	processes := 40
	if *many {
		processes = 2000
	}
	const each = 52
	l, m := lab(t, "healthy")
	begun := make([]*exec.Cmd, 0, processes)
	t.Cleanup(func() {
		for _, c := range begun {
			_ = c.Process.Kill()
		}
		for _, c := range begun {
			_ = c.Wait()
		}
	})
	on(t, l, func() {
		for p := range processes { // half of them connections, both ends; the others wait for datagrams
			at := unix.SockaddrInet4{Addr: [4]byte{127, 0, byte(p >> 8), byte(p)}, Port: 7000}
			server, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
			require.NoError(t, err)
			require.NoError(t, unix.Bind(server, &at))
			require.NoError(t, unix.Listen(server, each))
			var fds []int
			for i := range each / 2 {
				fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
				require.NoError(t, err)
				require.NoError(t, unix.Bind(fd, &unix.SockaddrInet4{Addr: at.Addr, Port: 8000 + i}))
				fds = append(fds, fd)
				if i%2 == 0 {
					continue
				}
				c, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
				require.NoError(t, err)
				require.NoError(t, unix.Connect(c, &at))
				s, _, err := unix.Accept(server)
				require.NoError(t, err)
				fds = append(fds, c, s)
			}
			cmd := exec.Command("sleep", "600")
			for _, fd := range fds {
				cmd.ExtraFiles = append(cmd.ExtraFiles, os.NewFile(uintptr(fd), ""))
			}
			require.NoError(t, cmd.Start())
			begun = append(begun, cmd)
			for _, f := range cmd.ExtraFiles {
				f.Close()
			}
			unix.Close(server)
		}
	})
	var k sockets.Tracker
	began := time.Now()
	table := tableOf(t, l, m)
	read := time.Since(began)
	k.Take(table)
	groups := k.See().Groups(sockets.Filter{})
	took := time.Since(began)
	assert.Len(t, groups, processes)
	for _, g := range groups {
		assert.Equal(t, "sleep", g.Program.Name)
		assert.Equal(t, 26, g.Count)
	}
	program := filepath.Join(t.TempDir(), "passepartout")
	out, err := exec.Command("go", "build", "-o", program, "passepartout/cmd/passepartout").CombinedOutput()
	require.NoError(t, err, "%s", out)
	run, err := l.Measure(namespaces.Root, program, "sockets")
	require.NoError(t, err)
	assert.Zero(t, run.Status, run.Stderr)
	fmt.Printf("sockets: %d of %d processes read in %.0f ms, grouped after %.0f ms; the command at most %.0f MB, %.1f s of a processor\n",
		len(table.Sockets), processes, read.Seconds()*1000, took.Seconds()*1000, float64(run.Peak)/1e6, run.CPU.Seconds())
}
