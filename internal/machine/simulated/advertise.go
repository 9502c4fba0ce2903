package simulated

import (
	"net/netip"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv6"
	"github.com/insomniacslk/dhcp/iana"
	"github.com/insomniacslk/dhcp/rfc1035label"

	"passepartout/internal/machine/wire"
	"passepartout/internal/scenario"
)

// advertise answers router solicitations on a port, and information-requests if the node does that as well.
func advertise(n *node, p *port) (stop func()) {
	spec := n.spec().Advertises
	own := linkLocal(p)
	return p.listen(func(frame []byte) {
		v, ok := look(frame)
		if !ok || !v.v6 {
			return
		}
		if wire.IsSolicitation(frame) {
			p.transmit(wire.RouterAdvertisement(p.hw, own,
				wire.Advertised{Lifetime: time.Duration(spec.Lifetime), Other: spec.Inform, Prefix: spec.Prefix, Valid: 24 * time.Hour,
					Resolvers: spec.Resolvers, CaptivePortal: spec.Portal}))
			return
		}
		f, ok := wire.ParseFrame(frame)
		if !ok || !spec.Inform || f.Proto != "udp" || f.To.Port() != wire.ServerPort6 {
			return
		}
		if reply, ok := informed(f.Payload, p, spec); ok {
			p.transmit(wire.UDP6Frame(p.hw, f.Source, netip.AddrPortFrom(own, wire.ServerPort6), f.From, reply))
		}
	})
}

// informed is the reply to an information-request (RFC 8415 §18.3.6).
func informed(payload []byte, p *port, spec *scenario.Advertises) ([]byte, bool) {
	q, err := dhcpv6.MessageFromBytes(payload)
	if err != nil || q.MessageType != dhcpv6.MessageTypeInformationRequest {
		return nil, false
	}
	m, err := dhcpv6.NewReplyFromMessage(q,
		dhcpv6.WithServerID(&dhcpv6.DUIDLL{HWType: iana.HWTypeEthernet, LinkLayerAddr: wire.HardwareOf(p.hw)}),
		dhcpv6.WithDNS(ips(spec.Resolvers)...))
	if err != nil {
		return nil, false
	}
	if len(spec.Search) > 0 {
		m.AddOption(dhcpv6.OptDomainSearchList(&rfc1035label.Labels{Labels: spec.Search}))
	}
	if spec.Portal != "" {
		m.AddOption(&dhcpv6.OptionGeneric{OptionCode: wire.OptCaptivePortal6, OptionData: []byte(spec.Portal)})
	}
	return m.ToBytes(), true
}

// linkLocal is the address that a port makes of its hardware address (RFC 4291 appendix A).
func linkLocal(p *port) netip.Addr {
	h := p.hw
	return netip.AddrFrom16([16]byte{0xfe, 0x80, 8: h[0] ^ 2, 9: h[1], 10: h[2], 11: 0xff, 12: 0xfe, 13: h[3], 14: h[4], 15: h[5]})
}
