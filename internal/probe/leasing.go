package probe

import (
	"context"
	"errors"
	"math/rand/v2"
	"net/netip"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/machine/wire"
)

// Leasing is a lease that this program takes and keeps by itself, for an interface that no client of DHCP manages. One goroutine uses it.
type Leasing struct {
	s      *Segment
	client dhcp.Client
	server endpoint.HardwareAddr // from where its messages came: it, or the relay or router before it
	heard  chan spoken
	stop   func()
}

type spoken struct {
	message dhcp.Message
	from    endpoint.HardwareAddr
}

// Lease begins to listen for a lease: with a server, for that one's alone; wanted is the address that it would like, or zero.
func (s *Segment) Lease(server, wanted netip.Addr) *Leasing {
	hw := s.port.Hardware()
	l := &Leasing{s: s, heard: make(chan spoken, 16), client: dhcp.Client{Hardware: dhcp.HardwareFrom(hw[:]), Server: server,
		Wanted: wanted,
		XID:    rand.Uint32(), Jitter: func() time.Duration { return rand.N(2*time.Second) - time.Second }}}
	l.stop = s.onDHCP(func(m *dhcp.Message, f *wire.Frame) {
		select {
		case l.heard <- spoken{*m, f.Source}:
		default: // a flood: what counts is sent again
		}
	})
	return l
}

// Offer asks for offers, until one comes or ctx ends. Nothing is taken.
func (l *Leasing) Offer(ctx context.Context) (dhcp.Terms, error) {
	err := l.live(ctx, l.client.Begin(time.Now()), func(dhcp.Act) bool { return l.client.Chooses() })
	return l.client.Terms(), err
}

// Take takes what was offered, once nobody on the segment was found to have it (RFC 2131 §4.4.1).
func (l *Leasing) Take(ctx context.Context) (dhcp.Terms, error) {
	err := l.live(ctx, l.client.Accept(time.Now()), func(a dhcp.Act) bool { return a.Took })
	return l.client.Terms(), err
}

// Keep renews the lease, and tells of each time that it goes on. It ends with ctx, or when the lease is lost.
func (l *Leasing) Keep(ctx context.Context, goesOn func(dhcp.Terms)) error {
	return l.live(ctx, dhcp.Act{}, func(a dhcp.Act) bool {
		if a.Took {
			goesOn(l.client.Terms())
		}
		return false
	})
}

// Until is when the lease is over, unless it is renewed; zero: never.
func (l *Leasing) Until() time.Time {
	if t := l.client.Terms(); !t.IsEndless() {
		return l.client.Since().Add(t.Lease)
	}
	return time.Time{}
}

// Release gives back what was taken, and listens no longer.
func (l *Leasing) Release() {
	_ = l.say(l.client.Release(time.Now()).Send) // a port that has gone cannot be told
	l.stop()
}

// live lives the client's life from an act of it on, to one that is the last.
func (l *Leasing) live(ctx context.Context, act dhcp.Act, last func(dhcp.Act) bool) error {
	for {
		if err := l.say(act.Send); err != nil {
			return err
		}
		switch {
		case act.Lost != "":
			return errors.New(act.Lost)
		case act.Check.IsValid():
			holder := ""
			if n := l.s.Resolve(ctx, netip.Addr{}, act.Check); n.Outcome == evidence.Answered && len(n.Hardware) > 0 {
				holder = n.Hardware[0].String()
			}
			if err := ctx.Err(); err != nil {
				return err
			}
			act = l.client.Checked(time.Now(), holder)
			continue
		case last(act):
			return nil
		}
		wait := time.Hour
		if next := l.client.Next(); !next.IsZero() {
			wait = time.Until(next)
		}
		timer := time.NewTimer(wait)
		select {
		case h := <-l.heard:
			if act = l.client.Hear(time.Now(), &h.message); act.Took || act.Check.IsValid() {
				l.server = h.from
			}
		case <-timer.C:
			act = l.client.Pass(time.Now())
		case <-ctx.Done():
			timer.Stop()
			return ctx.Err()
		}
		timer.Stop()
	}
}

// say sends what the client says, in frames: it may have no address yet.
func (l *Leasing) say(all []dhcp.Say) error {
	hw := l.s.port.Hardware()
	for _, x := range all {
		m, err := dhcpv4.New(dhcpv4.WithMessageType(dhcpv4.MessageType(x.Type)), dhcpv4.WithHwAddr(wire.HardwareOf(hw)))
		if err != nil {
			return err
		}
		if x.Type == dhcp.Discover || x.Type == dhcp.Request {
			askedFor(m)
		}
		m.TransactionID, m.NumSeconds = transaction(x.XID), x.Secs
		from, to, towards := netip.AddrPortFrom(netip.IPv4Unspecified(), dhcp.ClientPort), toServers, wire.Broadcast
		if x.Own.IsValid() {
			m.ClientIPAddr, from = x.Own.AsSlice(), netip.AddrPortFrom(x.Own, dhcp.ClientPort)
		}
		if x.To.IsValid() {
			to, towards = netip.AddrPortFrom(x.To, dhcp.ServerPort), l.server
		}
		if x.Requested.IsValid() {
			m.UpdateOption(dhcpv4.OptRequestedIPAddress(x.Requested.AsSlice()))
		}
		if x.Server.IsValid() {
			m.UpdateOption(dhcpv4.OptServerIdentifier(x.Server.AsSlice()))
		}
		if x.Text != "" {
			m.UpdateOption(dhcpv4.OptMessage(x.Text))
		}
		if err := l.s.port.Send(wire.UDPFrame(hw, towards, from, to, m.ToBytes())); err != nil {
			return err
		}
	}
	return nil
}
