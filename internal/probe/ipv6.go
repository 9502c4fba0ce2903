package probe

import (
	"context"
	"net/netip"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/machine/wire"
)

// Solicit asks the segment's IPv6 routers to advertise themselves (RFC 4861 §4.1), and DHCPv6 servers for settings without an address (RFC
// 8415 §18.2.6). from is an own link-local address. It collects what comes until ctx ends; each router and each server counts once.
func (s *Segment) Solicit(ctx context.Context, from netip.Addr, onRouter func(evidence.Advertisement),
	onServer func(evidence.Information)) {
	began := time.Now()
	hw := s.port.Hardware()
	question, xid, err := wire.InformationRequest(hw, from)
	routers, servers := map[netip.Addr]bool{}, map[string]bool{}
	const most = 16
	stop := s.onFrame(func(f *wire.Frame, frame []byte) {
		if a, ok := wire.ParseAdvertisement(frame); ok && !routers[a.Router] && len(routers) < most {
			routers[a.Router] = true
			a.RTT = time.Since(began)
			onRouter(a)
		}
		if f.Proto != "udp" || f.To.Port() != wire.ClientPort6 || f.From.Port() != wire.ServerPort6 {
			return
		}
		if i, ok := wire.ParseInformation(f.Payload, xid); ok && !servers[i.Server] && len(servers) < most {
			servers[i.Server] = true
			i.From, i.RTT = f.From.Addr(), time.Since(began)
			onServer(i)
		}
	})
	defer stop()
	if s.port.Send(wire.RouterSolicitation(hw, from)) != nil || err != nil {
		return
	}
	if s.port.Send(question) == nil {
		<-ctx.Done()
	}
}

// onFrame has f called for every frame that arrives, from the receiving goroutine, until stop.
func (s *Segment) onFrame(f func(*wire.Frame, []byte)) (stop func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	key := s.nextKey
	s.nextKey++
	s.frames[key] = f
	return func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.frames, key)
	}
}
