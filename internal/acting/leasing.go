package acting

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"passepartout/internal/core/change"
	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/evidence"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
	"passepartout/internal/probe"
)

// How long is waited for an offer, and for what becomes of it: a server may test an address for two seconds and more, and what is lost is
// asked again after four (RFC 2131 §4.1).
const (
	OfferWait = 15 * time.Second
	takeWait  = 20 * time.Second
)

// ErrFrames is that of asking servers without permission for raw frames.
var ErrFrames = errors.New("asking DHCP servers needs permission to send raw frames")

// Offer asks on an interface for a lease, of one server or of any, and gives what is offered. Nothing is taken.
func Offer(ctx context.Context, m machine.Machine, iface string, server netip.Addr) (dhcp.Terms, error) {
	l, err := openLeasing(ctx, m, iface, server, netip.Addr{})
	if err != nil {
		return dhcp.Terms{}, err
	}
	defer l.close()
	return l.offer(ctx)
}

// leasing is a lease and the ear that it needs.
type leasing struct {
	*probe.Leasing
	segment *probe.Segment
	iface   string
	server  netip.Addr
}

func openLeasing(ctx context.Context, m machine.Machine, iface string, server, wanted netip.Addr) (*leasing, error) {
	if !m.Permissions().Frames.Granted {
		return nil, ErrFrames
	}
	e, err := m.Read(ctx)
	if err != nil {
		return nil, err
	}
	s, err := probe.OpenSegment(m, iface, e.Owns, func(evidence.Heard) {}, nil)
	if err != nil {
		return nil, err
	}
	return &leasing{s.Lease(server, wanted), s, iface, server}, nil
}

func (l *leasing) close() {
	l.Release()
	l.segment.Close()
}

func (l *leasing) offer(ctx context.Context) (dhcp.Terms, error) {
	ctx, cancel := context.WithTimeout(ctx, OfferWait)
	defer cancel()
	t, err := l.Offer(ctx)
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		who := "no DHCP server"
		if l.server.IsValid() {
			who = l.server.String()
		}
		return t, fmt.Errorf("%s offered a lease on %s within %v", who, l.iface, OfferWait)
	case err == nil && t.PrefixLength == 0:
		err = fmt.Errorf("%v offers %v without a mask: it cannot be used", t.Server, t.Address)
	}
	return t, err
}

// tenancy is a lease that is held for a change.
type tenancy struct {
	*leasing
	id    int
	order Order
	stop  context.CancelFunc // ends the keeping; nil: it was never begun
	ended chan struct{}      // closed when it has ended
	why   error              // and why
}

// rent takes the lease that an order stands on, as it was offered when the order was worked out.
func (s *server) rent(ctx context.Context, o Order) (*tenancy, error) {
	l, err := openLeasing(ctx, s.m, o.Lease.Interface, o.Lease.Terms.Server, o.Lease.Terms.Address)
	if err != nil {
		return nil, err
	}
	got, err := l.offer(ctx)
	if err == nil && !same(got, o.Lease.Terms) {
		err = fmt.Errorf("%v offers something else by now: %v", got.Server, got.Prefix())
	}
	if err == nil {
		ctx, cancel := context.WithTimeout(ctx, takeWait)
		defer cancel()
		if got, err = l.Take(ctx); errors.Is(err, context.DeadlineExceeded) {
			err = fmt.Errorf("%v offers %v, and answers no request for it", o.Lease.Terms.Server, o.Lease.Terms.Address)
		} else if err == nil && !same(got, o.Lease.Terms) {
			err = fmt.Errorf("%v gives something other than it offered: %v", got.Server, got.Prefix())
		}
	}
	if err != nil {
		l.close()
		return nil, err
	}
	return &tenancy{leasing: l, order: o, ended: make(chan struct{})}, nil
}

// same reports whether two give an interface the same; their times may differ.
func same(a, b dhcp.Terms) bool {
	return a.Prefix() == b.Prefix() && slices.Equal(a.Routers, b.Routers) && slices.Equal(a.Resolvers, b.Resolvers)
}

// keep renews it from now on, and lets the system keep the address.
func (s *server) keep(ctx context.Context, t *tenancy) {
	ctx, t.stop = context.WithCancel(ctx)
	go func() {
		defer guard.Goroutine()
		defer close(t.ended)
		t.why = t.Keep(ctx, func(got dhcp.Terms) {
			until, says := t.Until(), ""
			if !until.IsZero() {
				o := change.Op{Do: change.KeepAddress, Interface: t.iface, Prefix: got.Prefix(), For: time.Until(until)}
				if err := s.m.Do(ctx, o); err != nil {
					says = err.Error()
				}
			}
			s.say(News{Is: Renewed, ID: t.id, Until: until, Says: says})
		})
		if ctx.Err() == nil {
			s.lost <- t // there is room for as many as anybody holds
		}
	}()
}

// giveBack ends a lease: the server may give it to others. What it brought stays.
func (t *tenancy) giveBack() {
	if t.stop != nil {
		t.stop()
		<-t.ended
	}
	t.close()
}

// forget gives back a lease that was kept.
func (s *server) forget(t *tenancy) {
	t.giveBack()
	s.held = slices.DeleteFunc(s.held, func(x *tenancy) bool { return x == t })
}

// leave ends a lease that was kept, and sets what was before it.
func (s *server) leave(ctx context.Context, t *tenancy, why string) {
	s.forget(t)
	e := s.takeBack(ctx, t.order, len(t.order.Steps), TakenBack, why)
	e.Says, _, _ = strings.Cut(e.Says, byOthers) // an address whose time is over goes by itself, and what it carried
	e.ID, e.At = t.id, time.Now()
	if err := s.journal.Append(e); err != nil {
		e.Says = join(e.Says, err.Error())
	}
	s.say(News{Is: Over, ID: t.id, Outcome: e.Outcome, Says: e.Says})
}
