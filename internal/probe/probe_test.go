package probe_test

import (
	"context"
	"net"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
	"unicode"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/path"
	"passepartout/internal/core/target"
	"passepartout/internal/machine"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/machine/wire"
	"passepartout/internal/nap/naptest"
	"passepartout/internal/probe"
	"passepartout/internal/scenario"
)

var (
	own      = netip.MustParseAddr("172.27.40.23")
	gateway  = netip.MustParseAddr("172.27.40.1")
	core     = netip.MustParseAddr("172.27.40.2")
	nobody   = netip.MustParseAddr("172.27.40.99")
	ns       = netip.MustParseAddr("203.0.113.53")
	bookings = netip.MustParseAddr("203.0.113.80")
)

func at(t *testing.T, name string, o simulated.Options) machine.Machine {
	s, err := scenario.Load(name)
	require.NoError(t, err)
	return atSite(t, s, o)
}

func atSite(t *testing.T, s *scenario.Scenario, o simulated.Options) machine.Machine {
	site, err := simulated.Build(s, o)
	require.NoError(t, err)
	t.Cleanup(site.Close)
	return site.Machine()
}

func within(t *testing.T, d time.Duration) context.Context {
	ctx, cancel := context.WithTimeout(t.Context(), d)
	t.Cleanup(cancel)
	return ctx
}

func TestEcho(t *testing.T) {
	for _, c := range []struct {
		name      string
		privilege simulated.Privilege
		method    string
	}{{"by ICMP", simulated.Full, "icmp"}, {"by UDP where echo is withheld", simulated.Unprivileged, "udp"}} {
		t.Run(c.name, func(t *testing.T) {
			e := probe.NewEchoer(at(t, "healthy", simulated.Options{Privilege: c.privilege}), "")
			defer e.Close()
			got, sent := e.AskEcho(within(t, 2*time.Second), probe.EchoQuestion{To: bookings, Size: 48})
			assert.Equal(t, evidence.Answered, got.Outcome)
			assert.Equal(t, c.method, got.Method)
			assert.Equal(t, bookings, got.From)
			assert.Greater(t, got.RTT, 19*time.Millisecond)
			assert.WithinDuration(t, time.Now(), sent, 2*time.Second)
			got, _ = e.AskEcho(within(t, 60*time.Millisecond), probe.EchoQuestion{To: nobody})
			assert.Equal(t, evidence.Silent, got.Outcome)
			assert.Greater(t, got.Waited, 50*time.Millisecond)
		})
	}
}

// An answer that comes after its time still reaches whoever asked, until the question is forgotten.
func TestLateAnswers(t *testing.T) {
	e := probe.NewEchoer(at(t, "healthy", simulated.Options{}), "")
	defer e.Close()
	_, _ = e.Ask(within(t, time.Second), probe.EchoQuestion{To: gateway}) // resolves the gateway
	r, _ := e.Ask(within(t, 5*time.Millisecond), probe.EchoQuestion{To: bookings})
	assert.Equal(t, evidence.Silent, r.Outcome)
	got := make(chan evidence.Reply, 4)
	ticket, err := e.Send(probe.EchoQuestion{To: bookings, Size: 40}, func(r evidence.Reply) { got <- r })
	require.NoError(t, err)
	forgotten, err := e.Send(probe.EchoQuestion{To: bookings, Size: 40},
		func(evidence.Reply) { t.Error("a forgotten question was answered") })
	require.NoError(t, err)
	forgotten.Forget()
	assert.NotEqual(t, ticket.Seq, forgotten.Seq)
	assert.Equal(t, evidence.Answered, (<-got).Outcome)
	ticket.Forget()
}

func TestManyEchoesAtOnceKeepApart(t *testing.T) {
	e := probe.NewEchoer(at(t, "healthy", simulated.Options{}), "")
	defer e.Close()
	targets := []netip.Addr{gateway, core, bookings, ns, netip.MustParseAddr("172.27.40.50")}
	var wg sync.WaitGroup
	for i := range 60 {
		wg.Go(func() {
			to := targets[i%len(targets)]
			r, _ := e.Ask(within(t, 3*time.Second), probe.EchoQuestion{To: to})
			assert.Equal(t, evidence.Answered, r.Outcome)
			assert.Equal(t, to, r.From, "an answer went to another question")
		})
	}
	wg.Wait()
}

func TestTrace(t *testing.T) {
	for _, c := range []struct {
		scenario string
		method   probe.TraceMethod
		to       netip.Addr
		want     string
		end      evidence.Outcome
	}{
		{"healthy", probe.TraceICMP, bookings, "172.27.40.1 198.51.100.1 198.51.100.9 198.51.100.13 203.0.113.80", evidence.Answered},
		{"healthy", probe.TraceUDP, bookings, "172.27.40.1 198.51.100.1 198.51.100.9 198.51.100.13 203.0.113.80", evidence.Refused},
		{"healthy", probe.TraceTCP, bookings, "172.27.40.1 198.51.100.1 198.51.100.9 198.51.100.13 203.0.113.80", evidence.Answered},
		{"healthy", probe.TraceICMP, netip.MustParseAddr("2001:db8:113::70"),
			"2001:db8:40::1 2001:db8:1::1 2001:db8:2::2 2001:db8:3::2 2001:db8:113::70", evidence.Answered},
		{"hop-silent", probe.TraceICMP, bookings, "172.27.40.1 198.51.100.1 invalid IP 198.51.100.13 203.0.113.80", evidence.Answered},
		{"path-stops", probe.TraceICMP, bookings, "172.27.40.1 198.51.100.1 198.51.100.9", evidence.Expired},
	} {
		t.Run(c.scenario+" "+string(c.method)+" "+c.to.String(), func(t *testing.T) {
			e := probe.NewEchoer(at(t, c.scenario, simulated.Options{}), "")
			defer e.Close()
			var mu sync.Mutex
			set := evidence.Set{}
			naptest.Undisturbed(t, func(found assert.TestingT) {
				began := time.Now()
				_, err := probe.Trace(t.Context(), e,
					probe.TraceQuestion{To: netip.AddrPortFrom(c.to, 443), Method: c.method, First: 1, Last: 12,
						Patience: 300 * time.Millisecond, Again: 350 * time.Millisecond}, func(h path.Seen) {
						mu.Lock()
						defer mu.Unlock()
						set.Hops = append(set.Hops, evidence.Hop{To: c.to, HopLimit: h.HopLimit, Reply: h.Reply})
					})
				require.NoError(t, err)
				assert.Less(found, time.Since(began), 2*time.Second)
				trail, ok := set.TrailTo(c.to)
				if !assert.True(found, ok) {
					return
				}
				var got []string
				last, _ := trail.Last()
				for _, st := range trail.Stations {
					if st.HopLimit <= last.HopLimit {
						got = append(got, st.From.String())
					}
				}
				assert.Equal(found, c.want, joined(got))
				assert.Equal(found, c.end, last.Outcome)
				if c.scenario == "hop-silent" {
					if !assert.Greater(found, len(trail.Stations), 2) {
						return
					}
					assert.Equal(found, 2, trail.Stations[2].Asked, "a silent station is asked once more")
					assert.Equal(found, 1, trail.Stations[1].Asked, "one that answered is not")
				}
			})
		})
	}
}

func joined(parts []string) string {
	out := ""
	for i, p := range parts {
		if i > 0 {
			out += " "
		}
		out += p
	}
	return out
}

func TestLookup(t *testing.T) {
	for _, c := range []struct {
		scenario, name, kind string
		server               netip.Addr
		outcome              evidence.Outcome
		rcode                string
		addrs                []netip.Addr
		asks                 int
	}{
		{"healthy", "bookings.kittiwake.example", "A", core, evidence.Answered, "NOERROR", []netip.Addr{bookings}, 1},
		{"healthy", "Bookings.Kittiwake.Example", "A", ns, evidence.Answered, "NOERROR", []netip.Addr{bookings}, 1},
		{"healthy", "tides.kittiwake.example", "AAAA", core, evidence.Answered, "NOERROR",
			[]netip.Addr{netip.MustParseAddr("2001:db8:113::70")}, 1},
		{"healthy", "bookings.kittiwake.example", "AAAA", core, evidence.Answered, "NOERROR", nil, 1},
		{"healthy", "nothing.kittiwake.example", "A", core, evidence.Answered, "NXDOMAIN", nil, 1},
		{"healthy", "elsewhere.example", "A", core, evidence.Answered, "REFUSED", nil, 1},
		{"healthy", "bookings.kittiwake.example", "A", bookings, evidence.Refused, "", nil, 1},
		{"healthy", "bookings.kittiwake.example", "A", nobody, evidence.Silent, "", nil, 3},
		{"gateway-not-set", "bookings.kittiwake.example", "A", ns, evidence.LocalError, "", nil, 0},
	} {
		t.Run(c.name+" at "+c.server.String(), func(t *testing.T) {
			t.Parallel()
			got := probe.Lookup(t.Context(), at(t, c.scenario, simulated.Options{}), c.server, c.name, c.kind)
			assert.Equal(t, c.outcome, got.Outcome, got.Reason)
			assert.Equal(t, c.rcode, got.RCode)
			assert.Equal(t, c.addrs, got.Addresses)
			assert.GreaterOrEqual(t, got.Asks, c.asks, "an answer may be looked at late")
			assert.LessOrEqual(t, got.Asks, max(c.asks, 3))
		})
	}
	m := at(t, "healthy", simulated.Options{})
	names := probe.Names(t.Context(), m, []netip.Addr{core}, []netip.Addr{gateway, nobody}, time.Second)
	assert.Equal(t, map[netip.Addr]string{gateway: "pier-gw.kittiwake.example"}, names)
}

func TestResolve(t *testing.T) {
	m := at(t, "healthy", simulated.Options{})
	e, err := m.Read(t.Context())
	require.NoError(t, err)
	for _, c := range []struct {
		in       string
		families evidence.Families
		want     []netip.Addr
		flaw     string
	}{
		{in: "bookings.kittiwake.example", want: []netip.Addr{bookings}},
		{in: "bookings", want: []netip.Addr{bookings}},
		{in: "ticket-03", want: []netip.Addr{own}},
		{in: "tides.kittiwake.example", families: evidence.Families{No4: true},
			want: []netip.Addr{netip.MustParseAddr("2001:db8:113::70")}},
		{in: "203.0.113.80", want: []netip.Addr{bookings}},
		{in: "203.0.113.80", families: evidence.Families{No4: true}, flaw: "not of the chosen address family"},
		{in: "nothing.kittiwake.example", flaw: "172.27.40.2: NXDOMAIN"},
	} {
		want, err := target.Parse(c.in)
		require.NoError(t, err)
		got, _, err := probe.Resolve(t.Context(), m, e, want, c.families)
		if c.flaw != "" {
			assert.ErrorContains(t, err, c.flaw)
			continue
		}
		require.NoError(t, err, c.in)
		assert.Equal(t, c.want, got, c.in)
	}
	e.Resolvers = nil
	want, _ := target.Parse("bookings.kittiwake.example")
	_, _, err = probe.Resolve(t.Context(), m, e, want, evidence.Families{})
	assert.ErrorContains(t, err, "no name server is set")
}

func openSegment(t *testing.T, m machine.Machine) *probe.Segment {
	s, err := probe.OpenSegment(m, "eth0", func(a netip.Addr) bool { return a == own }, func(evidence.Heard) {}, nil)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

func TestSegment(t *testing.T) {
	m := at(t, "healthy", simulated.Options{})
	s := openSegment(t, m)
	n := s.Resolve(t.Context(), own, gateway)
	assert.Equal(t, evidence.Answered, n.Outcome)
	assert.Equal(t, []endpoint.HardwareAddr{scenario.Hardware("pier-gw", "eth0")}, n.Hardware)
	n = s.Resolve(t.Context(), netip.MustParseAddr("2001:db8:40::23"), netip.MustParseAddr("2001:db8:40::1"))
	assert.Equal(t, evidence.Answered, n.Outcome, "neighbour discovery too")
	assert.Equal(t, "nd", n.Method)
	n = s.Resolve(t.Context(), own, nobody)
	assert.Equal(t, evidence.Silent, n.Outcome)
	assert.Equal(t, 3, n.Asks, "asked three times before it counts as silent")

	c := s.Conflict(within(t, 60*time.Millisecond), own)
	assert.Equal(t, evidence.Silent, c.Outcome)
	twin := openSegment(t, at(t, "address-conflict", simulated.Options{}))
	c = twin.Conflict(within(t, time.Second), own)
	assert.Equal(t, evidence.Answered, c.Outcome)
	assert.Equal(t, scenario.Hardware("visitor-laptop", "eth0"), c.Hardware)
}

func TestSweepKeepsItsRateAndItsBounds(t *testing.T) {
	naptest.Undisturbed(t, func(truth assert.TestingT) { sweepOnce(t, truth) })
}

func sweepOnce(t *testing.T, truth assert.TestingT) {
	s := openSegment(t, at(t, "healthy", simulated.Options{}))
	var targets []netip.Addr
	for i := range byte(80) {
		targets = append(targets, netip.AddrFrom4([4]byte{172, 27, 40, 1 + i}))
	}
	var mu sync.Mutex
	found, living := map[netip.Addr]bool{}, 0
	began := time.Now()
	asked := s.Sweep(t.Context(), own, targets, 400, 50*time.Millisecond, func(n evidence.Neighbour) {
		mu.Lock()
		defer mu.Unlock()
		found[n.Asked] = n.Outcome == evidence.Answered
		if n.Outcome == evidence.Answered {
			living++
		}
	}, func() bool { return false })
	assert.Equal(truth, 80, asked)
	assert.GreaterOrEqual(t, time.Since(began), 190*time.Millisecond, "80 requests at 400 a second")
	assert.Equal(truth, 7, living, "%v", found)
	assert.Len(truth, found, 80, "silence is told as well")
	assert.False(truth, found[own], "not itself")
	var late atomic.Int32
	s.Sweep(t.Context(), own, targets, 400, time.Nanosecond, func(n evidence.Neighbour) {
		if n.Outcome == evidence.Answered {
			late.Add(1)
		}
	}, func() bool { return false })
	assert.EqualValues(truth, 7, late.Load(), "who answers after patience was over, and before the last one was asked, is told")
	asked = s.Sweep(t.Context(), own, targets, 400, 50*time.Millisecond, func(evidence.Neighbour) {}, func() bool { return true })
	assert.Zero(truth, asked, "enough is enough")
}

func TestDiscover(t *testing.T) {
	var changes []evidence.Discovery
	s := openSegment(t, at(t, "no-address", simulated.Options{}))
	d := s.Discover(within(t, 100*time.Millisecond),
		probe.DHCPQuestion{Interface: "eth0", At: []time.Duration{0, 20 * time.Millisecond}, Always: true,
			Changed: func(d evidence.Discovery) { changes = append(changes, d) }})
	assert.True(t, d.Complete)
	assert.Equal(t, 2, d.Discovers)
	require.Len(t, d.Offers, 1, "a second offer of the same server is the same offer")
	o := d.Offers[0]
	assert.Equal(t, core, o.Server)
	assert.Equal(t, netip.PrefixFrom(own, 24), o.Address)
	assert.Equal(t, []netip.Addr{gateway}, o.Routers)
	assert.Equal(t, []netip.Addr{core, ns}, o.Resolvers)
	assert.Equal(t, time.Hour, o.Lease)
	assert.NotEmpty(t, changes)

	s = openSegment(t, at(t, "dhcp-silent", simulated.Options{}))
	d = s.Discover(within(t, 60*time.Millisecond), probe.DHCPQuestion{Interface: "eth0", At: []time.Duration{0}})
	assert.Empty(t, d.Offers)
	assert.True(t, d.Complete)
}

func TestOfferOf(t *testing.T) {
	message := func(kind dhcpv4.MessageType, mods ...dhcpv4.Modifier) *dhcpv4.DHCPv4 {
		m, err := dhcpv4.New(
			append([]dhcpv4.Modifier{dhcpv4.WithMessageType(kind), dhcpv4.WithYourIP(own.AsSlice()),
				dhcpv4.WithOption(dhcpv4.OptServerIdentifier(core.AsSlice()))}, mods...)...)
		require.NoError(t, err)
		return m
	}
	mask := dhcpv4.WithNetmask(net.CIDRMask(22, 32))
	for _, c := range []struct {
		name    string
		in      *dhcpv4.DHCPv4
		address string
		routers []netip.Addr
	}{
		{"with a mask", message(dhcpv4.MessageTypeOffer, mask, dhcpv4.WithRouter(gateway.AsSlice())), "172.27.40.23/22",
			[]netip.Addr{gateway}},
		{"without a mask", message(dhcpv4.MessageTypeOffer), "172.27.40.23/32", nil},
		{"a default route in option 121 beats option 3", message(dhcpv4.MessageTypeOffer, mask, dhcpv4.WithRouter(core.AsSlice()),
			dhcpv4.WithOption(
				dhcpv4.OptClasslessStaticRoute(
					&dhcpv4.Route{Dest: &net.IPNet{IP: net.IPv4zero.To4(), Mask: net.CIDRMask(0, 32)}, Router: gateway.AsSlice()}))),
			"172.27.40.23/22", []netip.Addr{gateway}},
		{"no offer", message(dhcpv4.MessageTypeAck, mask), "", nil},
		{"no address in it", message(dhcpv4.MessageTypeOffer, dhcpv4.WithYourIP(net.IPv4zero)), "", nil},
	} {
		m, err := wire.ParseDHCP(c.in.ToBytes())
		require.NoError(t, err)
		got, ok := probe.OfferOf(&m, endpoint.HardwareAddr{}, 0)
		assert.Equal(t, c.address != "", ok, c.name)
		if ok {
			assert.Equal(t, c.address, got.Address.String(), c.name)
			assert.Equal(t, c.routers, got.Routers, c.name)
		}
	}
}

func FuzzOffer(f *testing.F) {
	m, err := dhcpv4.New(dhcpv4.WithMessageType(dhcpv4.MessageTypeOffer), dhcpv4.WithYourIP(own.AsSlice()),
		dhcpv4.WithNetmask(net.CIDRMask(24, 32)))
	if err != nil {
		f.Fatal(err)
	}
	f.Add(m.ToBytes())
	f.Fuzz(func(t *testing.T, in []byte) {
		m, err := wire.ParseDHCP(in)
		if err != nil {
			return
		}
		if o, ok := probe.OfferOf(&m, endpoint.HardwareAddr{}, 0); ok && !o.Address.Addr().Is4() {
			t.Fatalf("%+v", o)
		}
	})
}

func TestProvoke(t *testing.T) {
	m := at(t, "healthy", simulated.Options{Privilege: simulated.Unprivileged})
	got := map[netip.Addr]evidence.Outcome{}
	probe.Provoke(t.Context(), m, "eth0", []netip.Addr{gateway, core, nobody}, 300*time.Millisecond,
		func(n evidence.Neighbour) { got[n.Asked] = n.Outcome })
	assert.Equal(t, map[netip.Addr]evidence.Outcome{gateway: evidence.Answered, core: evidence.Answered, nobody: evidence.Silent}, got)
	// What the table remembers proves nothing about now.
	probe.Provoke(t.Context(), m, "eth0", []netip.Addr{gateway}, 60*time.Millisecond,
		func(n evidence.Neighbour) { got[n.Asked] = n.Outcome })
	assert.Equal(t, evidence.NotKnown, got[gateway])
	// What it did not know then, and knows now, has answered meanwhile.
	probe.ProvokeSince(t.Context(), m, "eth0", nil, []netip.Addr{gateway}, 60*time.Millisecond,
		func(n evidence.Neighbour) { got[n.Asked] = n.Outcome })
	assert.Equal(t, evidence.Answered, got[gateway])
}

func TestWeb(t *testing.T) {
	m := at(t, "healthy-two-families", simulated.Options{})
	for _, c := range []struct {
		url     string
		outcome evidence.Outcome
		status  int
	}{
		{"https://tides.kittiwake.example/", evidence.Answered, 200},
		{"http://tides.kittiwake.example/x", evidence.Answered, 200},
		{"https://bookings.kittiwake.example/", evidence.Malformed, 0}, // the certificate at this address is for another name
	} {
		want, err := target.Parse(c.url)
		require.NoError(t, err)
		w := probe.AskWeb(within(t, 3*time.Second), m, want, netip.MustParseAddr("203.0.113.70"), "")
		assert.Equal(t, c.outcome, w.Outcome, "%s %s", c.url, w.Reason)
		assert.Equal(t, c.status, w.Status, c.url)
	}
}

func FuzzAnswer(f *testing.F) {
	q := new(dns.Msg).SetQuestion("a.example.", dns.TypeA)
	a := new(dns.Msg).SetReply(q)
	a.Answer = []dns.RR{&dns.A{Hdr: dns.RR_Header{Name: "a.example.", Rrtype: dns.TypeA, Class: dns.ClassINET}, A: own.AsSlice()},
		&dns.CNAME{Hdr: dns.RR_Header{Name: "a.example.", Rrtype: dns.TypeCNAME, Class: dns.ClassINET}, Target: "\\027[31m.example."}}
	packed, err := a.Pack()
	if err != nil {
		f.Fatal(err)
	}
	f.Add(packed)
	f.Fuzz(func(t *testing.T, in []byte) {
		l, ok := probe.ReadAnswer(in)
		if !ok {
			return
		}
		for _, addr := range l.Addresses {
			if !addr.IsValid() {
				t.Fatal("an answer without an address")
			}
		}
		for _, name := range l.Aliases {
			if strings.ContainsFunc(name, func(r rune) bool { return !unicode.IsPrint(r) }) {
				t.Fatalf("%q reaches the screen", name)
			}
		}
	})
}

// Names that a server hands out are data, whatever bytes stand in them.
func TestHostileStringsAreCleaned(t *testing.T) {
	m, err := dhcpv4.New(dhcpv4.WithMessageType(dhcpv4.MessageTypeOffer), dhcpv4.WithYourIP(own.AsSlice()),
		dhcpv4.WithOption(dhcpv4.OptDomainName("evil\x1b[2J\u202e.example\x07")))
	require.NoError(t, err)
	read, err := wire.ParseDHCP(m.ToBytes())
	require.NoError(t, err)
	o, ok := probe.OfferOf(&read, endpoint.HardwareAddr{}, 0)
	require.True(t, ok)
	assert.Equal(t, `evil\x1b[2J\u202e.example\x07`, o.Domain)

	q := new(dns.Msg).SetQuestion("1.40.27.172.in-addr.arpa.", dns.TypePTR)
	a := new(dns.Msg).SetReply(q)
	a.Answer = []dns.RR{
		&dns.PTR{Hdr: dns.RR_Header{Name: q.Question[0].Name, Rrtype: dns.TypePTR, Class: dns.ClassINET},
			Ptr: "\\027]0;title\\007.example."}}
	packed, err := a.Pack()
	require.NoError(t, err)
	l, ok := probe.ReadAnswer(packed)
	require.True(t, ok)
	require.Len(t, l.Aliases, 1)
	assert.NotContains(t, l.Aliases[0], "\x1b")
	assert.NotContains(t, l.Aliases[0], "\x07")
}
