package neighbours_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/neighbours"
	"passepartout/internal/core/site"
)

var (
	gw    = netip.MustParseAddr("172.27.40.1")
	host  = netip.MustParseAddr("172.27.40.50")
	began = time.Date(2026, 11, 23, 9, 14, 0, 0, time.UTC)
)

func card(n byte) endpoint.HardwareAddr { return endpoint.HardwareAddr{2, 0, 0, 0, 0, n} }

func after(seconds float64) time.Time {
	return began.Add(time.Duration(seconds * float64(time.Second)))
}

func table(a netip.Addr, h endpoint.HardwareAddr, s endpoint.NeighbourState, age time.Duration) []endpoint.Neighbour {
	return []endpoint.Neighbour{{Address: a, Interface: "eth0", Hardware: h, State: s, Age: age, Aged: age > 0}}
}

func answered(a netip.Addr, hw ...endpoint.HardwareAddr) evidence.Neighbour {
	return evidence.Neighbour{Asked: a, Method: "arp", Asks: 1, Hardware: hw,
		Reply: evidence.Reply{Outcome: evidence.Answered, From: a, RTT: time.Millisecond}}
}

func silent(a netip.Addr) evidence.Neighbour {
	return evidence.Neighbour{Asked: a, Method: "arp", Asks: 1, Reply: evidence.Reply{Outcome: evidence.Silent}}
}

// What a row says, half a minute after it began.
func TestRows(t *testing.T) {
	now := after(30)
	for _, c := range []struct {
		name  string
		what  func(b *neighbours.Book)
		words string
		alive bool
		marks []neighbours.Mark
		card  endpoint.HardwareAddr
	}{
		{"confirmed by the system", func(b *neighbours.Book) { b.Table(now, table(host, card(1), endpoint.Reachable, 3*time.Second)) },
			"answered 3 s ago", true, nil, card(1)},
		{"the system does not say when", func(b *neighbours.Book) { b.Table(now, table(host, card(1), endpoint.Reachable, 0)) },
			"answered lately", true, nil, card(1)},
		{"long not asked", func(b *neighbours.Book) {
			b.Table(now, table(host, card(1), endpoint.Stale, 4*time.Minute+10*time.Second))
		}, "not asked for 4 min", false, nil, card(1)},
		{"asked by the system and silent",
			func(b *neighbours.Book) { b.Table(now, table(host, endpoint.HardwareAddr{}, endpoint.Failed, 0)) }, "asked, and silent", false,
			nil, endpoint.HardwareAddr{}},
		{"fixed by hand", func(b *neighbours.Book) { b.Table(now, table(host, card(1), endpoint.Permanent, 0)) }, "fixed by hand", false,
			[]neighbours.Mark{neighbours.Pinned}, card(1)},
		{"fixed by hand and wrong", func(b *neighbours.Book) {
			b.Table(now, table(host, card(1), endpoint.Permanent, 0))
			b.Claim(after(28), host, card(2))
		}, "fixed by hand; spoke 2 s ago", true, []neighbours.Mark{neighbours.FixedWrong}, card(1)},
		{"heard unasked", func(b *neighbours.Book) { b.Claim(after(18), host, card(1)) }, "spoke 12 s ago", true, nil, card(1)},
		{"asked by us", func(b *neighbours.Book) { b.Ask(after(25), answered(host, card(1))) }, "answered 5 s ago", true, nil, card(1)},
		{"known, asked by us, and silent", func(b *neighbours.Book) {
			b.Table(now, table(host, card(1), endpoint.Stale, time.Hour))
			b.Ask(after(27), silent(host))
		}, "asked 3 s ago, and silent", false, nil, card(1)},
		{"silent, and spoke since", func(b *neighbours.Book) {
			b.Claim(after(1), host, card(1))
			b.Ask(after(5), silent(host))
			b.Claim(after(29), host, card(1))
		}, "spoke 1 s ago", true, nil, card(1)},
		{"gone from the table", func(b *neighbours.Book) {
			b.Table(after(1), table(host, card(1), endpoint.Reachable, 0))
			b.Table(now, nil)
		}, "gone from this machine's table", false, nil, card(1)},
		{"two at one address", func(b *neighbours.Book) { b.Ask(after(29), answered(host, card(1), card(2))) }, "answered 1 s ago", true,
			[]neighbours.Mark{neighbours.SeveralHold}, card(1)},
		{"the gateway's card has changed", func(b *neighbours.Book) {
			b.Table(after(1), table(gw, card(1), endpoint.Reachable, 0))
			b.Table(now, table(gw, card(2), endpoint.Reachable, 0))
		}, "answered lately", true, []neighbours.Mark{neighbours.IsGateway, neighbours.Changed}, card(2)},
		{"a shared card may change hands", func(b *neighbours.Book) {
			b.Table(after(1), table(gw, endpoint.HardwareAddr{0, 0, 0x5e, 0, 1, 7}, endpoint.Reachable, 0))
			b.Claim(now, gw, card(2))
		}, "spoke just now", true, []neighbours.Mark{neighbours.IsGateway, neighbours.Shared}, endpoint.HardwareAddr{0, 0, 0x5e, 0, 1, 7}},
	} {
		t.Run(c.name, func(t *testing.T) {
			b := neighbours.NewBook([]netip.Addr{gw})
			c.what(b)
			rows := b.Rows(now)
			require.Len(t, rows, 1)
			assert.Equal(t, c.words, rows[0].Words)
			assert.Equal(t, c.alive, rows[0].Alive)
			assert.Equal(t, c.marks, rows[0].Marks)
			assert.Equal(t, c.card, rows[0].Hardware)
		})
	}
}

// While a whole segment is asked by the system, its table fills with addresses at which nobody is: they are no neighbours. The gateway is
// told of all the same.
func TestNobody(t *testing.T) {
	b := neighbours.NewBook([]netip.Addr{gw})
	absent := netip.MustParseAddr("172.27.40.90")
	b.Table(began,
		append(table(absent, endpoint.HardwareAddr{}, endpoint.Incomplete, 0),
			table(gw, endpoint.HardwareAddr{}, endpoint.Incomplete, 0)...))
	b.Ask(after(1), silent(absent))
	b.Table(after(2),
		append(table(absent, endpoint.HardwareAddr{}, endpoint.Failed, 0), table(host, endpoint.HardwareAddr{}, endpoint.Failed, 0)...))
	var known []netip.Addr
	for _, r := range b.Rows(after(2)) {
		known = append(known, r.Address)
	}
	assert.Equal(t, []netip.Addr{gw, host}, known, "one that a program here asked for in vain is told of")
}

func TestOneCardForManyAddresses(t *testing.T) {
	b := neighbours.NewBook(nil)
	for i := range byte(4) {
		b.Claim(began, netip.AddrFrom4([4]byte{172, 27, 40, i + 1}), card(9))
	}
	b.Claim(began, netip.MustParseAddr("2001:db8::9"), card(9))
	for _, r := range b.Rows(began) {
		assert.Equal(t, r.Address.Is4(), len(r.Marks) == 1 && r.Marks[0] == neighbours.HoldsMany, "%v: %v", r.Address, r.Marks)
	}
}

// Names keep their source, the one that is asked for first coming first; whom nobody knows gets none, and an address at which nobody is
// gets no entry.
func TestNamesAndStrangers(t *testing.T) {
	b := neighbours.NewBook(nil)
	b.Ask(began, silent(host))
	b.Call(host, neighbours.Name{Text: "ghost", Source: neighbours.ByReverseDNS})
	assert.Empty(t, b.Rows(began))
	b.Claim(began, host, card(1))
	assert.Equal(t, []netip.Addr{host}, b.Nameless())
	b.Call(host, neighbours.Name{Text: "printer.local", Source: neighbours.ByMulticastDNS})
	b.Call(host, neighbours.Name{Text: "printer.example", Source: neighbours.ByReverseDNS})
	b.Call(host, neighbours.Name{Text: "printer.example", Source: neighbours.ByReverseDNS})
	assert.Equal(t,
		[]neighbours.Name{{Text: "printer.example", Source: neighbours.ByReverseDNS},
			{Text: "printer.local", Source: neighbours.ByMulticastDNS}}, b.Rows(began)[0].Names)
	assert.Empty(t, b.Nameless())
}

// A flood of claims fills no more than its bound, and what found no room is counted.
func TestFlood(t *testing.T) {
	b := neighbours.NewBook(nil)
	for i := range 20_000 {
		b.Claim(began, netip.AddrFrom4([4]byte{10, byte(i >> 16), byte(i >> 8), byte(i)}), card(1))
	}
	for i := range 100 {
		b.Claim(began, netip.AddrFrom4([4]byte{10, 0, 0, 1}), card(byte(i)))
	}
	rows := b.Rows(began)
	assert.Len(t, rows, 8192)
	assert.Equal(t, 20_000-8192, b.Missed)
	for _, r := range rows {
		assert.LessOrEqual(t, len(r.Faces), 8)
	}
}

func TestIsItFree(t *testing.T) {
	on := netip.MustParsePrefix("172.27.40.23/24")
	home := site.Network{Prefixes: []netip.Prefix{on.Masked()}, Fixed: []site.Fixed{{Address: host, Name: "label-printer"}}}
	free := netip.MustParseAddr("172.27.40.90")
	for _, c := range []struct {
		name       string
		trial      neighbours.Trial
		documented bool
		want       neighbours.Standing
		says       string
		limit      string
	}{
		{"somebody answers", neighbours.Trial{Address: host, OnLink: true, Holders: []endpoint.HardwareAddr{card(1)}}, false,
			neighbours.Taken, "172.27.40.50 is taken: 02:00:00:00:00:01", ""},
		{"only echo comes", neighbours.Trial{Address: host, OnLink: true, Echo: evidence.Reply{Outcome: evidence.Answered, From: host}},
			false, neighbours.Taken, "answers echo", ""},
		{"an error about it is no answer of its own",
			neighbours.Trial{Address: free, OnLink: true, Over: true, Probes: 3,
				Echo: evidence.Reply{Outcome: evidence.Unreachable, From: gw}}, false,
			neighbours.Quiet, "Nobody answers", ""},
		{"somebody else is about to take it", neighbours.Trial{Address: free, OnLink: true, Rivals: []endpoint.HardwareAddr{card(2)}},
			false, neighbours.Claimed, "being taken just now", ""},
		{"nobody", neighbours.Trial{Address: free, OnLink: true, Over: true, Probes: 3, Frames: true, Took: 4 * time.Second}, false,
			neighbours.Quiet, "no answer to 3 probes in 4.0 s", "switched off"},
		{"nobody, by the system", neighbours.Trial{Address: free, OnLink: true, Over: true, Probes: 3}, false, neighbours.Quiet,
			"Nobody answers", "on our behalf"},
		{"the network's own address", neighbours.Trial{Address: netip.MustParseAddr("172.27.40.255"), OnLink: true, Over: true, Probes: 3},
			false,
			neighbours.Quiet, "Nobody answers", "no address for a machine"},
		{"documented as somebody's", neighbours.Trial{Address: host, OnLink: true, Over: true, Probes: 3}, true, neighbours.Quiet,
			"Nobody answers",
			"label-printer"},
		{"documented as nobody's", neighbours.Trial{Address: free, OnLink: true, Over: true, Probes: 3}, true, neighbours.Quiet,
			"Nobody answers",
			"has nobody for it"},
		{"nothing could be sent", neighbours.Trial{Address: free, OnLink: true, Over: true, Frames: true,
			Echo: evidence.Reply{Outcome: evidence.LocalError, Reason: "network is down"}}, false, neighbours.CannotTell,
			"could not be asked: no probe could be sent: network is down", ""},
		{"elsewhere", neighbours.Trial{Address: netip.MustParseAddr("10.0.0.1"), Over: true}, false, neighbours.CannotTell,
			"outside 172.27.40.0/24", "from a machine on that segment"},
		{"under way", neighbours.Trial{Address: free, OnLink: true, Probes: 1}, false, neighbours.Asking, "1 of 3 probes", ""},
		{"our own, alone", neighbours.Trial{Address: on.Addr(), Own: true, Over: true, Probes: 3, Frames: true}, false, neighbours.Nobody,
			"Nobody else uses", ""},
		{"our own, and another's", neighbours.Trial{Address: on.Addr(), Own: true, Holders: []endpoint.HardwareAddr{card(3)}}, false,
			neighbours.Taken, "Somebody else uses this machine's address", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, sentence, limits := c.trial.Result(on, home, c.documented)
			assert.Equal(t, c.want, got)
			assert.Contains(t, sentence, c.says)
			all := ""
			for _, l := range limits {
				all += l + "\n"
			}
			assert.Contains(t, all, c.limit)
		})
	}
}
