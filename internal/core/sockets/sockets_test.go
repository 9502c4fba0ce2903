package sockets_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/sockets"
)

var (
	began    = time.Date(2026, 3, 2, 9, 14, 0, 0, time.UTC)
	own      = netip.MustParseAddrPort("172.27.40.23:40000")
	bookings = netip.MustParseAddrPort("203.0.113.80:443")
)

// open is a connection in which all is well.
func open(id uint64) sockets.Socket {
	return sockets.Socket{State: sockets.Established, Measured: true, Local: own, Remote: bookings, ID: id, Inode: id,
		RTT:       20 * time.Millisecond,
		SinceData: time.Minute, SinceAck: time.Minute, Received: 1000, SegmentsOut: 100}
}

// table is what the system says at a moment, in seconds.
func table(second float64, list ...sockets.Socket) *sockets.Table {
	return &sockets.Table{At: began.Add(time.Duration(second * float64(time.Second))), Sockets: list, Own: 1, Linear: 4,
		Programs: []sockets.Program{{PID: 2114, Name: "till-client"}, {PID: 980, Name: "sailing-display"}, {PID: 1, Name: "these tests"}}}
}

// Each reason is told as itself, and what looks like it and is well is not told.
func TestWhatIsStuck(t *testing.T) {
	with := func(change func(*sockets.Socket)) sockets.Socket {
		s := open(7)
		change(&s)
		return s
	}
	trying := func(retries uint8, expires time.Duration) sockets.Socket {
		return with(func(s *sockets.Socket) { s.State, s.Retries, s.Expires, s.RTT = sockets.SynSent, retries, expires, 0 })
	}
	unread := with(func(s *sockets.Socket) { s.Unread, s.SinceData = 38_000, 5*time.Second })
	for name, c := range map[string]struct {
		looks []sockets.Socket // one a second
		why   sockets.Why
		says  string
	}{
		"idle for a long time": {[]sockets.Socket{open(7)}, sockets.Moves, ""},
		"just begun":           {[]sockets.Socket{trying(0, 700*time.Millisecond)}, sockets.Moves, ""},
		"nobody answers": {[]sockets.Socket{trying(3, 500*time.Millisecond)}, sockets.NoAnswer,
			"asked 4 times in 3.5 s, nobody answers"},
		"for long": {[]sockets.Socket{trying(6, time.Second)}, sockets.NoAnswer, "asked 7 times in 10 s, nobody answers"},
		"has not read": {[]sockets.Socket{unread}, sockets.Unread,
			"has not read 38 kB for 5.0 s: the program is late, not the network"},
		"read a moment ago": {[]sockets.Socket{with(func(s *sockets.Socket) { s.Unread, s.SinceData = 100, time.Second })},
			sockets.Moves, ""},
		"what a closed one left": {[]sockets.Socket{with(func(s *sockets.Socket) { s.State, s.Unread = sockets.CloseWait, 24 })},
			sockets.Moves, ""},
		"reads, and more comes":    {reading(true), sockets.Moves, ""},
		"more comes, and it waits": {reading(false), sockets.Unread, "has not read 40 kB for 3.0 s: the program is late, not the network"},
		"not acknowledged": {[]sockets.Socket{with(func(s *sockets.Socket) {
			s.Unacked, s.Retries, s.SinceAck, s.Timer = 1400, 4, 6*time.Second, sockets.Retransmission
		})}, sockets.Unacked, "1400 octets not acknowledged for 6.0 s, sent again 4 times: the other end is not reached any more"},
		"lost once": {[]sockets.Socket{with(func(s *sockets.Socket) {
			s.Unacked, s.Retries, s.SinceAck, s.Timer = 1400, 1, 5*time.Second, sockets.Retransmission
		})}, sockets.Moves, ""},
		"just lost twice": {[]sockets.Socket{with(func(s *sockets.Socket) {
			s.Unacked, s.Retries, s.SinceAck, s.Timer = 1400, 2, time.Second, sockets.Retransmission
		})}, sockets.Moves, ""},
		"idle, and now sends": {[]sockets.Socket{with(func(s *sockets.Socket) { s.Unacked, s.SinceAck = 1400, time.Hour })}, sockets.Moves,
			""},
		"the other end is full": {full(4), sockets.PeerFull,
			"64 kB wait for 3.0 s: the other end answers and takes nothing more, its program does not read"},
		"full for a moment": {full(2), sockets.Moves, ""},
		"lossy": {[]sockets.Socket{with(func(s *sockets.Socket) { s.Retransmitted, s.SegmentsOut = 8, 200 })}, sockets.Lossy,
			"8 of 200 segments had to be sent again: the way loses packets"},
		"sent again for nothing": {[]sockets.Socket{with(func(s *sockets.Socket) {
			s.Retransmitted, s.Needless, s.SegmentsOut = 8, 6,
				200
		})},
			sockets.Moves, ""},
		"a few of many": {[]sockets.Socket{with(func(s *sockets.Socket) { s.Retransmitted, s.SegmentsOut = 8, 20_000 })},
			sockets.Moves, ""},
		"nobody accepts": {waiting(3, 3, 3, 3), sockets.NotAccepted,
			"3 connections wait for 3.0 s to be accepted: the program is late, not the network"},
		"accepts slowly": {waiting(3, 2, 3, 2), sockets.Moves, ""},
		"datagrams unread": {datagrams(500, 500, 900, 900), sockets.Unread,
			"has not read 900 octets for 3.0 s: the program is late, not the network"},
		"datagrams come fast": {datagrams(500, 900, 200, 700), sockets.Moves, ""},
	} {
		t.Run(name, func(t *testing.T) {
			var k sockets.Tracker
			for i, s := range c.looks {
				k.Take(table(float64(i), s))
			}
			seen := k.See()
			if c.why == sockets.Moves {
				assert.Empty(t, seen.Stuck)
				return
			}
			require.Len(t, seen.Stuck, 1)
			assert.Equal(t, c.why, seen.Stuck[0].Why, "%v", seen.Stuck[0].Why)
			assert.Equal(t, c.says, seen.Says(&seen.Stuck[0]))
		})
	}
}

// reading is a connection to which more comes all the time, to a program that reads it or does not.
func reading(reads bool) (out []sockets.Socket) {
	for i := range 4 {
		s := open(7)
		s.SinceData, s.Received, s.Unread = 10*time.Millisecond, uint64(10_000*(i+1)), uint32(10_000*(i+1))
		if reads {
			s.Unread = 9000
		}
		out = append(out, s)
	}
	return out
}

func full(looks int) (out []sockets.Socket) {
	for range looks {
		s := open(7)
		s.Unacked, s.Timer, s.SinceAck = 64_000, sockets.Probe, 200*time.Millisecond
		out = append(out, s)
	}
	return out
}

func waiting(counts ...uint32) (out []sockets.Socket) {
	for _, n := range counts {
		out = append(out, sockets.Socket{State: sockets.Listen, Local: own, ID: 7, Inode: 7, Unread: n, Unacked: 16})
	}
	return out
}

func datagrams(unread ...uint32) (out []sockets.Socket) {
	for _, n := range unread {
		out = append(out, sockets.Socket{Protocol: sockets.UDP, Local: own, ID: 7, Inode: 7, Unread: n})
	}
	return out
}

// What opens and closes between two looks is noted, and what the system tells of is not counted twice.
func TestOpenedAndClosed(t *testing.T) {
	var k sockets.Tracker
	assert.Nil(t, k.See())
	k.Closed(began, open(3)) // before the first look: nobody has seen it
	first := open(1)
	first.Owner = 0
	k.Take(table(0, first))
	second, rests := open(2), open(9)
	second.Owner, rests.State = 1, sockets.TimeWait
	half, comes := open(10), open(11) // the other end goes on; it has not been opened yet
	half.State, half.Measured, comes.State = sockets.FinWait2, false, sockets.SynReceived
	later := table(1, first, second, rests, half, comes)
	later.Opens = 12
	k.Take(later)
	seen := k.See()
	assert.Equal(t, [3]int{1, 0, 11}, [3]int{seen.Opened, seen.Closed, seen.Missed}, "the system's own count is of 12")
	_, known := seen.Since(&first)
	assert.False(t, known, "it was there before")
	lasts, known := seen.Lasts(&second)
	assert.True(t, known)
	assert.Zero(t, lasts)
	k.Take(table(2, second))
	k.Telling()
	short := open(40)
	k.Closed(began.Add(2500*time.Millisecond), short)
	k.Closed(began.Add(2600*time.Millisecond), second)
	refused := open(41)
	refused.RTT = 0
	k.Closed(began.Add(2700*time.Millisecond), refused)
	stale := table(2.4, short, second) // read before they ended, and taken in after
	k.Take(stale)
	k.Take(table(3))
	seen = k.See()
	type event struct {
		id     uint64
		open   bool
		name   string
		never  bool
		second float64
	}
	var got []event
	for _, e := range seen.Events {
		got = append(got, event{e.Socket.ID, e.Open, e.Program.Name, e.Never, e.At.Sub(began).Seconds()})
	}
	assert.Equal(t, []event{{2, true, "sailing-display", false, 1}, {1, false, "till-client", false, 2}, {40, true, "", false, 2.5},
		{40, false, "", false, 2.5}, {2, false, "sailing-display", false, 2.6}, {41, true, "", false, 2.7}, {41, false, "", true,
			2.7}}, got)
	assert.Equal(t, [2]int{3, 4}, [2]int{seen.Opened, seen.Closed})
	assert.Zero(t, seen.Missed, "all are told of")
	k.Missed()
	assert.False(t, k.See().Told)
}

// Programs, and their other ends, are in the order of what matters; sockets of these tests are nobody's matter.
func TestGroups(t *testing.T) {
	at := func(id uint64, owner int32, local, remote string, state sockets.State) sockets.Socket {
		s := open(id)
		s.Owner, s.State, s.Local = owner, state, netip.MustParseAddrPort(local)
		if s.Remote = (netip.AddrPort{}); remote != "" {
			s.Remote = netip.MustParseAddrPort(remote)
		}
		return s
	}
	stuck := at(4, 0, "172.27.40.23:40004", "203.0.113.70:443", sockets.SynSent)
	stuck.Retries = 2
	dgram := at(10, 1, "0.0.0.0:5353", "", sockets.Closed)
	dgram.Protocol = sockets.UDP
	waits := at(12, -1, "172.27.40.23:445", "172.27.40.33:50001", sockets.Established)
	waits.Inode = 0
	tab := table(0,
		at(1, 1, "172.27.40.23:40001", "203.0.113.90:443", sockets.Established), at(2, 1, "172.27.40.23:40002", "203.0.113.90:443",
			sockets.Established),
		at(3, 0, "172.27.40.23:40003", "203.0.113.80:443", sockets.Established), stuck,
		at(5, 1, "0.0.0.0:445", "", sockets.Listen), at(6, 1, "172.27.40.23:445", "172.27.40.31:50000", sockets.Established),
		at(7, 1, "127.0.0.1:631", "", sockets.Listen), at(8, 2, "172.27.40.23:40008", "203.0.113.80:443", sockets.SynSent),
		at(9, 1, "172.27.40.23:40009", "203.0.113.80:443", sockets.TimeWait), dgram, at(11, -1, "172.27.40.23:40011", "203.0.113.53:53",
			sockets.Established),
		waits)
	tab.Settle()
	var k sockets.Tracker
	k.Take(tab)
	seen := k.See()
	var got []string
	for _, g := range seen.Groups(sockets.Filter{}) {
		got = append(got, g.Program.Name)
		for _, e := range g.Ends {
			mark := ""
			if e.Stuck != nil {
				mark = " stuck"
			}
			if e.Comes {
				mark += " comes"
			}
			got = append(got, e.At.String()+mark)
		}
	}
	assert.Equal(t, []string{"till-client", "203.0.113.70:443 stuck", "203.0.113.80:443", "sailing-display", "172.27.40.23:445 comes",
		"203.0.113.90:443", "", "203.0.113.53:53"}, got)
	assert.Len(t, seen.Groups(sockets.Filter{})[1].Ends[0].Sockets, 2, "one of them waits to be accepted")
	got = nil
	for _, l := range seen.Listeners(sockets.Filter{}) {
		got = append(got, l.Scope())
	}
	assert.Equal(t, []string{"everybody, by IPv4", "this machine only", "everybody, by IPv4"}, got)
	state := sockets.Established
	for name, c := range map[string]struct {
		filter sockets.Filter
		count  int
	}{
		"a program": {sockets.Filter{Name: "till-client"}, 2}, "its number": {sockets.Filter{PID: 980},
			8}, "a state": {sockets.Filter{State: &state}, 6},
		"a port": {sockets.Filter{Port: 445}, 3}, "an address": {sockets.Filter{Address: bookings.Addr()},
			3}, "a family": {sockets.Filter{Family: 6}, 0},
	} {
		n := 0
		for i := range tab.Sockets {
			if c.filter.Takes(tab, &tab.Sockets[i]) {
				n++
			}
		}
		assert.Equal(t, c.count, n, name)
	}
	assert.Equal(t, []netip.AddrPort{netip.MustParseAddrPort("203.0.113.70:443"), bookings},
		seen.Wants(sockets.Filter{Name: "till-client"}))
	assert.Empty(t, seen.Wants(sockets.Filter{Name: "nobody"}))
}

func TestStateNames(t *testing.T) {
	for _, name := range sockets.StateNames() {
		s, ok := sockets.StateOf(name)
		assert.True(t, ok)
		assert.Equal(t, name, s.String())
		assert.NotEmpty(t, s.Words())
	}
	_, ok := sockets.StateOf("open")
	assert.False(t, ok)
}
