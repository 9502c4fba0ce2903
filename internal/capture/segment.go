package capture

import (
	"fmt"
	"strings"
	"time"

	"github.com/miekg/dns"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/exchange"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/machine/wire"
)

// groupPort is mDNS's (RFC 6762 §3).
const groupPort = 5353

// letting says what a message of DHCP is in an exchange.
func letting(m *dhcp.Message) exchange.Letting {
	l := exchange.Letting{XID: m.XID, Client: m.Client.String(), Answers: m.Reply, What: m.Type.String()}
	if m.Reply {
		l.Outcome = map[dhcp.Type]exchange.Outcome{dhcp.Offer: exchange.Waiting, dhcp.Ack: exchange.Answered,
			dhcp.Nak: exchange.Refused}[m.Type]
		if m.Your.IsValid() {
			l.What += " " + m.Your.String()
		}
		if s := m.Server(); s.IsValid() {
			l.What += " from " + s.String()
		}
		if text := m.Text(); text != "" {
			l.What += ": " + text
		}
		return l
	}
	l.Outcome = exchange.Unanswered
	if m.Type == dhcp.Release || m.Type == dhcp.Decline {
		l.Outcome = exchange.Said
	}
	wanted := m.Requested()
	if !wanted.IsValid() {
		wanted = m.Own
	}
	if wanted.IsValid() {
		l.What += " " + wanted.String()
	}
	return l
}

// takeGroup hands a message of mDNS to a tracker: its questions, or the records of its answer.
func takeGroup(t *exchange.Tracker, at time.Time, number int, f *wire.Frame) {
	var m dns.Msg
	if m.Unpack(f.Payload) != nil && len(m.Question)+len(m.Answer) == 0 {
		return
	}
	q := exchange.Query{From: f.From, To: f.To, Answers: m.Response}
	if !m.Response {
		for _, asked := range m.Question[:min(len(m.Question), mostRecords)] {
			q.Name, q.Type = lookedUp(asked.Name, asked.Qtype)
			t.InGroup(at, number, q)
		}
		return
	}
	for _, rr := range m.Answer {
		q.Name, q.Type = lookedUp(rr.Header().Name, rr.Header().Rrtype)
		q.Records = value(rr)
		t.InGroup(at, number, q)
	}
}

// lookedUp gives a name and the type of a record as they are shown.
func lookedUp(name string, kind uint16) (string, string) {
	return strings.ToLower(wiretext.Clean(strings.TrimSuffix(name, "."))), dns.Type(kind).String()
}

// value is what a record holds besides its name, class and life.
func value(rr dns.RR) string {
	return wiretext.Clean(strings.TrimSpace(strings.TrimPrefix(rr.String(), rr.Header().String())))
}

// announcement is what a switch says of itself, in words.
func announcement(s *evidence.Switch) exchange.Announcement {
	name := s.Name
	if name == "" {
		name = s.Chassis
	}
	words := fmt.Sprintf("%s, port %s", name, s.Port)
	if s.VLAN > 0 {
		words += fmt.Sprintf(", VLAN %d", s.VLAN)
	}
	return exchange.Announcement{From: s.Address, Who: s.Hardware.String(), What: words, Leaving: s.Life == 0}
}
