package probe

import (
	"context"
	"net/netip"
	"strings"
	"time"

	"github.com/miekg/dns"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/machine"
)

// lookupRepeats is when a question is sent again; lookupWait when it is given up. Resolvers drop a datagram now and then, and one that
// must ask others first takes its time.
var lookupRepeats = []time.Duration{450 * time.Millisecond, 1000 * time.Millisecond}

const lookupWait = 1600 * time.Millisecond

// Life as the kind of a look-up asks whether a name service lives at all: a question about the server itself (RFC 4892 §2), which it answers or
// refuses without asking anybody else. A forwarder whose own way out is cut keeps silent about names, and still answers this.
const Life = "CH"

const lifeName = "version.bind."

// Lookup asks one resolver for one name over UDP, and over TCP when the answer was cut short (RFC 7766 §5). ctx bounds it from above.
func Lookup(ctx context.Context, m machine.Machine, server netip.Addr, name, kind string) evidence.Lookup {
	out := evidence.Lookup{Server: server, Name: name, Type: kind}
	ctx, cancel := context.WithTimeout(ctx, lookupWait)
	defer cancel()
	q := new(dns.Msg).SetQuestion(dns.Fqdn(name), dns.StringToType[kind])
	if kind == Life {
		q = lifeQuestion()
	}
	q.SetEdns0(1232, false) // the size that fits every path (RFC 9715)
	packed, err := q.Pack()
	if err != nil {
		out.Reply = evidence.Reply{Outcome: evidence.LocalError, Reason: "the name cannot be asked for"}
		return out
	}
	to := netip.AddrPortFrom(server, 53)
	port, err := m.OpenDatagram(machine.DatagramConfig{To: to})
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
	repeat := time.AfterFunc(lookupRepeats[0], func() { _, _ = port.Send(packed) })
	defer repeat.Stop()
	repeat2 := time.AfterFunc(lookupRepeats[1], func() { _, _ = port.Send(packed) })
	defer repeat2.Stop()
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
			} else if out.Outcome == evidence.NotKnown || out.Outcome == evidence.Nonsense {
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
		if err := answer.Unpack(payload); err != nil || !answer.Response || answer.Id != q.Id || !sameQuestion(q, answer) {
			// Not an answer to this question: a forgery, or a server that speaks nonsense. A true one may still come.
			out.Reply = evidence.Reply{Outcome: evidence.Nonsense, From: server, RTT: waited, Reason: "an answer to another question, or none at all"}
			continue
		}
		if answer.Truncated {
			if whole, ok := overTCP(ctx, m, to, q); ok {
				answer = whole
			}
		}
		out.Reply = reply(a, began)
		read(&out, answer)
		return out
	}
}

func lifeQuestion() *dns.Msg {
	q := new(dns.Msg).SetQuestion(lifeName, dns.TypeTXT)
	q.Question[0].Qclass = dns.ClassCHAOS
	return q
}

func overTCP(ctx context.Context, m machine.Machine, to netip.AddrPort, q *dns.Msg) (*dns.Msg, bool) {
	conn, r := m.Connect(ctx, machine.ConnectConfig{To: to})
	if r.Outcome != evidence.Answered {
		return nil, false
	}
	defer conn.Close()
	answer, _, err := (&dns.Client{Net: "tcp"}).ExchangeWithConnContext(ctx, q, &dns.Conn{Conn: conn})
	return answer, err == nil && sameQuestion(q, answer)
}

func sameQuestion(q, a *dns.Msg) bool {
	return len(a.Question) == 1 && strings.EqualFold(a.Question[0].Name, q.Question[0].Name) && a.Question[0].Qtype == q.Question[0].Qtype
}

// mostAnswers bounds what one message can add to the evidence.
const mostAnswers = 32

func read(out *evidence.Lookup, m *dns.Msg) {
	out.RCode = dns.RcodeToString[m.Rcode]
	for _, rr := range m.Answer {
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

// ReverseName is the name under which an address is looked up backwards (RFC 1035 §3.5, RFC 3596 §2.5).
func ReverseName(a netip.Addr) string {
	name, err := dns.ReverseAddr(a.WithZone("").String())
	if err != nil {
		return "."
	}
	return name
}
