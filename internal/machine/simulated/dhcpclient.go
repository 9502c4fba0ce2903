package simulated

import (
	"net/netip"
	"sync"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/machine/wire"
	"passepartout/internal/scenario"
)

// Asker is a DHCP client that keeps asking: a machine whose own client never comes to an end, or is switched on again and again. It sends
// frames and is told of those that arrive, and so stands on a simulated port and on a real one alike.
type Asker struct {
	hw   endpoint.HardwareAddr
	spec scenario.Asks
	send func(frame []byte)
	done chan struct{}
	once sync.Once
}

// NewAsker begins to ask.
func NewAsker(hw endpoint.HardwareAddr, spec scenario.Asks, send func([]byte)) *Asker {
	a := &Asker{hw: hw, spec: spec, send: send, done: make(chan struct{})}
	go a.ask()
	return a
}

// Close ends it.
func (a *Asker) Close() { a.once.Do(func() { close(a.done) }) }

func (a *Asker) ask() {
	tick := time.NewTicker(time.Duration(a.spec.Every))
	defer tick.Stop()
	for turn := 0; ; turn++ {
		m, err := dhcpv4.NewDiscovery(wire.HardwareOf(a.hw))
		if a.spec.Wants.IsValid() && turn%2 == 0 {
			m, err = dhcpv4.New(dhcpv4.WithMessageType(dhcpv4.MessageTypeRequest), dhcpv4.WithHwAddr(wire.HardwareOf(a.hw)),
				dhcpv4.WithOption(dhcpv4.OptRequestedIPAddress(a.spec.Wants.AsSlice())))
		}
		if err == nil {
			m.SetBroadcast()
			a.say(m)
		}
		select {
		case <-tick.C:
		case <-a.done:
			return
		}
	}
}

func (a *Asker) say(m *dhcpv4.DHCPv4) {
	a.send(wire.UDPFrame(a.hw, wire.Broadcast, netip.MustParseAddrPort("0.0.0.0:68"), netip.MustParseAddrPort("255.255.255.255:67"),
		m.ToBytes()))
}

// Hear takes a frame that arrived; an offer is taken up.
func (a *Asker) Hear(frame []byte) {
	f, ok := wire.ParseFrame(frame)
	if !ok || f.Proto != "udp" || f.To.Port() != dhcp.ClientPort {
		return
	}
	offer, err := dhcpv4.FromBytes(f.Payload)
	if err != nil || offer.MessageType() != dhcpv4.MessageTypeOffer || string(offer.ClientHWAddr) != string(a.hw[:]) {
		return
	}
	if m, err := dhcpv4.NewRequestFromOffer(offer); err == nil {
		m.SetBroadcast()
		a.say(m)
	}
}
