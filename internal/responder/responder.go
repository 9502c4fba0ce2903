// Package responder stands at the far end: it counts the datagrams that arrive from a machine that gets no answer, and tells it what has
// arrived, by whatever way it asks.
package responder

import (
	"errors"
	"net"
	"net/netip"
	"syscall"

	"golang.org/x/time/rate"

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
	limits := newLimits()
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
		if !ok || !limits.allow(peer.Addr()) {
			continue
		}
		answer, run, ok := tally.Take(buf[:n], peer)
		if !ok {
			continue
		}
		if heard != nil {
			heard(Arrival{From: peer, Run: run})
		}
		_, _ = conn.WriteTo(answer, from) // that it does not get back is what this is for
	}
}

// How many questions are taken: of one address, and in all. A run sends about a dozen.
const (
	fromOne      = 20 // a second
	fromOneAtOne = 60
	inAll        = 400 // a second
	mostKnown    = 4096
)

// limits bound what anybody can make this machine send.
type limits struct {
	all   *rate.Limiter
	known map[netip.Addr]*rate.Limiter
}

func newLimits() *limits {
	return &limits{all: rate.NewLimiter(inAll, inAll), known: map[netip.Addr]*rate.Limiter{}}
}

// allow reports whether a datagram of that address may be looked at.
func (l *limits) allow(a netip.Addr) bool {
	who := farend.Network(a)
	one := l.known[who]
	if one == nil {
		if len(l.known) >= mostKnown { // the bound for all still holds
			clear(l.known)
		}
		one = rate.NewLimiter(fromOne, fromOneAtOne)
		l.known[who] = one
	}
	return one.Allow() && l.all.Allow()
}

func addrPort(a net.Addr) (netip.AddrPort, bool) {
	u, ok := a.(*net.UDPAddr)
	if !ok {
		return netip.AddrPort{}, false
	}
	p := u.AddrPort()
	return netip.AddrPortFrom(p.Addr().Unmap(), p.Port()), p.IsValid()
}
