package simulated

import (
	"gvisor.dev/gvisor/pkg/buffer"
	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/header"
	"gvisor.dev/gvisor/pkg/tcpip/stack"
)

// loopback is the port "lo": what is sent comes back, and taps see it.
type loopback struct{ port }

var _ stack.LinkEndpoint = (*loopback)(nil)

func (l *loopback) MTU() uint32                                  { return 65536 }
func (l *loopback) LinkAddress() tcpip.LinkAddress               { return "" }
func (l *loopback) Capabilities() stack.LinkEndpointCapabilities { return stack.CapabilityLoopback }
func (l *loopback) ARPHardwareType() header.ARPHardwareType      { return header.ARPHardwareLoopback }

func (l *loopback) WritePackets(list stack.PacketBufferList) (int, tcpip.Error) {
	if l.node.spec().NoLoopback {
		return list.Len(), nil
	}
	for _, pkt := range list.AsSlice() {
		view := pkt.ToView()
		packet := append([]byte(nil), view.AsSlice()...)
		view.Release()
		proto := pkt.NetworkProtocolNumber
		go func() { // never in the sender's goroutine: it may hold locks that the receiving side wants
			taps, dispatcher := l.listeners()
			for _, t := range taps {
				t.frame(packet)
			}
			if dispatcher != nil {
				in := stack.NewPacketBuffer(stack.PacketBufferOptions{Payload: buffer.MakeWithData(packet)})
				dispatcher.DeliverNetworkPacket(proto, in)
				in.DecRef()
			}
		}()
	}
	return list.Len(), nil
}
