package wire

import (
	"encoding/binary"
	"errors"
	"net"
	"net/netip"
	"slices"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/insomniacslk/dhcp/rfc1035label"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/wiretext"
)

// Why a payload is no DHCP message.
var (
	ErrShort  = errors.New("cut short")
	ErrCookie = errors.New("no DHCP message: the magic cookie is missing")
	ErrForm   = errors.New("no DHCP message: its header makes no sense")
)

// dhcpLeast is the length of everything before the options: the BOOTP header and the cookie (RFC 2131 §2).
const dhcpLeast = 240

// mostOptions bounds what one message may hold: there are 254 codes.
const mostOptions = 256

// ParseDHCP reads a DHCP message, options in the fields file and sname included (RFC 2131 §4.1), long ones joined (RFC 3396). The message
// owns its data. A message whose options run past its end is given as far as they could be read, and says so in Cut.
func ParseDHCP(payload []byte) (dhcp.Message, error) {
	var d layers.DHCPv4
	return parseDHCP(&d, payload)
}

// DHCPParser reads many messages without taking memory for each one's header. It is not for concurrent use.
type DHCPParser struct{ layer layers.DHCPv4 }

// Parse reads like ParseDHCP.
func (p *DHCPParser) Parse(payload []byte) (dhcp.Message, error) { return parseDHCP(&p.layer, payload) }

func parseDHCP(d *layers.DHCPv4, payload []byte) (m dhcp.Message, err error) {
	if len(payload) < dhcpLeast {
		return m, ErrShort
	}
	if binary.BigEndian.Uint32(payload[236:]) != layers.DHCPMagic {
		return m, ErrCookie
	}
	err = d.DecodeFromBytes(payload, gopacket.NilDecodeFeedback)
	switch {
	case d.HardwareLen > 16 || d.Operation != layers.DHCPOpRequest && d.Operation != layers.DHCPOpReply:
		return m, ErrForm
	}
	if err != nil {
		m.Cut = "its options run past its end"
	}
	m.Reply = d.Operation == layers.DHCPOpReply
	m.XID, m.Secs, m.Broadcast, m.Hops = d.Xid, d.Secs, d.Flags&0x8000 != 0, d.RelayHops
	m.Client = dhcp.HardwareFrom(d.ClientHWAddr)
	m.Own, m.Your, m.Next, m.Relay = given(d.ClientIP), given(d.YourClientIP), given(d.NextServerIP), given(d.RelayAgentIP)
	m.Options = joined(d.Options)
	if t, ok := m.Option(dhcp.OptType); ok && len(t) == 1 && t[0] <= byte(dhcp.Inform) {
		m.Type = dhcp.Type(t[0])
	}
	if list, ok := m.Option(dhcp.OptSearch); ok {
		m.Search = SearchList(list)
	}
	return m, nil
}

// joined copies the options, the parts of one code put together in the order in which they came (RFC 3396 §5).
func joined(list layers.DHCPOptions) []dhcp.Option {
	size := 0
	for _, o := range list {
		size += len(o.Data)
	}
	data := make([]byte, 0, size)
	out := make([]dhcp.Option, 0, min(len(list), mostOptions))
	var seen [4]uint64
	for i, o := range list {
		code := uint8(o.Type)
		if seen[code>>6]&(1<<(code&63)) != 0 || o.Type == layers.DHCPOptPad || o.Type == layers.DHCPOptEnd {
			continue
		}
		seen[code>>6] |= 1 << (code & 63)
		from := len(data)
		for _, part := range list[i:] {
			if part.Type == o.Type {
				data = append(data, part.Data...)
			}
		}
		out = append(out, dhcp.Option{Code: code, Data: data[from:len(data):len(data)]})
	}
	return out
}

// SearchList reads option 119 (RFC 3397); nil if it makes no sense.
func SearchList(b []byte) (out []string) {
	labels, err := rfc1035label.FromBytes(b)
	if err != nil {
		return nil
	}
	for _, l := range labels.Labels {
		if l != "" && !slices.Contains(out, l) && len(out) < 32 {
			out = append(out, wiretext.Clean(l))
		}
	}
	return out
}

// given is an address of the header; 0.0.0.0 means none.
func given(ip net.IP) netip.Addr {
	if a := addr(ip); !a.IsUnspecified() {
		return a
	}
	return netip.Addr{}
}
