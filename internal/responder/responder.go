// Package responder stands at the far end: it counts the datagrams that arrive from a machine that gets no answer, and tells it what has
// arrived, by whatever way it asks.
package responder

import (
	"errors"
	"net"
	"net/netip"
	"syscall"

	"passepartout/internal/core/farend"
)

// Arrival is told of every datagram that was counted.
type Arrival struct {
	From netip.AddrPort
	Run  farend.Message
}

// Serve answers on conn until it is closed. heard may be nil; it is called from one goroutine.
func Serve(conn net.PacketConn, heard func(Arrival)) error {
	var tally farend.Tally
	buf := make([]byte, 2*farend.Size+1)
	for {
		n, from, err := conn.ReadFrom(buf)
		switch {
		case errors.Is(err, syscall.ECONNREFUSED),
			errors.Is(err, syscall.ECONNRESET): // an answer that nobody wanted: some systems tell it here
			continue
		case errors.Is(err, net.ErrClosed):
			return nil
		case err != nil: // the port is gone: to ask again would only burn time
			return err
		}
		peer, ok := addrPort(from)
		if !ok {
			continue
		}
		answer, run, ok := tally.Take(buf[:n], peer.Addr())
		if !ok {
			continue
		}
		if heard != nil {
			heard(Arrival{From: peer, Run: run})
		}
		_, _ = conn.WriteTo(answer, from) // that it does not get back is what this is for
	}
}

func addrPort(a net.Addr) (netip.AddrPort, bool) {
	u, ok := a.(*net.UDPAddr)
	if !ok {
		return netip.AddrPort{}, false
	}
	p := u.AddrPort()
	return netip.AddrPortFrom(p.Addr().Unmap(), p.Port()), p.IsValid()
}
