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

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/machine/wire"
)

// DHCPQuestion is what DHCP servers are asked.
type DHCPQuestion struct {
	Interface string
	At        []time.Duration // when discovers go out
	Held      netip.Addr      // an address that this machine has: an INFORM asks for its settings too; zero: none
	Always    bool            // repeat also after an offer
	Changed   func(evidence.Discovery)
	Testing   func() // called when a server seems to test an address before it offers it (RFC 2131 §2.2), which may take it seconds
}

// askedFor are the options that the probe wants to see.
var askedFor = dhcpv4.WithRequestedOptions(dhcpv4.OptionSubnetMask, dhcpv4.OptionRouter, dhcpv4.OptionDomainNameServer,
	dhcpv4.OptionDomainName, dhcpv4.OptionInterfaceMTU,
	dhcpv4.OptionNTPServers, dhcpv4.OptionRenewTimeValue, dhcpv4.OptionRebindingTimeValue, dhcpv4.GenericOptionCode(dhcp.OptCaptivePortal),
	dhcpv4.OptionDNSDomainSearchList,
	dhcpv4.OptionClasslessStaticRoute, dhcpv4.GenericOptionCode(dhcp.OptProxyConfig))

// Discover sends DHCP discovers at the given times, and an INFORM with the first if an address is held, and collects what comes until ctx
// ends. It takes no lease. What servers say to others, and what they refuse this machine, is noted too.
func (s *Segment) Discover(ctx context.Context, q DHCPQuestion) evidence.Discovery {
	out := evidence.Discovery{Interface: q.Interface}
	var mu sync.Mutex
	hw := s.port.Hardware()
	xid := dhcp.ProbeXID(dhcp.HardwareFrom(hw[:]), rand.Uint32()&^1) // the one after it is the INFORM's
	discover, err := dhcpv4.NewDiscovery(wire.HardwareOf(hw), askedFor)
	if err != nil {
		return out
	}
	discover.TransactionID = transaction(xid)
	began := time.Now()
	changed := func() {
		if q.Changed != nil {
			c := out
			c.Offers, c.Answers, c.Refusals, c.Serving = slices.Clone(out.Offers), slices.Clone(out.Answers), slices.Clone(out.Refusals),
				slices.Clone(out.Serving)
			q.Changed(c)
		}
	}
	stop := s.onDHCP(func(m *dhcp.Message, f *wire.Frame) {
		mu.Lock()
		defer mu.Unlock()
		mine := m.Client == dhcp.HardwareFrom(hw[:])
		switch {
		case !mine:
			if server := m.Server(); server.IsValid() && (m.Reply && m.Type != dhcp.Nak || m.Type == dhcp.Request) &&
				note(&out.Serving, server) {
				changed()
			}
		case m.Type == dhcp.Nak:
			if note(&out.Refusals, m.Server()) {
				changed()
			}
		case m.XID == xid && m.Type == dhcp.Offer:
			if o, ok := OfferOf(m, f.Source, time.Since(began)); ok && add(&out.Offers, o) {
				changed()
			}
		case m.XID == xid+1 && m.Type == dhcp.Ack:
			if add(&out.Answers, settingsOf(m, f.Source, time.Since(began))) {
				changed()
			}
		}
	})
	defer stop()
	if q.Testing != nil {
		s.mu.Lock()
		s.asked = func(a netip.Addr) {
			if a.Is4() && len(s.Holders(a)) == 0 { // one that is known to be in use is not tested: somebody looks for his neighbour
				q.Testing()
			}
		}
		s.mu.Unlock()
		defer func() {
			s.mu.Lock()
			s.asked = nil
			s.mu.Unlock()
		}()
	}
	for i, when := range q.At {
		if !Sleep(ctx, when-time.Since(began)) {
			break
		}
		mu.Lock()
		answered := len(out.Offers) > 0
		mu.Unlock()
		if answered && !q.Always {
			break // repeats are for the case that nobody has answered
		}
		discover.NumSeconds = uint16(time.Since(began) / time.Second)
		if err := s.port.Send(
			wire.UDPFrame(hw, wire.Broadcast, netip.MustParseAddrPort("0.0.0.0:68"), toServers, discover.ToBytes())); err != nil {
			break
		}
		if i == 0 && q.Held.IsValid() {
			if inform, err := dhcpv4.NewInform(wire.HardwareOf(hw), net.IP(q.Held.AsSlice()), askedFor); err == nil {
				inform.TransactionID = transaction(xid + 1)
				_ = s.port.Send(wire.UDPFrame(hw, wire.Broadcast, netip.AddrPortFrom(q.Held, dhcp.ClientPort), toServers, inform.ToBytes()))
			}
		}
		mu.Lock()
		out.Discovers++
		out.Informed, out.Waited = q.Held.IsValid(), time.Since(began)
		changed()
		mu.Unlock()
	}
	<-ctx.Done()
	mu.Lock()
	defer mu.Unlock()
	out.Complete, out.Waited = true, time.Since(began)
	return out
}

var toServers = netip.AddrPortFrom(netip.AddrFrom4([4]byte{255, 255, 255, 255}), dhcp.ServerPort)

func transaction(xid uint32) dhcpv4.TransactionID {
	return dhcpv4.TransactionID{byte(xid >> 24), byte(xid >> 16), byte(xid >> 8), byte(xid)}
}

// onDHCP has f called for every DHCP message that arrives, from the receiving goroutine, until stop.
func (s *Segment) onDHCP(f func(*dhcp.Message, *wire.Frame)) (stop func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	key := s.nextKey
	s.nextKey++
	s.dhcp[key] = f
	return func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.dhcp, key)
	}
}

func (s *Segment) tellDHCP(f *wire.Frame) {
	s.mu.Lock()
	tell := make([]func(*dhcp.Message, *wire.Frame), 0, len(s.dhcp))
	for _, each := range s.dhcp {
		tell = append(tell, each)
	}
	s.mu.Unlock()
	if len(tell) == 0 {
		return
	}
	m, err := wire.ParseDHCP(f.Payload)
	if err != nil {
		return
	}
	for _, each := range tell {
		each(&m, f)
	}
}

// mostOffers bounds what a flood of offers can fill.
const mostOffers = 16

func note(list *[]netip.Addr, a netip.Addr) bool {
	if slices.Contains(*list, a) || len(*list) >= mostOffers {
		return false
	}
	*list = append(*list, a)
	return true
}

func add(list *[]evidence.Offer, o evidence.Offer) bool {
	if slices.ContainsFunc(*list, func(known evidence.Offer) bool { return known.Server == o.Server }) || len(*list) >= mostOffers {
		return false
	}
	*list = append(*list, o)
	return true
}

// OfferOf reads an offer; false for any other message, and for one without an address.
func OfferOf(m *dhcp.Message, from endpoint.HardwareAddr, after time.Duration) (evidence.Offer, bool) {
	o := settingsOf(m, from, after)
	return o, m.Type == dhcp.Offer && o.Address.IsValid()
}

// settingsOf is what a server's message gives.
func settingsOf(m *dhcp.Message, from endpoint.HardwareAddr, after time.Duration) evidence.Offer {
	t := m.Terms()
	return evidence.Offer{Server: t.Server, Hardware: from, Address: t.Prefix(), Routers: t.Routers, Resolvers: t.Resolvers,
		Domain: t.Domain, Lease: t.Lease, Terms: t, Options: m.Described(), Relay: m.Relay, RTT: after}
}
