package capture

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"strings"
	"time"

	"github.com/gopacket/gopacket/layers"
	"github.com/miekg/dns"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/exchange"
	"passepartout/internal/machine/wire"
)

// Exchanges hands what passes in a file to a tracker, frame by frame. It returns how many frames there were, and how many of them were of
// a link type that is not known here. takes chooses among the Ethernet frames; nil: all count. skip is told where the file can be read no
// further. An error means that nothing could be read at all.
func Exchanges(r io.Reader, t *exchange.Tracker, takes func(frame []byte) bool, skip func(frame int, why string)) (frames, unknown int,
	err error) {
	file, err := Open(r)
	if err != nil {
		return 0, 0, err
	}
	var f Frame
	for {
		switch err := file.Next(&f); {
		case errors.Is(err, io.EOF):
			return frames, unknown, nil
		case err != nil:
			skip(frames+1, err.Error())
			return frames, unknown, nil
		}
		frames++
		switch {
		case f.Link == layers.LinkTypeEthernet && takes != nil && !takes(f.Data):
		case f.Link == layers.LinkTypeEthernet:
			TakeFrame(t, f.At, f.Number, f.Data)
		case rawIP[f.Link]:
			takePacket(t, f.At, f.Number, f.Data)
		default:
			unknown++
		}
	}
}

// TakeFrame hands an Ethernet frame to a tracker. Any octets are allowed.
func TakeFrame(t *exchange.Tracker, at time.Time, number int, frame []byte) {
	if s, ok := wire.ParseLLDP(frame); ok {
		t.Announce(at, number, announcement(&s))
		return
	}
	f, ok := wire.ParseFrame(frame)
	switch {
	case !ok:
	case f.Asks.IsValid() && f.Claim != f.Asks:
		t.Resolve(at, number, exchange.Resolution{V6: f.Asks.Is6(), From: f.Claim, For: f.Asks})
	case f.Claim.IsValid():
		t.Resolve(at, number, exchange.Resolution{V6: f.Claim.Is6(), Answers: true, From: f.Claim, Hardware: f.Hardware})
	case f.Proto == "icmp":
		takePacket(t, at, number, network(frame))
	default:
		takeTransport(t, at, number, &f)
	}
}

// takePacket hands an IP packet without a link layer to a tracker.
func takePacket(t *exchange.Tracker, at time.Time, number int, packet []byte) {
	if len(packet) == 0 {
		return
	}
	if r, ok := wire.ParsePacket(packet); ok {
		if r.Outcome != evidence.Answered {
			t.Trouble(at, number, exchange.Trouble{From: netip.AddrPortFrom(r.From, 0), To: netip.AddrPortFrom(r.To, 0), What: trouble(&r),
				About: quoted(r.About)})
		}
		return
	}
	kind := uint16(typeIPv4)
	if packet[0]>>4 == 6 {
		kind = typeIPv6
	}
	framed := binary.BigEndian.AppendUint16(make([]byte, 12, 14+len(packet)), kind)
	if f, ok := wire.ParseFrame(append(framed, packet...)); ok && f.Proto != "icmp" {
		takeTransport(t, at, number, &f)
	}
}

// network gives what follows the link layer of an Ethernet frame, and one tag.
func network(frame []byte) []byte {
	at := 14
	if len(frame) > 18 && (binary.BigEndian.Uint16(frame[12:]) == typeTag || binary.BigEndian.Uint16(frame[12:]) == typeOuterTag) {
		at = 18
	}
	return frame[min(at, len(frame)):]
}

// trouble says what an ICMP error says, with the numbers that it has on the wire.
func trouble(r *wire.Report) string {
	words := fmt.Sprintf("type %d code %d", r.Type, r.Code)
	why := r.Why.String()
	if exceeded := map[bool]uint8{false: 11, true: 3}[r.From.Is6()]; why == "" && r.Type == exceeded { // RFC 792, RFC 4443 §3.3
		why = "time exceeded"
	}
	if why != "" {
		words = why + ", " + words
	}
	if r.MTU > 0 {
		words += fmt.Sprintf(", MTU %d", r.MTU)
	}
	return words
}

func quoted(q wire.Quote) string {
	name := map[uint8]string{1: "ICMP", 6: "TCP", 17: "UDP", 58: "ICMPv6"}[q.Proto]
	if name == "" {
		name = fmt.Sprintf("protocol %d", q.Proto)
	}
	place := func(a netip.AddrPort) string {
		if a.Port() == 0 {
			return a.Addr().String()
		}
		return a.String()
	}
	return fmt.Sprintf("%s from %s to %s", name, place(q.From), place(q.To))
}

func takeTransport(t *exchange.Tracker, at time.Time, number int, f *wire.Frame) {
	switch {
	case f.Proto == "tcp" && len(f.Segment) >= 14:
		flags := f.Segment[13] // RFC 9293 §3.1
		t.Segment(at, number, exchange.Segment{From: f.From, To: f.To, FIN: flags&1 != 0, SYN: flags&2 != 0, RST: flags&4 != 0,
			ACK: flags&16 != 0})
	case f.Proto == "udp" && (f.To.Port() == dhcp.ServerPort || f.To.Port() == dhcp.ClientPort):
		if m, err := wire.ParseDHCP(f.Payload); err == nil {
			l := letting(&m)
			l.From, l.To = f.From, f.To
			t.Lease(at, number, l)
		}
	case f.Proto == "udp" && f.To.Port() == groupPort:
		takeGroup(t, at, number, f)
	case f.Proto == "udp" && (f.From.Port() == 53 || f.To.Port() == 53):
		var m dns.Msg
		if m.Unpack(f.Payload) != nil && len(m.Question) == 0 {
			return
		}
		if len(m.Question) == 0 {
			return
		}
		q := m.Question[0]
		name, kind := lookedUp(q.Name, q.Qtype)
		t.LookUp(at, number, exchange.Query{From: f.From, To: f.To, ID: m.Id, Answers: m.Response, RCode: m.Rcode, Records: records(&m),
			Name: name, Type: kind})
	}
}

// mostRecords of an answer are told.
const mostRecords = 6

// records are the values of an answer, in a row.
func records(m *dns.Msg) string {
	if m.Rcode != dns.RcodeSuccess {
		name := dns.RcodeToString[m.Rcode]
		if name == "" {
			name = fmt.Sprintf("RCODE %d", m.Rcode)
		}
		return name
	}
	var out []string
	for i, rr := range m.Answer {
		if i == mostRecords {
			out = append(out, fmt.Sprintf("and %d more", len(m.Answer)-mostRecords))
			break
		}
		out = append(out, value(rr))
	}
	switch {
	case m.Truncated:
		out = append(out, "truncated")
	case len(out) == 0:
		return "no record of this type"
	}
	return strings.Join(out, ", ")
}
