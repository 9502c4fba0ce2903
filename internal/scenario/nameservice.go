package scenario

import (
	"net/netip"
	"strings"
	"time"

	"github.com/miekg/dns"
)

// Odd reports whether the service does what no usual server can be set to do.
func (spec *DNS) Odd() bool { return spec.Slow > 0 || spec.EDNS != "" || spec.Truncates }

// Handler answers questions as the service does, on every ground. moved tells the names that have another address for the time being;
// forward asks another server.
func (spec *DNS) Handler(moved func(string) (netip.Addr, bool), forward func(*dns.Msg) *dns.Msg) dns.Handler {
	return dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		udp := w.RemoteAddr().Network() == "udp"
		if len(q.Question) == 1 && q.Question[0].Qclass == dns.ClassINET { // it knows about itself at once
			time.Sleep(time.Duration(spec.Slow))
		}
		m := spec.answer(q, moved)
		switch {
		case spec.EDNS == "dropped" && q.IsEdns0() != nil:
			return
		case spec.EDNS == "refused" && q.IsEdns0() != nil:
			m = new(dns.Msg).SetRcode(q, dns.RcodeFormatError)
		case m == nil:
			m = forward(q)
		case spec.Truncates && udp && len(m.Answer) > 0:
			m.Answer, m.Truncated = nil, true
		}
		_ = w.WriteMsg(m)
	})
}

// answer looks into the zone; nil when the question must be forwarded. moved tells the names that have another address for the time being.
func (spec *DNS) answer(q *dns.Msg, moved func(string) (netip.Addr, bool)) *dns.Msg {
	m := new(dns.Msg).SetReply(q)
	if len(q.Question) != 1 {
		m.Rcode = dns.RcodeFormatError
		return m
	}
	question := q.Question[0]
	if question.Qclass == dns.ClassCHAOS { // about the server itself: nobody's but its own to answer
		m.Rcode = dns.RcodeRefused
		return m
	}
	name := strings.ToLower(strings.TrimSuffix(question.Name, "."))
	if question.Qtype == dns.TypePTR {
		return spec.reverse(m, question.Name)
	}
	addrs, known := spec.Records[name]
	if !known {
		if !(name == spec.Zone || strings.HasSuffix(name, "."+spec.Zone)) {
			if spec.Forward.IsValid() {
				return nil
			}
			m.Rcode = dns.RcodeRefused
			return m
		}
		m.Rcode = dns.RcodeNameError
		return m
	}
	if a, yes := moved(name); yes {
		addrs = []netip.Addr{a}
	}
	for _, a := range addrs {
		head := dns.RR_Header{Name: question.Name, Class: dns.ClassINET, Ttl: uint32(spec.Life().Seconds())}
		switch {
		case question.Qtype == dns.TypeA && a.Is4():
			head.Rrtype = dns.TypeA
			m.Answer = append(m.Answer, &dns.A{Hdr: head, A: a.AsSlice()})
		case question.Qtype == dns.TypeAAAA && a.Is6():
			head.Rrtype = dns.TypeAAAA
			m.Answer = append(m.Answer, &dns.AAAA{Hdr: head, AAAA: a.AsSlice()})
		}
	}
	return m
}

// reverse answers for the addresses that the records name.
func (spec *DNS) reverse(m *dns.Msg, asked string) *dns.Msg {
	for name, addrs := range spec.Records {
		for _, a := range addrs {
			if reverse, err := dns.ReverseAddr(a.String()); err == nil && strings.EqualFold(reverse, asked) {
				m.Answer = append(m.Answer,
					&dns.PTR{Hdr: dns.RR_Header{Name: asked, Rrtype: dns.TypePTR, Class: dns.ClassINET, Ttl: 300}, Ptr: dns.Fqdn(name)})
				return m
			}
		}
	}
	m.Rcode = dns.RcodeNameError
	return m
}
