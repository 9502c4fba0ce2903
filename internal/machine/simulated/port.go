package simulated

import (
	"maps"
	"math/rand/v2"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"gvisor.dev/gvisor/pkg/buffer"
	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/header"
	"gvisor.dev/gvisor/pkg/tcpip/stack"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/subnet"
	"passepartout/internal/machine/wire"
)

const ethernetHeader = header.EthernetMinimumSize

// port is a network port: below gVisor's Ethernet layer, above a segment. Everything that a node does with packets other than its stack
// does (filters, hop limits, silence) is done here, and whoever listens for frames listens here.
type port struct {
	duplicates []netip.Addr // addresses that are another machine's, and therefore not in use
	node       *node
	name       string
	id         tcpip.NICID
	hw         endpoint.HardwareAddr
	segment    *segment
	down       atomic.Bool // administratively
	unplugged  func() bool
	mtu        atomic.Int64
	has        []netip.Prefix // its addresses in use; whoever changes the node holds its lock
	began      time.Time
	leaseLeft  atomic.Int64 // when it began, a time.Duration

	mu         sync.Mutex
	downed     chan struct{} // closed when it goes down; nil: nobody waits for that
	dispatcher stack.NetworkDispatcher
	taps       map[*tap]struct{}
	ownTaps    map[*tap]struct{} // these get what the port itself sends
	counters   endpoint.Counters
	rng        *rand.Rand // for damage; nil where there is none
}

// counted gives the counters as they are now.
func (p *port) counted() endpoint.Counters {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.counters
}

// damaged counts a frame that arrives, and decides whether it is one of those that the port must drop.
func (p *port) damaged(frame []byte) bool {
	share := p.node.spec().Ports[p.name].Damage
	p.mu.Lock()
	defer p.mu.Unlock()
	if share > 0 {
		if p.rng == nil {
			p.rng = rand.New(rand.NewPCG(3, 4))
		}
		if p.rng.Float64()*100 < share {
			p.counters.ReceiveErrors++
			p.counters.Damaged++
			return true
		}
	}
	p.counters.ReceivedPackets++
	p.counters.ReceivedBytes += uint64(len(frame))
	return false
}

// tap gets a copy of every frame that arrives at a port.
type tap struct{ frame func([]byte) }

var _ stack.LinkEndpoint = (*port)(nil)

func (p *port) listen(f func(frame []byte)) (stop func()) {
	t := &tap{f}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.taps == nil {
		p.taps = map[*tap]struct{}{}
	}
	p.taps[t] = struct{}{}
	return func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		delete(p.taps, t)
	}
}

// overhear has a tap told of every frame that the port itself sends.
func (p *port) overhear(t *tap) (stop func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.ownTaps == nil {
		p.ownTaps = map[*tap]struct{}{}
	}
	p.ownTaps[t] = struct{}{}
	return func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		delete(p.ownTaps, t)
	}
}

// listeners gives those that want to see what arrives: the taps, and the stack above.
func (p *port) listeners() ([]*tap, stack.NetworkDispatcher) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Collect(maps.Keys(p.taps)), p.dispatcher
}

func (p *port) dead() bool { return p.down.Load() || p.unplugged() }

// wants is what a network card decides: frames for itself, for all, and for groups.
func (p *port) wants(frame []byte) bool {
	return !p.dead() && len(frame) >= ethernetHeader && (frame[0]&1 == 1 || string(frame[:6]) == string(p.hw[:]))
}

func (p *port) receive(frame []byte) {
	if p.damaged(frame) {
		return
	}
	if reply, ok := p.vouch(frame); ok {
		p.transmit(reply)
	}
	taps, dispatcher := p.listeners()
	for _, t := range taps {
		t.frame(frame)
	}
	if p.asksForAll(frame) {
		return
	}
	frame, pass := p.node.admit(p, frame)
	if !pass || dispatcher == nil {
		return
	}
	payload := buffer.MakeWithData(frame)
	if raceDetector && p.node.spec().Forwards {
		payload = unpooled(frame)
	}
	pkt := stack.NewPacketBuffer(stack.PacketBufferOptions{Payload: payload})
	dispatcher.DeliverNetworkPacket(0, pkt)
	pkt.DecRef()
}

// vouch answers a request for the address of another, to which the node has a way out of another port (RFC 1027).
func (p *port) vouch(frame []byte) ([]byte, bool) {
	if !p.node.spec().Ports[p.name].ProxyARP {
		return nil, false
	}
	f, ok := wire.ParseFrame(frame)
	if !ok || !f.Asks.Is4() || p.node.owns(f.Asks) || !f.Claim.IsValid() {
		return nil, false
	}
	r, err := p.node.stack.FindRoute(0, tcpip.Address{}, toTCPIP(f.Asks), header.IPv4ProtocolNumber, false)
	if err != nil {
		return nil, false
	}
	defer r.Release()
	if r.NICID() == p.id {
		return nil, false
	}
	return wire.ARPReply(p.hw, f.Asks, f.Hardware, f.Claim), true
}

// asksForAll reports whether a frame asks by ARP for the address that stands for all of a subnet: gVisor takes it for one of its own, and
// no kernel answers.
func (p *port) asksForAll(frame []byte) bool {
	if len(frame) < ethernetHeader+28 || frame[12] != 0x08 || frame[13] != 0x06 {
		return false
	}
	asked := netip.AddrFrom4([4]byte(frame[ethernetHeader+24:]))
	for _, own := range p.node.spec().Ports[p.name].Addresses {
		if own.Addr().Is4() && own.Bits() < 31 && asked == subnet.Last(own) && !p.node.owns(asked) {
			return true
		}
	}
	return false
}

// unpooled is a buffer whose memory gVisor does not use again: chunks above MaxChunkSize are left to the garbage collector. In forwarding,
// gVisor reads the hop limit some nanoseconds after it gave that memory back to its pool (DeepCopyForForwarding makes the packet leave the
// chunk into which the header still points). The worst that follows is one packet with another's hop limit, once in a blue moon; but the
// race detector calls it by its name, and a tenfold cost is borne for its runs alone.
func unpooled(frame []byte) buffer.Buffer {
	v := buffer.NewView(buffer.MaxChunkSize + 1)
	_, _ = v.Write(frame) // a View takes all
	return buffer.MakeWithView(v)
}

// transmit puts a whole frame on the wire, past the stack.
func (p *port) transmit(frame []byte) { p.transmitFrom(frame, nil) }

// transmitFrom is transmit for a frame that one of those who overhear has sent: a port does not hear itself, as a packet socket does not.
func (p *port) transmitFrom(frame []byte, by *tap) {
	if p.dead() || p.segment == nil {
		return
	}
	p.mu.Lock()
	p.counters.SentPackets++
	p.counters.SentBytes += uint64(len(frame))
	own := slices.Collect(maps.Keys(p.ownTaps))
	p.mu.Unlock()
	for _, t := range own {
		if t != by {
			t.frame(frame)
		}
	}
	p.segment.send(p, frame)
}

// WritePackets implements stack.LinkEndpoint.
func (p *port) WritePackets(list stack.PacketBufferList) (int, tcpip.Error) {
	for _, pkt := range list.AsSlice() {
		view := pkt.ToView()
		frame := append([]byte(nil), view.AsSlice()...)
		view.Release()
		if p.node.release(frame) {
			p.node.spread(p, frame)
			p.transmit(frame)
		}
	}
	return list.Len(), nil
}

func (p *port) MTU() uint32                                  { return uint32(p.mtu.Load()) + ethernetHeader }
func (p *port) SetMTU(uint32)                                {}
func (p *port) MaxHeaderLength() uint16                      { return 0 }
func (p *port) LinkAddress() tcpip.LinkAddress               { return tcpip.LinkAddress(p.hw[:]) }
func (p *port) SetLinkAddress(tcpip.LinkAddress)             {}
func (p *port) Capabilities() stack.LinkEndpointCapabilities { return 0 }
func (p *port) Wait()                                        {}
func (p *port) ARPHardwareType() header.ARPHardwareType      { return header.ARPHardwareEther }
func (p *port) AddHeader(*stack.PacketBuffer)                {}
func (p *port) ParseHeader(*stack.PacketBuffer) bool         { return true }
func (p *port) Close()                                       {}
func (p *port) SetOnCloseAction(func())                      {}

func (p *port) Attach(d stack.NetworkDispatcher) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.dispatcher = d
}

func (p *port) IsAttached() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.dispatcher != nil
}
