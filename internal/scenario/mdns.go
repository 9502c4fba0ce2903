package scenario

import (
	"net/netip"
	"strings"

	"github.com/miekg/dns"

	"passepartout/internal/core/endpoint"
)

// SwitchHardware is the hardware address of the switch that a segment is.
func SwitchHardware(segment string) endpoint.HardwareAddr { return Hardware("switch", segment) }

// AnswerForSelf is what a machine answers to a multicast DNS question that comes by unicast (RFC 6762 §6.7): its own name and addresses;
// nil for anything else.
func AnswerForSelf(name string, own []netip.Addr, q *dns.Msg) *dns.Msg {
	if len(q.Question) != 1 {
		return nil
	}
	question := q.Question[0]
	m := new(dns.Msg).SetReply(q)
	m.Authoritative = true
	head := dns.RR_Header{Name: question.Name, Class: dns.ClassINET, Rrtype: question.Qtype, Ttl: 10}
	for _, a := range own {
		reverse, err := dns.ReverseAddr(a.String())
		switch {
		case err == nil && question.Qtype == dns.TypePTR && strings.EqualFold(reverse, question.Name):
			m.Answer = append(m.Answer, &dns.PTR{Hdr: head, Ptr: dns.Fqdn(name)})
		case question.Qtype == dns.TypeA && a.Is4() && strings.EqualFold(dns.Fqdn(name), question.Name):
			m.Answer = append(m.Answer, &dns.A{Hdr: head, A: a.AsSlice()})
		}
	}
	if len(m.Answer) == 0 {
		return nil
	}
	return m
}

// Own lists a node's addresses.
func (n *Node) Own() (out []netip.Addr) {
	for _, name := range n.PortNames() {
		for _, p := range n.Ports[name].Addresses {
			out = append(out, p.Addr())
		}
	}
	return out
}
