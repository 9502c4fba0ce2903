package namespaces

import (
	"context"
	"net"
	"net/netip"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/sockets"
	"passepartout/internal/machine"
)

// Inside gives a machine whose sockets are opened at the lab's endpoint, whoever asks: a namespace belongs to a thread, and goroutines
// change theirs.
func (l *Lab) Inside(m machine.Machine) machine.Machine { return inside{m, l} }

type inside struct {
	machine.Machine
	lab *Lab
}

func at[T any](i inside, f func() (T, error)) (v T, err error) {
	e := i.lab.On(i.lab.scenario.Site.Endpoint, func() error {
		v, err = f()
		return nil
	})
	if e != nil {
		return v, e
	}
	return v, err
}

func (i inside) OpenEcho(c machine.EchoConfig) (machine.EchoSocket, error) {
	return at(i, func() (machine.EchoSocket, error) { return i.Machine.OpenEcho(c) })
}

func (i inside) OpenFlow(c machine.FlowConfig) (machine.FlowSocket, error) {
	return at(i, func() (machine.FlowSocket, error) { return i.Machine.OpenFlow(c) })
}

func (i inside) OpenDatagram(c machine.DatagramConfig) (machine.DatagramSocket, error) {
	return at(i, func() (machine.DatagramSocket, error) { return i.Machine.OpenDatagram(c) })
}

func (i inside) OpenFrames(c machine.FrameConfig) (machine.FrameSocket, error) {
	return at(i, func() (machine.FrameSocket, error) { return i.Machine.OpenFrames(c) })
}

func (i inside) Connect(ctx context.Context, c machine.ConnectConfig) (conn net.Conn, r evidence.Reply) {
	_, _ = at(i, func() (struct{}, error) { conn, r = i.Machine.Connect(ctx, c); return struct{}{}, nil })
	return conn, r
}

func (i inside) Read(ctx context.Context) (*endpoint.Endpoint, error) {
	return at(i, func() (*endpoint.Endpoint, error) { return i.Machine.Read(ctx) })
}

func (i inside) Interfaces(ctx context.Context) ([]endpoint.Interface, error) {
	return at(i, func() ([]endpoint.Interface, error) { return i.Machine.Interfaces(ctx) })
}

func (i inside) Neighbours(ctx context.Context) ([]endpoint.Neighbour, error) {
	return at(i, func() ([]endpoint.Neighbour, error) { return i.Machine.Neighbours(ctx) })
}

func (i inside) Route(ctx context.Context, to netip.Addr, iface string) (endpoint.RouteAnswer, error) {
	return at(i, func() (endpoint.RouteAnswer, error) { return i.Machine.Route(ctx, to, iface) })
}

func (i inside) Watch(ctx context.Context) (<-chan struct{}, error) {
	return at(i, func() (<-chan struct{}, error) { return i.Machine.Watch(ctx) })
}

func (i inside) Sockets(ctx context.Context) (*sockets.Table, error) {
	return at(i, func() (*sockets.Table, error) { return i.Machine.(machine.SocketTeller).Sockets(ctx) })
}

func (i inside) Closings(ctx context.Context) (<-chan machine.Closing, error) {
	return at(i, func() (<-chan machine.Closing, error) { return i.Machine.(machine.SocketTeller).Closings(ctx) })
}

func (i inside) OpenCapture(c machine.CaptureConfig) (machine.CaptureSocket, error) {
	return at(i, func() (machine.CaptureSocket, error) { return i.Machine.(machine.Capturer).OpenCapture(c) })
}
