package simulated

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"time"

	"github.com/miekg/dns"
	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/adapters/gonet"

	"passepartout/internal/responder"
	"passepartout/internal/scenario"
)

// serve starts a node's services on its stack.
func (s *Site) serve(n *node, sc *scenario.Scenario, a *scenario.Authority) error {
	if n.spec().DNS != nil {
		if err := s.serveDNS(n, sc.Timeline); err != nil {
			return err
		}
	}
	if n.spec().DHCP != nil && len(n.ports) > 0 {
		s.closers = append(s.closers, serveDHCP(n, n.ports[0], sc.Site))
	}
	if n.spec().Advertises != nil && len(n.ports) > 0 {
		s.closers = append(s.closers, advertise(n, n.ports[0]))
	}
	if n.spec().MDNS != "" {
		if err := s.serveSelf(n); err != nil {
			return err
		}
	}
	for _, p := range n.ports {
		if asks := n.spec().Ports[p.name].Asks; asks != nil {
			client := NewAsker(p.hw, *asks, p.transmit)
			s.closers = append(s.closers, p.listen(client.Hear), client.Close)
		}
	}
	if n.spec().Answers != 0 {
		conn, err := gonet.DialUDP(n.stack, &tcpip.FullAddress{Port: n.spec().Answers}, nil, n.anyProto())
		if err != nil {
			return fmt.Errorf("responder: %w", err)
		}
		s.closers = append(s.closers, func() { conn.Close() })
		go func() { _ = responder.Serve(conn, nil) }()
	}
	if err := errors.Join(s.serveProxy(n), s.serveRelays(n)); err != nil {
		return err
	}
	for _, web := range n.spec().Web {
		listener, err := gonet.ListenTCP(n.stack, tcpip.FullAddress{Port: web.Port}, n.anyProto())
		if err != nil {
			return fmt.Errorf("web service on port %d: %w", web.Port, err)
		}
		s.closers = append(s.closers, func() { listener.Close() })
		go func() { _ = web.Serve(listener, n.name+"."+sc.Site.Domain, a) }()
	}
	return nil
}

// serveProxy starts a node's web proxy.
func (s *Site) serveProxy(n *node) error {
	spec := n.spec().Proxy
	if spec == nil {
		return nil
	}
	listener, err := gonet.ListenTCP(n.stack, tcpip.FullAddress{Port: spec.Port}, n.anyProto())
	if err != nil {
		return fmt.Errorf("proxy on port %d: %w", spec.Port, err)
	}
	s.closers = append(s.closers, func() { listener.Close() })
	go func() { _ = spec.Serve(listener, n.spec().Hosts, n.dial) }()
	return nil
}

// dial opens a connection from the node.
func (n *node) dial(ctx context.Context, to netip.AddrPort) (net.Conn, error) {
	return gonet.DialContextTCP(ctx, n.stack, tcpip.FullAddress{Addr: toTCPIP(to.Addr()), Port: to.Port()}, protoOf(to.Addr()))
}

// serveRelays starts what accepts connections on a node and passes them on.
func (s *Site) serveRelays(n *node) error {
	for _, relay := range n.spec().Relays {
		listener, err := gonet.ListenTCP(n.stack, tcpip.FullAddress{Port: relay.Port}, n.anyProto())
		if err != nil {
			return fmt.Errorf("relay on port %d: %w", relay.Port, err)
		}
		s.closers = append(s.closers, func() { listener.Close() })
		go func() { _ = relay.Serve(listener, n.dial) }()
	}
	return nil
}

// anyProto is the protocol number for a socket that serves all families which the node has addresses of.
func (n *node) anyProto() tcpip.NetworkProtocolNumber {
	for _, p := range n.spec().Ports {
		for _, a := range p.Addresses {
			if a.Addr().Is6() {
				return protoOf(netip.IPv6Unspecified())
			}
		}
	}
	return protoOf(netip.IPv4Unspecified())
}

func (s *Site) serveDNS(n *node, moves scenario.Timeline) error {
	conn, err := gonet.DialUDP(n.stack, &tcpip.FullAddress{Port: 53}, nil, n.anyProto())
	if err != nil {
		return fmt.Errorf("name service: %w", err)
	}
	s.closers = append(s.closers, func() { conn.Close() })
	spec := n.spec().DNS
	listener, err := gonet.ListenTCP(n.stack, tcpip.FullAddress{Port: 53}, n.anyProto())
	if err != nil {
		return fmt.Errorf("name service by TCP: %w", err)
	}
	s.closers = append(s.closers, func() { listener.Close() })
	handler := spec.Handler(func(name string) (netip.Addr, bool) { return moves.Moved(name, time.Since(s.Began)) },
		func(q *dns.Msg) *dns.Msg { return n.forward(spec.Forward, q) })
	go func() { _ = (&dns.Server{PacketConn: conn, Handler: handler}).ActivateAndServe() }()
	go func() { _ = (&dns.Server{Listener: listener, Handler: handler}).ActivateAndServe() }()
	return nil
}

// serveSelf answers multicast DNS questions that come by unicast (RFC 6762 §5.5).
func (s *Site) serveSelf(n *node) error {
	conn, err := gonet.DialUDP(n.stack, &tcpip.FullAddress{Port: 5353}, nil, n.anyProto())
	if err != nil {
		return fmt.Errorf("multicast DNS: %w", err)
	}
	s.closers = append(s.closers, func() { conn.Close() })
	handler := dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		if m := scenario.AnswerForSelf(n.spec().MDNS, n.spec().Own(), q); m != nil {
			_ = w.WriteMsg(m)
		}
	})
	go func() { _ = (&dns.Server{PacketConn: conn, Handler: handler}).ActivateAndServe() }()
	return nil
}

// forward asks another server, as a pier's small resolver does, and says SERVFAIL when that keeps silent.
func (n *node) forward(to netip.Addr, q *dns.Msg) *dns.Msg {
	failed := new(dns.Msg).SetRcode(q, dns.RcodeServerFailure)
	conn, err := gonet.DialUDP(n.stack, nil, &tcpip.FullAddress{Addr: toTCPIP(to), Port: 53}, protoOf(to))
	if err != nil {
		return failed
	}
	defer conn.Close()
	m, _, err := (&dns.Client{Timeout: 4 * time.Second}).ExchangeWithConn(q.Copy(), &dns.Conn{Conn: conn})
	if err != nil {
		return failed
	}
	return m
}
