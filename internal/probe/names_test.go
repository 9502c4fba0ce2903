package probe_test

import (
	"context"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/neighbours"
	"passepartout/internal/core/site"
	"passepartout/internal/machine"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/probe"
	"passepartout/internal/scenario"
)

var printer = netip.MustParseAddr("172.27.40.50")

// scripted is a name server whose answers are given: for each question, the datagrams that come back.
type scripted struct {
	machine.Machine
	replies func(q []byte) [][]byte
}

type scriptedSocket struct {
	scripted
	got chan []byte
}

func (s scripted) OpenDatagram(machine.DatagramConfig) (machine.DatagramSocket, error) {
	return &scriptedSocket{s, make(chan []byte, 64)}, nil
}

func (p *scriptedSocket) Send(q []byte) (time.Time, error) {
	for _, r := range p.replies(q) {
		p.got <- r
	}
	return time.Now(), nil
}

func (p *scriptedSocket) Receive(ctx context.Context) ([]byte, machine.Arrival, error) {
	select {
	case b := <-p.got:
		return b, machine.Arrival{Outcome: evidence.Answered, From: core, At: time.Now()}, nil
	case <-ctx.Done():
		return nil, machine.Arrival{}, ctx.Err()
	}
}

func (p *scriptedSocket) Close() error { return nil }

func answerTo(q []byte, change func(*dns.Msg)) []byte {
	m := new(dns.Msg)
	if m.Unpack(q) != nil {
		return nil
	}
	a := new(dns.Msg).SetReply(m)
	a.Answer = []dns.RR{
		&dns.A{Hdr: dns.RR_Header{Name: m.Question[0].Name, Rrtype: dns.TypeA, Class: dns.ClassINET, Ttl: 60}, A: bookings.AsSlice()}}
	if change != nil {
		change(a)
	}
	packed, _ := a.Pack()
	return packed
}

// loop is an answer whose name points at itself (RFC 1035 §4.1.4 forbids it).
func loop(q []byte) []byte {
	return append(append([]byte{q[0], q[1], 0x84, 0, 0, 1, 0, 1, 0, 0, 0, 0}, 0xc0, 12, 0, 1, 0, 1), 0xc0, 12, 0, 1, 0, 1, 0, 0, 0, 1, 0, 4,
		1, 2, 3, 4)
}

// What is no answer to the question is ignored and counted; a true answer that follows still counts.
func TestAnswersToOtherQuestions(t *testing.T) {
	forged := func(q []byte) []byte { return answerTo(q, func(m *dns.Msg) { m.Id++ }) }
	other := func(q []byte) []byte {
		return answerTo(q, func(m *dns.Msg) { m.Question[0].Name = "other.example." })
	}
	for _, c := range []struct {
		name    string
		replies func(q []byte) [][]byte
		outcome evidence.Outcome
		ignored int
	}{
		{"a forged number, then the answer", func(q []byte) [][]byte { return [][]byte{forged(q), answerTo(q, nil)} }, evidence.Answered,
			1},
		{"another question's answer, then the answer", func(q []byte) [][]byte { return [][]byte{other(q), other(q), answerTo(q, nil)} },
			evidence.Answered, 2},
		{"a compression loop, then the answer", func(q []byte) [][]byte { return [][]byte{loop(q), answerTo(q, nil)} }, evidence.Answered,
			1},
		{"an answer of another class, then the answer", func(q []byte) [][]byte {
			return [][]byte{answerTo(q, func(m *dns.Msg) { m.Question[0].Qclass = dns.ClassHESIOD }), answerTo(q, nil)}
		}, evidence.Answered, 1},
		{"a record of another class beside the one asked for", func(q []byte) [][]byte {
			return [][]byte{answerTo(q, func(m *dns.Msg) {
				m.Answer = append(m.Answer, &dns.A{A: gateway.AsSlice(),
					Hdr: dns.RR_Header{Name: m.Question[0].Name, Rrtype: dns.TypeA, Class: dns.ClassHESIOD, Ttl: 60}})
			})}
		}, evidence.Answered, 0},
		{"noise", func(q []byte) [][]byte { return [][]byte{{1, 2, 3}} }, evidence.Malformed, 3},
		{"nothing", func(q []byte) [][]byte { return nil }, evidence.Silent, 0},
		{"a question in place of an answer", func(q []byte) [][]byte { return [][]byte{q} }, evidence.Malformed, 3},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			l := probe.Lookup(t.Context(), scripted{replies: c.replies}, core, "bookings.kittiwake.example", "A")
			assert.Equal(t, c.outcome, l.Outcome)
			assert.Equal(t, c.ignored, l.Ignored)
			if c.outcome == evidence.Answered {
				assert.Equal(t, []netip.Addr{bookings}, l.Addresses)
			}
		})
	}
}

func TestAllServersAtOnce(t *testing.T) {
	m := at(t, "name-answers-differ", simulated.Options{})
	ask := func(q probe.NamesQuestion) map[string]evidence.Lookup {
		var mu sync.Mutex
		out := map[string]evidence.Lookup{}
		probe.AskAll(t.Context(), m, q, func(l evidence.Lookup) {
			mu.Lock()
			defer mu.Unlock()
			out[l.Server.String()+" "+l.Type+map[bool]string{true: " tcp"}[l.TCP]] = l
		})
		return out
	}
	got := ask(probe.NamesQuestion{Servers: []netip.Addr{core, ns, printer}, Name: "bookings.kittiwake.example", Types: []string{"A", "MX"},
		TCP: true})
	assert.Len(t, got, 12)
	assert.Equal(t, "203.0.113.18", got["172.27.40.2 A"].Records[0].Value)
	assert.Equal(t, "203.0.113.80", got["203.0.113.53 A tcp"].Records[0].Value)
	assert.Equal(t, 5*time.Minute, got["203.0.113.53 A tcp"].Records[0].TTL)
	assert.Empty(t, got["172.27.40.2 MX"].Records)
	assert.Equal(t, evidence.Refused, got["172.27.40.50 A"].Outcome)
	assert.Equal(t, evidence.Refused, got["172.27.40.50 A tcp"].Outcome)
	back := ask(probe.NamesQuestion{Servers: []netip.Addr{core}, Name: "172.27.40.1", Types: []string{"A"}})
	assert.Equal(t, "pier-gw.kittiwake.example", back["172.27.40.2 PTR"].Records[0].Value, "an address is looked up backwards")
}

func TestAMachineNamesItself(t *testing.T) {
	m := at(t, "healthy", simulated.Options{})
	l := probe.LookupSelf(t.Context(), m, printer)
	assert.Equal(t, []string{"label-printer.local"}, l.Aliases)
	assert.Equal(t, evidence.Refused, probe.LookupSelf(t.Context(), m, core).Outcome, "one that does not")
}

func TestTry(t *testing.T) {
	free := netip.MustParseAddr("172.27.40.90")
	for _, c := range []struct {
		name, scenario string
		address        netip.Addr
		o              simulated.Options
		own            bool
		want           neighbours.Standing
		least          time.Duration
	}{
		{"taken", "healthy", printer, simulated.Options{}, false, neighbours.Taken, 0},
		{"free", "healthy", free, simulated.Options{}, false, neighbours.Quiet, 3900 * time.Millisecond},
		{"our own, alone", "healthy", own, simulated.Options{}, true, neighbours.Nobody, 3900 * time.Millisecond},
		{"our own, and a laptop's", "address-conflict", own, simulated.Options{}, true, neighbours.Taken, 0},
		{"taken, without frames", "healthy", printer, simulated.Options{Privilege: simulated.Unprivileged}, false, neighbours.Taken, 0},
		{"free, without frames", "healthy", free, simulated.Options{Privilege: simulated.EchoOnly}, false, neighbours.Quiet,
			1900 * time.Millisecond},
		{"elsewhere", "healthy", bookings, simulated.Options{}, false, neighbours.CannotTell, 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			m := at(t, c.scenario, c.o)
			var s *probe.Segment
			if c.o.Privilege == simulated.Full {
				s = openSegment(t, m)
			}
			var mu sync.Mutex
			changes := 0
			got := probe.Try(t.Context(), m, s, "eth0", neighbours.Trial{Address: c.address, Own: c.own, OnLink: c.address != bookings},
				func(neighbours.Trial) { mu.Lock(); changes++; mu.Unlock() })
			standing, sentence, _ := got.Result(netip.PrefixFrom(own, 24), site.Network{}, false)
			assert.Equal(t, c.want, standing, sentence)
			assert.GreaterOrEqual(t, got.Took, c.least, "three probes, and two seconds of waiting (RFC 5227 §1.1)")
			assert.Positive(t, changes)
			table, err := m.Neighbours(t.Context())
			require.NoError(t, err)
			if s != nil {
				for _, n := range table {
					assert.NotEqual(t, free, n.Address, "a probe leaves no trace in this machine's table")
				}
			}
		})
	}
}

// A context that ends stops the asking, and leaves it open.
func TestTryIsCancelled(t *testing.T) {
	m := at(t, "healthy", simulated.Options{})
	got := probe.Try(within(t, 100*time.Millisecond), m, openSegment(t, m), "eth0", neighbours.Trial{Address: nobody, OnLink: true}, nil)
	assert.False(t, got.Over)
	assert.Less(t, got.Took, 2*time.Second)
}

// Two who answer for one address are both found.
func TestTwoHolders(t *testing.T) {
	s, err := scenario.Load("healthy")
	require.NoError(t, err)
	s.Site.Nodes["visitor-laptop"] = &scenario.Node{
		Ports: map[string]*scenario.Port{"eth0": {Segment: "pier", Addresses: []netip.Prefix{netip.MustParsePrefix("172.27.40.50/24")}}}}
	m := atSite(t, s, simulated.Options{})
	got := probe.Try(t.Context(), m, openSegment(t, m), "eth0", neighbours.Trial{Address: printer, OnLink: true}, nil)
	assert.ElementsMatch(t,
		[]endpoint.HardwareAddr{scenario.Hardware("visitor-laptop", "eth0"), scenario.Hardware("label-printer", "eth0")}, got.Holders)
}
