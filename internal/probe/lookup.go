package probe

import (
	"cmp"
	"context"
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
	"passepartout/internal/nap"
)

// lookupRepeats is when a question is sent again; lookupWait when it is given up. Resolvers drop a datagram now and then, and one that
// must ask others first takes its time.
var lookupRepeats = []time.Duration{450 * time.Millisecond, 1000 * time.Millisecond}

const lookupWait = 1600 * time.Millisecond

// LongestLookup is how long a question is waited for where everything hangs on its answer: as long as the system waits for a server the
// first time (resolv.conf(5): timeout), so that one that is slow is not taken for one that is dead.
const LongestLookup = 5 * time.Second

// Life as the kind of a look-up asks whether a name service lives at all: a question about the server itself (RFC 4892 §2), which it
// answers or refuses without asking anybody else. A forwarder whose own way out is cut keeps silent about names, and still answers this.
const Life = "CH"

const lifeName = "version.bind."

// Lookup asks one resolver for one name over UDP, and over TCP when the answer was cut short (RFC 7766 §5). ctx bounds it from above.
func Lookup(ctx context.Context, m machine.Machine, server netip.Addr, name, kind string) evidence.Lookup {
	return lookup(ctx, m, question{to: netip.AddrPortFrom(server, 53), name: name, kind: kind})
}

// LookupPatiently is Lookup with a longer wait: quiet is told when an impatient one would have given up.
func LookupPatiently(ctx context.Context, m machine.Machine, server netip.Addr, name, kind string, wait time.Duration,
	quiet func(evidence.Lookup)) evidence.Lookup {
	if wait <= lookupWait {
		return Lookup(ctx, m, server, name, kind)
	}
	began := time.Now()
	impatient, cancel := nap.Within(ctx, lookupWait)
	defer cancel()
	tell := context.AfterFunc(impatient, func() {
		if ctx.Err() == nil {
			quiet(evidence.Lookup{Server: server.WithZone(""), Name: name, Type: kind, Asks: 1 + len(lookupRepeats),
				Reply: evidence.Reply{Outcome: evidence.Silent, Waited: time.Since(began)}})
		}
	})
	defer tell()
	return lookup(ctx, m, question{to: netip.AddrPortFrom(server, 53), name: name, kind: kind, wait: wait})
}

// LookupBy is Lookup out of an interface, whatever the routing table says.
func LookupBy(ctx context.Context, m machine.Machine, server netip.Addr, name, kind, iface string) evidence.Lookup {
	return lookup(ctx, m, question{to: netip.AddrPortFrom(server, 53), name: name, kind: kind, iface: iface})
}

// multicastPort is where machines answer for their own names (RFC 6762 §3).
const multicastPort = 5353

// LookupSelf asks a machine of the segment itself what it is called: a question by unicast to its multicast DNS responder (RFC 6762 §5.5).
func LookupSelf(ctx context.Context, m machine.Machine, a netip.Addr) evidence.Lookup {
	return lookup(ctx, m, question{to: netip.AddrPortFrom(a, multicastPort), name: ReverseName(a), kind: "PTR"})
}

// question is one question to one server.
type question struct {
	to         netip.AddrPort
	name, kind string
	iface      string        // out of this interface, whatever the routing table says; "": as the system would
	wait       time.Duration // 0: the usual one
}

func lookup(ctx context.Context, m machine.Machine, x question) evidence.Lookup {
	to := x.to
	server := to.Addr().WithZone("")
	out := evidence.Lookup{Server: server, Name: x.name, Type: x.kind}
	ctx, cancel := nap.Within(ctx, cmp.Or(x.wait, lookupWait))
	defer cancel()
	kind := x.kind
	if kind == evidence.DNS64 {
		kind = "AAAA"
	}
	q := new(dns.Msg).SetQuestion(dns.Fqdn(x.name), dns.StringToType[kind])
	if x.kind == Life {
		q = lifeQuestion()
	}
	if to.Port() == multicastPort {
		q.RecursionDesired = false // §18.6
	} else {
		q.SetEdns0(1232, false) // the size that fits every path (RFC 9715)
	}
	packed, err := q.Pack()
	if err != nil {
		out.Reply = evidence.Reply{Outcome: evidence.LocalError, Reason: "the name cannot be asked for"}
		return out
	}
	port, err := m.OpenDatagram(machine.DatagramConfig{To: to, Interface: x.iface})
	if err != nil {
		out.Reply = machine.LocalError(err)
		return out
	}
	defer port.Close()
	began, err := port.Send(packed)
	if err != nil {
		out.Reply = machine.LocalError(err)
		return out
	}
	out.Asks = 1
	plain := withoutEDNS(q)
	for _, at := range lookupRepeats { // who drops what has options answers without them (RFC 6891 §7)
		repeat := time.AfterFunc(at, func() { _, _ = port.Send(plain) })
		defer repeat.Stop()
	}
	for {
		payload, a, err := port.Receive(ctx)
		waited := time.Since(began)
		for i, at := range lookupRepeats {
			if waited > at {
				out.Asks = i + 2
			}
		}
		if err != nil {
			if ctx.Err() == nil {
				out.Reply = machine.LocalError(err)
			} else if out.Outcome == evidence.NotKnown || out.Outcome == evidence.Malformed {
				if out.Outcome == evidence.NotKnown {
					out.Reply = evidence.Reply{Outcome: evidence.Silent, Waited: waited}
				}
			}
			return out
		}
		if a.Outcome != evidence.Answered {
			out.Reply = reply(a, began)
			return out
		}
		answer := new(dns.Msg)
		if err := answer.Unpack(payload); err != nil || !answer.Response || answer.Id != q.Id || !sameQuestion(q, answer) ||
			!whole(payload, answer) {
			// Not an answer to this question: a forgery, or a server that speaks nonsense. A true one may still come.
			out.Ignored++
			out.Reply = evidence.Reply{Outcome: evidence.Malformed, From: server, RTT: waited,
				Reason: "an answer to another question, or none at all"}
			continue
		}
		if q.IsEdns0() != nil && slices.Contains(refusals, answer.Rcode) {
			q.Extra = nil // nor does it once more
			if _, err := port.Send(plain); err == nil {
				continue
			}
		}
		out.Reply = reply(a, began)
		if out.Truncated = answer.Truncated; answer.Truncated {
			whole, ok := overTCP(ctx, m, to, q)
			if out.Cut = !ok; ok {
				answer = whole
			}
		}
		read(&out, answer, q.Question[0].Qclass)
		if out.Cut { // a part of an answer says neither what there is nor that there is nothing
			out.Addresses, out.Aliases = nil, nil
		}
		return out
	}
}

// refusals are how a server answers that knows no EDNS (RFC 6891 §7).
var refusals = []int{dns.RcodeFormatError, dns.RcodeNotImplemented, dns.RcodeBadVers}

func withoutEDNS(q *dns.Msg) []byte {
	plain := *q
	plain.Extra = nil
	packed, err := plain.Pack()
	if err != nil {
		return nil // the question itself could be packed
	}
	return packed
}

func lifeQuestion() *dns.Msg {
	q := new(dns.Msg).SetQuestion(lifeName, dns.TypeTXT)
	q.Question[0].Qclass = dns.ClassCHAOS
	return q
}

func overTCP(ctx context.Context, m machine.Machine, to netip.AddrPort, q *dns.Msg) (*dns.Msg, bool) {
	ctx, cancel := nap.Within(ctx, lookupWait)
	defer cancel()
	conn, r := m.Connect(ctx, machine.ConnectConfig{To: to})
	if r.Outcome != evidence.Answered {
		return nil, false
	}
	defer conn.Close()
	answer, _, err := (&dns.Client{Net: "tcp"}).ExchangeWithConnContext(ctx, q, &dns.Conn{Conn: conn})
	return answer, err == nil && sameQuestion(q, answer)
}

// whole reports whether a message holds as many records as it says: one that was cut short on the way would pass for an answer without any.
func whole(payload []byte, m *dns.Msg) bool {
	const count = 6 // where the number of answers stands (RFC 1035 §4.1.1)
	return m.Truncated || len(payload) >= count+2 && int(binary.BigEndian.Uint16(payload[count:])) == len(m.Answer)
}

func sameQuestion(q, a *dns.Msg) bool {
	if len(a.Question) != 1 {
		return false
	}
	asked, answered := q.Question[0], a.Question[0]
	return strings.EqualFold(answered.Name, asked.Name) && answered.Qtype == asked.Qtype && answered.Qclass == asked.Qclass
}

// mostAnswers bounds what one message can add to the evidence.
const mostAnswers = 32

func read(out *evidence.Lookup, m *dns.Msg, class uint16) {
	out.RCode, out.Authoritative = dns.RcodeToString[m.Rcode], m.Authoritative
	if out.RCode == "" {
		out.RCode = fmt.Sprintf("RCODE%d", m.Rcode)
	}
	// A record of another class is no answer; the highest bit of multicast DNS says something else (RFC 6762 §10.2).
	answers := slices.DeleteFunc(slices.Clone(m.Answer), func(rr dns.RR) bool { return rr.Header().Class&^(1<<15) != class })
	for _, rr := range answers {
		if len(out.Records) < mostAnswers {
			out.Records = append(out.Records, record(rr))
		}
	}
	for _, rr := range answers {
		if len(out.Addresses)+len(out.Aliases) >= mostAnswers {
			break
		}
		if life := time.Duration(rr.Header().Ttl) * time.Second; out.Life == 0 || life < out.Life {
			out.Life = life
		}
		switch rr := rr.(type) {
		case *dns.A:
			if a, ok := netip.AddrFromSlice(rr.A); ok {
				out.Addresses = append(out.Addresses, a.Unmap())
			}
		case *dns.AAAA:
			if a, ok := netip.AddrFromSlice(rr.AAAA); ok {
				out.Addresses = append(out.Addresses, a)
			}
		case *dns.CNAME:
			out.Aliases = append(out.Aliases, wiretext.Clean(strings.TrimSuffix(rr.Target, ".")))
		case *dns.PTR:
			out.Aliases = append(out.Aliases, wiretext.Clean(strings.TrimSuffix(rr.Ptr, ".")))
		}
	}
}

// longestValue bounds what one record can bring to a screen.
const longestValue = 512

func record(rr dns.RR) evidence.Record {
	h := rr.Header()
	value := strings.TrimPrefix(rr.String(), h.String())
	if len(value) > longestValue {
		value = value[:longestValue]
	}
	return evidence.Record{Name: wiretext.Clean(strings.TrimSuffix(h.Name, ".")), Type: dns.TypeToString[h.Rrtype],
		TTL: time.Duration(h.Ttl) * time.Second, Value: wiretext.Clean(strings.TrimSuffix(value, "."))}
}

// LookupTCP asks one resolver for one name over TCP from the start (RFC 7766).
func LookupTCP(ctx context.Context, m machine.Machine, server netip.Addr, name, kind string) evidence.Lookup {
	out := evidence.Lookup{Server: server, Name: name, Type: kind, TCP: true, Asks: 1}
	ctx, cancel := nap.Within(ctx, lookupWait)
	defer cancel()
	q := new(dns.Msg).SetQuestion(dns.Fqdn(name), dns.StringToType[kind])
	if _, err := q.Pack(); err != nil {
		out.Reply = evidence.Reply{Outcome: evidence.LocalError, Reason: "the name cannot be asked for"}
		return out
	}
	began := time.Now()
	conn, r := m.Connect(ctx, machine.ConnectConfig{To: netip.AddrPortFrom(server, 53)})
	if r.Outcome != evidence.Answered {
		out.Reply = r
		return out
	}
	defer conn.Close()
	answer, _, err := (&dns.Client{Net: "tcp"}).ExchangeWithConnContext(ctx, q, &dns.Conn{Conn: conn})
	switch {
	case ctx.Err() != nil:
		out.Reply = evidence.Reply{Outcome: evidence.Silent, Waited: time.Since(began)}
	case err != nil || !sameQuestion(q, answer):
		out.Ignored++
		out.Reply = evidence.Reply{Outcome: evidence.Malformed, From: server, RTT: time.Since(began),
			Reason: "an answer to another question, or none at all"}
	default:
		out.Reply = evidence.Reply{Outcome: evidence.Answered, From: server, RTT: time.Since(began)}
		read(&out, answer, q.Question[0].Qclass)
	}
	return out
}

// NamesQuestion is one name asked of several servers, in several ways.
type NamesQuestion struct {
	Servers []netip.Addr
	Name    string   // or an address, which is looked up backwards
	Types   []string // as A, AAAA, MX; of an address always PTR
	TCP     bool     // over TCP as well
}

// AskAll puts one question to all servers at once. got is called for each look-up that ends, from several goroutines.
func AskAll(ctx context.Context, m machine.Machine, q NamesQuestion, got func(evidence.Lookup)) {
	name, types := q.Name, q.Types
	if a, err := netip.ParseAddr(name); err == nil {
		name, types = ReverseName(a), []string{"PTR"}
	}
	var wg sync.WaitGroup
	defer wg.Wait()
	for _, server := range q.Servers {
		for _, kind := range types {
			wg.Go(func() {
				defer guard.Goroutine()
				got(Lookup(ctx, m, server, name, kind))
			})
			if q.TCP {
				wg.Go(func() {
					defer guard.Goroutine()
					got(LookupTCP(ctx, m, server, name, kind))
				})
			}
		}
	}
}

// AskCompleted puts the question for each completion of a short name, as the system would: the next one only if the one before leads
// nowhere. It gives the look-ups of the first that has records, or of the first of all, as they come in; got is called from one goroutine
// at a time and may keep the slice.
func AskCompleted(ctx context.Context, m machine.Machine, q NamesQuestion, completions []string,
	got func([]evidence.Lookup)) (all []evidence.Lookup) {
	var first []evidence.Lookup
	for i, name := range completions {
		var mu sync.Mutex
		all = nil
		q.Name = name
		AskAll(ctx, m, q, func(l evidence.Lookup) {
			mu.Lock()
			defer mu.Unlock()
			all = append(all, l)
			if got != nil && (i == 0 || l.Has()) {
				got(slices.Clone(all))
			}
		})
		if i == 0 {
			first = all
		}
		if slices.ContainsFunc(all, evidence.Lookup.Has) || ctx.Err() != nil {
			if got != nil {
				got(all)
			}
			return all
		}
	}
	return first
}

// TrialQuestion compares name servers by look-ups of several names, again and again.
type TrialQuestion struct {
	Servers []netip.Addr
	Names   []string
	Rounds  int
	Pause   time.Duration // between two look-ups at one server
}

// Compare runs the trial: one look-up at a time at each server, all servers side by side, so that what else happens on the network meets
// them alike. It gives every look-up to got, from several goroutines.
func Compare(ctx context.Context, m machine.Machine, q TrialQuestion, got func(evidence.Lookup)) {
	for range q.Rounds {
		for _, name := range q.Names {
			var wg sync.WaitGroup
			for _, server := range q.Servers {
				wg.Go(func() {
					defer guard.Goroutine()
					l := Lookup(ctx, m, server, name, "A")
					if ctx.Err() == nil {
						got(l)
					}
				})
			}
			wg.Wait()
			if !Sleep(ctx, q.Pause) {
				return
			}
		}
	}
}

// ReverseName is the name under which an address is looked up backwards (RFC 1035 §3.5, RFC 3596 §2.5).
func ReverseName(a netip.Addr) string {
	name, err := dns.ReverseAddr(a.WithZone("").String())
	if err != nil {
		return "."
	}
	return name
}
