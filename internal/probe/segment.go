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
	"passepartout/internal/machine"
	"passepartout/internal/machine/wire"
)

// Segment listens to whole frames on one port and asks the segment in frames of its own: neighbours, address conflicts, DHCP.
type Segment struct {
	port machine.FramePort
	done chan struct{}

	mu     sync.Mutex
	claims map[netip.Addr]*claim
	dhcp   map[uint32]func(*dhcpv4.DHCPv4, endpoint.HardwareAddr)
	asked  func(netip.Addr) // somebody asks for this address
	heard  func(evidence.Heard)
	arrive func(evidence.Arrival)
}

// claim is what was heard of one address.
type claim struct {
	hardware []endpoint.HardwareAddr
	changed  chan struct{} // closed at the next claim
}

// mostClaims bounds what a flood of ARP can fill.
const mostClaims = 8192

// OpenSegment begins to listen. heard is called for each machine's first word, arrive for each packet to this machine; both from one goroutine.
func OpenSegment(m machine.Machine, iface string, own func(netip.Addr) bool, heard func(evidence.Heard), arrive func(evidence.Arrival)) (*Segment, error) {
	port, err := m.OpenFrames(iface)
	if err != nil {
		return nil, err
	}
	s := &Segment{port: port, done: make(chan struct{}), claims: map[netip.Addr]*claim{}, dhcp: map[uint32]func(*dhcpv4.DHCPv4, endpoint.HardwareAddr){}, heard: heard, arrive: arrive}
	go s.receive(own)
	return s, nil
}

// Close ends the listening.
func (s *Segment) Close() {
	s.port.Close()
	<-s.done
}

func (s *Segment) receive(own func(netip.Addr) bool) {
	defer close(s.done)
	for {
		frame, _, err := s.port.Receive()
		if err != nil {
			return
		}
		f, ok := wire.ParseFrame(frame)
		if !ok {
			continue
		}
		if f.Claim.IsValid() && f.Hardware != s.port.Hardware() {
			s.claimed(f.Claim, f.Hardware)
		}
		if f.Asks.IsValid() {
			s.mu.Lock()
			asked := s.asked
			s.mu.Unlock()
			if asked != nil {
				asked(f.Asks)
			}
		}
		if f.Proto == "udp" && f.From.Port() == 67 && f.To.Port() == 68 {
			s.offered(f)
		}
		if f.From.IsValid() && own(f.To.Addr()) && s.arrive != nil {
			s.arrive(evidence.Arrival{From: f.From.Addr(), Proto: f.Proto, Port: f.From.Port()})
		}
	}
}

func (s *Segment) claimed(a netip.Addr, hw endpoint.HardwareAddr) {
	s.mu.Lock()
	c := s.claims[a]
	if c == nil {
		if len(s.claims) >= mostClaims {
			s.mu.Unlock()
			return
		}
		c = &claim{changed: make(chan struct{})}
		s.claims[a] = c
	}
	first := len(c.hardware) == 0
	if !slices.Contains(c.hardware, hw) && len(c.hardware) < 8 {
		c.hardware = append(c.hardware, hw)
	}
	close(c.changed)
	c.changed = make(chan struct{})
	s.mu.Unlock()
	if first && s.heard != nil {
		s.heard(evidence.Heard{Address: a, Hardware: hw})
	}
}

// next returns a channel that closes at the next claim to a.
func (s *Segment) next(a netip.Addr) <-chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	c := s.claims[a]
	if c == nil {
		c = &claim{changed: make(chan struct{})}
		s.claims[a] = c
	}
	return c.changed
}

func (s *Segment) holders(a netip.Addr) []endpoint.HardwareAddr {
	s.mu.Lock()
	defer s.mu.Unlock()
	if c := s.claims[a]; c != nil {
		return slices.Clone(c.hardware)
	}
	return nil
}

// neighbourRepeats is when an unanswered request is sent again: three requests within the second, as a stack itself would send in three.
var neighbourRepeats = []time.Duration{300 * time.Millisecond, 650 * time.Millisecond}

// neighbourWait is when a neighbour counts as silent.
const neighbourWait = time.Second

// Resolve asks which hardware address has target. sender is an own address on the segment, or zero for a probe that names none.
func (s *Segment) Resolve(ctx context.Context, sender, target netip.Addr) evidence.Neighbour {
	target = target.WithZone("")
	out := evidence.Neighbour{Asked: target, Method: "arp"}
	frame := func() []byte { return wire.ARPRequest(s.port.Hardware(), sender, target) }
	if target.Is6() {
		out.Method = "nd"
		if !sender.IsValid() {
			sender = netip.IPv6Unspecified()
		}
		frame = func() []byte { return wire.NeighbourSolicitation(s.port.Hardware(), sender, target) }
	}
	ctx, cancel := context.WithTimeout(ctx, neighbourWait)
	defer cancel()
	answered := s.next(target)
	began := time.Now()
	repeats := append(slices.Clone(neighbourRepeats), time.Hour)
	for _, until := range repeats {
		sent := time.Now()
		if err := s.port.Send(frame()); err != nil {
			out.Reply = machine.LocalError(err)
			return out
		}
		out.Asks++
		timer := time.NewTimer(until - time.Since(began))
		select {
		case <-answered:
			timer.Stop()
			out.Hardware = s.holders(target)
			out.Reply = evidence.Reply{Outcome: evidence.Answered, From: target, RTT: time.Since(sent)}
			return out
		case <-ctx.Done():
			timer.Stop()
			out.Reply = evidence.Reply{Outcome: evidence.Silent, Waited: time.Since(began)}
			return out
		case <-timer.C:
		}
	}
	return out
}

// Conflict asks whether anybody else holds an address of ours, with a probe that puts no entry into anybody's table (RFC 5227 §2.1.1).
// ctx ends the wait: silence is the good answer.
func (s *Segment) Conflict(ctx context.Context, address netip.Addr) evidence.Conflict {
	out := evidence.Conflict{Address: address}
	answered := s.next(address)
	began := time.Now()
	if err := s.port.Send(wire.ARPRequest(s.port.Hardware(), netip.Addr{}, address)); err != nil {
		out.Reply = machine.LocalError(err)
		return out
	}
	select {
	case <-answered:
		out.Reply = evidence.Reply{Outcome: evidence.Answered, From: address, RTT: time.Since(began)}
		if holders := s.holders(address); len(holders) > 0 {
			out.Hardware = holders[0]
		}
	case <-ctx.Done():
		out.Reply = evidence.Reply{Outcome: evidence.Silent, Waited: time.Since(began)}
	}
	return out
}

// Sweep asks many addresses, at most rate a second, and calls done for each that answers within patience of its question. It returns how
// many were asked to their end. enough ends it early.
func (s *Segment) Sweep(ctx context.Context, sender netip.Addr, targets []netip.Addr, rate int, patience time.Duration, done func(evidence.Neighbour), enough func() bool) int {
	tick := time.NewTicker(time.Second / time.Duration(rate))
	defer tick.Stop()
	var wg sync.WaitGroup
	defer wg.Wait()
	for i, target := range targets {
		if ctx.Err() != nil || enough() {
			return i
		}
		answered := s.next(target)
		sent := time.Now()
		if err := s.port.Send(wire.ARPRequest(s.port.Hardware(), sender, target)); err != nil {
			return i
		}
		wg.Go(func() {
			timer := time.NewTimer(patience)
			defer timer.Stop()
			select {
			case <-answered:
				done(evidence.Neighbour{Asked: target, Method: "arp", Asks: 1, Hardware: s.holders(target), Reply: evidence.Reply{Outcome: evidence.Answered, From: target, RTT: time.Since(sent)}})
			case <-timer.C:
			case <-ctx.Done():
			}
		})
		select {
		case <-tick.C:
		case <-ctx.Done():
			return i
		}
	}
	return len(targets)
}

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
		if !sleep(ctx, when-time.Since(began)) {
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

// sleep waits; false if ctx ended first.
func sleep(ctx context.Context, d time.Duration) bool {
	if d <= 0 {
		return ctx.Err() == nil
	}
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return true
	case <-ctx.Done():
		return false
	}
}
