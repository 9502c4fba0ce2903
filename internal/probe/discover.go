package probe

import (
	"context"
	"math/rand/v2"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/machine/wire"
)

// Discover sends DHCP discovers at the given times and collects offers until wait says that it is over; it takes no lease. testing is called
// when a server seems to test an address before it offers it (RFC 2131 §2.2), which may take it seconds.
func (s *Segment) Discover(ctx context.Context, iface string, at []time.Duration, onChange func(evidence.Discovery), testing func()) evidence.Discovery {
	out := evidence.Discovery{Interface: iface}
	var mu sync.Mutex
	hw := s.port.Hardware()
	q, err := dhcpv4.NewDiscovery(wire.HardwareOf(hw), dhcpv4.WithRequestedOptions(
		dhcpv4.OptionSubnetMask, dhcpv4.OptionRouter, dhcpv4.OptionDomainNameServer, dhcpv4.OptionDomainName, dhcpv4.OptionClasslessStaticRoute))
	if err != nil {
		return out
	}
	xid := rand.Uint32()
	q.TransactionID = dhcpv4.TransactionID{byte(xid >> 24), byte(xid >> 16), byte(xid >> 8), byte(xid)}
	began := time.Now()
	s.mu.Lock()
	s.dhcp[xid] = func(m *dhcpv4.DHCPv4, from endpoint.HardwareAddr) {
		mu.Lock()
		defer mu.Unlock()
		o, ok := OfferOf(m, from, time.Since(began))
		switch {
		case ok && !slices.ContainsFunc(out.Offers, func(known evidence.Offer) bool { return known.Server == o.Server }) && len(out.Offers) < mostOffers:
			out.Offers = append(out.Offers, o)
		case m.MessageType() == dhcpv4.MessageTypeNak:
			out.Refusals = append(out.Refusals, ip(m.ServerIdentifier()))
		default:
			return
		}
		onChange(out)
	}
	s.asked = func(netip.Addr) { testing() }
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		delete(s.dhcp, xid)
		s.asked = nil
		s.mu.Unlock()
	}()
	for _, when := range at {
		if !Sleep(ctx, when-time.Since(began)) {
			break
		}
		q.NumSeconds = uint16(time.Since(began) / time.Second)
		if err := s.port.Send(wire.UDPFrame(hw, wire.Broadcast, netip.MustParseAddrPort("0.0.0.0:68"), netip.MustParseAddrPort("255.255.255.255:67"), q.ToBytes())); err != nil {
			break
		}
		mu.Lock()
		out.Discovers++
		out.Waited = time.Since(began)
		onChange(out)
		mu.Unlock()
	}
	<-ctx.Done()
	mu.Lock()
	defer mu.Unlock()
	out.Complete, out.Waited = true, time.Since(began)
	return out
}

func (s *Segment) offered(f wire.Frame) {
	m, err := dhcpv4.FromBytes(f.Payload)
	if err != nil || m.OpCode != dhcpv4.OpcodeBootReply {
		return
	}
	xid := uint32(m.TransactionID[0])<<24 | uint32(m.TransactionID[1])<<16 | uint32(m.TransactionID[2])<<8 | uint32(m.TransactionID[3])
	s.mu.Lock()
	take := s.dhcp[xid]
	s.mu.Unlock()
	if take != nil && string(m.ClientHWAddr) == string(wire.HardwareOf(s.port.Hardware())) {
		take(m, f.Source)
	}
}

// mostOffers bounds what a flood of offers can fill.
const mostOffers = 16

// OfferOf reads an offer; false for any other message.
func OfferOf(m *dhcpv4.DHCPv4, from endpoint.HardwareAddr, after time.Duration) (evidence.Offer, bool) {
	if m.MessageType() != dhcpv4.MessageTypeOffer {
		return evidence.Offer{}, false
	}
	o := evidence.Offer{Server: ip(m.ServerIdentifier()), Hardware: from, RTT: after, Domain: wiretext.Clean(m.DomainName()), Lease: m.IPAddressLeaseTime(0)}
	bits := 32
	if mask := m.SubnetMask(); mask != nil {
		if ones, size := mask.Size(); size == 32 {
			bits = ones
		}
	}
	if your := ip(m.YourIPAddr); your.Is4() && !your.IsUnspecified() {
		o.Address = netip.PrefixFrom(your, bits)
	}
	// Default routes of option 121 beat option 3 (RFC 3442).
	for _, r := range m.ClasslessStaticRoute() {
		if r.Dest != nil {
			if ones, _ := r.Dest.Mask.Size(); ones == 0 {
				o.Routers = append(o.Routers, ip(r.Router))
			}
		}
	}
	if len(o.Routers) == 0 {
		o.Routers = addrs(m.Router())
	}
	o.Resolvers = addrs(m.DNS())
	return o, o.Address.IsValid()
}

func ip(b net.IP) netip.Addr {
	a, _ := netip.AddrFromSlice(b)
	return a.Unmap()
}

func addrs(list []net.IP) (out []netip.Addr) {
	for _, b := range list {
		if a := ip(b); a.IsValid() {
			out = append(out, a)
		}
	}
	return out
}
