//go:build linux

package linux_test

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/gopacket/gopacket/pcapgo"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"passepartout/internal/capture"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/exchange"
	"passepartout/internal/machine"
	"passepartout/internal/probe/exchangewatch"
	"passepartout/internal/scenario/namespaces"
)

// recording captures at the endpoint of a lab until stop is called.
func recording(t *testing.T, l *namespaces.Lab, m machine.Machine, keep string, r capture.Recording) (stop func() (capture.Kept, error)) {
	choice, err := capture.ParseChoice(keep)
	require.NoError(t, err)
	var socket machine.CaptureSocket
	require.NoError(t, l.On("ticket-03", func() error {
		i, err := net.InterfaceByName("eth0")
		if err != nil {
			return err
		}
		hw, _ := endpoint.HardwareFrom(i.HardwareAddr)
		program, err := choice.Compile(capture.Mine{Hardware: hw}, r.Snap)
		if err != nil {
			return err
		}
		socket, err = m.(machine.Capturer).OpenCapture(machine.CaptureConfig{Interface: "eth0", Choose: program})
		return err
	}))
	ctx, cancel := context.WithCancel(t.Context())
	type result struct {
		kept capture.Kept
		err  error
	}
	ended := make(chan result, 1)
	r.Interface, r.Keep = "eth0", keep
	go func() {
		kept, err := capture.Record(ctx, socket, r, func(capture.Kept) {})
		ended <- result{kept, err}
	}()
	return func() (capture.Kept, error) {
		time.Sleep(300 * time.Millisecond)
		cancel()
		x := <-ended
		socket.Close()
		return x.kept, x.err
	}
}

// What is chosen is in the file, with the kernel's times, and what passes in it is told.
func TestARecordingIsWhatPassed(t *testing.T) {
	t.Parallel()
	l, m := lab(t, "healthy")
	path := filepath.Join(t.TempDir(), "pier.pcapng")
	stop := recording(t, l, m, "(udp and port 53) or (tcp and host 203.0.113.80) or arp",
		capture.Recording{Path: path, Snap: 65535, Most: 10e6, Files: 1,
			Application: "tests"})
	before := time.Now()
	listenAt(t, l, "bookings", "tcp", "203.0.113.80:8001", func(c net.Conn) { c.Close() })
	dialFrom(t, l, "203.0.113.80:8001").Close()
	on(t, l, func() {
		_, err := net.Dial("tcp", "203.0.113.80:8002")
		require.ErrorIs(t, err, unix.ECONNREFUSED)
		c, err := net.Dial("udp", "203.0.113.53:53")
		require.NoError(t, err)
		defer c.Close()
		_, err = c.Write([]byte("\x00\x07\x01\x00\x00\x01\x00\x00\x00\x00\x00\x00\x08bookings\x09kittiwake\x07example\x00\x00\x01\x00\x01"))
		require.NoError(t, err)
		require.NoError(t, c.SetReadDeadline(time.Now().Add(10*time.Second)))
		_, err = c.Read(make([]byte, 512))
		require.NoError(t, err)
		_, err = net.DialTimeout("udp", "172.27.40.99:9", time.Second) // nobody has that address
		require.NoError(t, err)
	})
	kept, err := stop()
	require.NoError(t, err)
	assert.Zero(t, kept.Dropped)
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	assert.Equal(t, info.Size(), kept.Octets)
	file, err := os.Open(path)
	require.NoError(t, err)
	defer file.Close()
	r, err := pcapgo.NewNgReader(file, pcapgo.DefaultNgReaderOptions)
	require.NoError(t, err)
	count, last := 0, before.Add(-time.Second)
	for {
		_, ci, err := r.ReadPacketData()
		if err != nil {
			break
		}
		count++
		// the kernel's stamps; two of its processors may hand their frames over in another order than they stamped them
		assert.False(t, ci.Timestamp.Before(last.Add(-100*time.Millisecond)), "times go on")
		last = ci.Timestamp
	}
	assert.Equal(t, kept.Frames, count)
	assert.WithinDuration(t, time.Now(), last, time.Minute)
	i, err := r.Interface(0)
	require.NoError(t, err)
	assert.Equal(t, "eth0", i.Name)
	assert.Contains(t, i.Filter, "host 203.0.113.80")
	assert.Equal(t, uint64(count), i.Statistics.PacketsReceived)
	_, err = file.Seek(0, 0)
	require.NoError(t, err)
	var told []string
	x := exchange.NewTracker(func(e exchange.Exchange) {
		told = append(told, fmt.Sprint(e.Kind, " ", e.To.Addr(), " ", e.Outcome, " ", strings.SplitN(e.Answer, " by ", 2)[0]))
	})
	_, _, err = capture.Exchanges(file, x, nil, func(int, string) {})
	require.NoError(t, err)
	x.End()
	assert.Contains(t, told, "tcp 203.0.113.80 closed closed")
	assert.Contains(t, told, "tcp 203.0.113.80 refused a reset")
	assert.Contains(t, told, "dns 203.0.113.53 answered 203.0.113.80")
}

// What is told as it passes is what is told from a recording of the same time.
func TestExchangesAsTheyPass(t *testing.T) {
	t.Parallel()
	l, m := lab(t, "healthy")
	path := filepath.Join(t.TempDir(), "pier.pcapng")
	stop := recording(t, l, m, "arp or icmp or dns or mdns or dhcp or lldp or connections",
		capture.Recording{Path: path, Snap: 1536, Most: 10e6, Files: 1})
	ctx, cancel := context.WithCancel(t.Context())
	live, err := exchangewatch.Start(ctx, l.Inside(m), "eth0", endpoint.HardwareAddr{})
	require.NoError(t, err)
	time.Sleep(100 * time.Millisecond)
	listenAt(t, l, "bookings", "tcp", "203.0.113.80:8001", func(c net.Conn) { c.Close() })
	for range 5 {
		dialFrom(t, l, "203.0.113.80:8001").Close()
	}
	require.NoError(t, l.On("ticket-03", func() error {
		for _, to := range []string{"203.0.113.80:8002", "172.27.40.99:80", "192.0.2.1:80"} { // refused, not there, no way to it
			if c, err := net.DialTimeout("tcp", to, 2*time.Second); err == nil {
				c.Close()
				return fmt.Errorf("%s answers", to)
			}
		}
		return nil
	}))
	time.Sleep(500 * time.Millisecond)
	seen, now := live.See(), time.Now()
	cancel()
	live.Wait()
	_, err = stop()
	require.NoError(t, err)
	file, err := os.Open(path)
	require.NoError(t, err)
	defer file.Close()
	var read []exchange.Exchange
	x := exchange.NewTracker(func(e exchange.Exchange) { read = append(read, e) })
	_, _, err = capture.Exchanges(file, x, nil, func(int, string) {})
	require.NoError(t, err)
	x.Pass(now)
	read = append(read, x.Open()...)
	told := func(list []exchange.Exchange) (out []string) {
		for _, e := range list {
			if !e.Began.After(seen.Began.Add(50 * time.Millisecond)) { // one of the two was not listening yet
				continue
			}
			out = append(out, fmt.Sprint(e.Kind, e.From, e.To, e.Asked, e.Answer, e.Outcome, e.Asks, e.Took))
		}
		return out
	}
	assert.ElementsMatch(t, told(read), told(seen.List))
	assert.Greater(t, len(seen.List), 8)
	assert.Zero(t, seen.Dropped)
}

// With several files the oldest goes, and with one the recording ends at its limit. What is there is not written over.
func TestARecordingKeepsWithinItsLimit(t *testing.T) {
	t.Parallel()
	l, m := lab(t, "healthy")
	flood := func() {
		on(t, l, func() {
			c, err := net.Dial("udp", "172.27.40.1:9")
			require.NoError(t, err)
			defer c.Close()
			for range 600 {
				_, _ = c.Write(make([]byte, 1000)) // refused now and then
				time.Sleep(200 * time.Microsecond)
			}
		})
	}
	dir := t.TempDir()
	one := capture.Recording{Path: filepath.Join(dir, "one.pcapng"), Snap: 65535, Most: 200_000, Files: 1}
	stop := recording(t, l, m, "udp", one)
	flood()
	kept, err := stop()
	require.NoError(t, err)
	assert.Contains(t, kept.Why, "limit")
	assert.LessOrEqual(t, kept.Octets, int64(200_000))
	assert.Greater(t, kept.Octets, int64(190_000))
	_, err = recording(t, l, m, "udp", one)()
	assert.ErrorIs(t, err, capture.ErrExists)
	stop = recording(t, l, m, "udp", capture.Recording{Path: filepath.Join(dir, "ring.pcapng"), Snap: 200, Most: 60_000, Files: 3})
	flood()
	kept, err = stop()
	require.NoError(t, err)
	assert.Empty(t, kept.Why)
	require.Len(t, kept.Files, 3)
	assert.Equal(t, filepath.Join(dir, "ring-008.pcapng"), kept.Files[2], "%v", kept.Files)
	assert.LessOrEqual(t, kept.Octets, int64(60_000))
	there, err := filepath.Glob(filepath.Join(dir, "ring-*"))
	require.NoError(t, err)
	assert.Equal(t, kept.Files, there)
}

// Where the disk is full, what was kept is there up to a whole frame.
func TestARecordingOnAFullDisk(t *testing.T) {
	t.Parallel()
	l, m := lab(t, "healthy")
	dir := t.TempDir()
	if err := unix.Mount("tmpfs", dir, "tmpfs", 0, "size=300k"); err != nil {
		t.Skip("a small disk cannot be made here: ", err)
	}
	defer func() { _ = unix.Unmount(dir, unix.MNT_DETACH) }()
	path := filepath.Join(dir, "full.pcapng")
	stop := recording(t, l, m, "udp", capture.Recording{Path: path, Snap: 65535, Most: 10e6, Files: 1})
	on(t, l, func() {
		c, err := net.Dial("udp", "172.27.40.1:9")
		require.NoError(t, err)
		defer c.Close()
		for range 2000 {
			_, _ = c.Write(make([]byte, 1000))
			time.Sleep(time.Millisecond)
		}
	})
	kept, err := stop()
	require.ErrorContains(t, err, "the disk is full; what was kept before is there")
	file, err := os.Open(path)
	require.NoError(t, err)
	defer file.Close()
	x := exchange.NewTracker(func(exchange.Exchange) {})
	frames, _, err := capture.Exchanges(file, x, nil, func(n int, why string) { assert.Fail(t, "a damaged file", "%d: %s", n, why) })
	require.NoError(t, err)
	assert.Equal(t, kept.Frames, frames)
	assert.Positive(t, frames)
}
