package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"passepartout/internal/acting"
	"passepartout/internal/core/change"
	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/machine"
	"passepartout/internal/probe"
)

// How long is waited for an offer, and for what becomes of it: a server may test an address for two seconds and more, and what is lost is
// asked again after four (RFC 2131 §4.1).
const (
	offerWait = 15 * time.Second
	takeWait  = 20 * time.Second
)

// leasing is a lease that the program takes and keeps by itself.
type leasing struct {
	*changing
	m       acting.Machine
	server  netip.Addr
	segment *probe.Segment
	lease   *probe.Leasing
	offered dhcp.Terms
}

// takesLease makes the command that takes a lease.
func (f *flags) takesLease(use, short string) *cobra.Command {
	q := &changing{flags: f}
	server := ""
	cmd := &cobra.Command{Use: use, Short: short,
		Long: `Asks the DHCP servers for a lease and gives the interface what one of them offers, in the place of its
settings by IPv4: for an interface that no other client of DHCP manages. The lease is renewed while the
program runs; when it ends (Ctrl-C) the lease is given back, and the settings are as before. Though the
program be killed, the system takes the address away when the lease is over.`,
		Args: cobra.NoArgs, Annotations: map[string]string{changes: ""},
		RunE: func(cmd *cobra.Command, _ []string) error {
			l := &leasing{changing: q}
			if server != "" {
				var err error
				if l.server, err = addressOf(server); err != nil {
					return err
				}
			}
			defer l.close()
			q.last = "while the program runs"
			q.first, q.then = l.take, l.keep
			return q.carryOut(cmd.Context(), cmd.CommandPath()[len(cmd.Root().Name())+1:],
				func(m acting.Machine, e *endpoint.Endpoint, iface string) (change.Change, error) {
					return l.offer(cmd.Context(), m, e, iface)
				})
		}}
	q.bind(cmd)
	cmd.Flags().StringVar(&server, "server", "", "the server whose offer is taken (default: the first that offers)")
	return cmd
}

// offer asks for an offer, and gives what it makes of the interface. Nothing is taken yet.
func (l *leasing) offer(ctx context.Context, m acting.Machine, e *endpoint.Endpoint, iface string) (c change.Change, err error) {
	if err := askable(e, iface); err != nil {
		return c, err
	}
	i, _ := e.Interface(iface)
	if by := i.Manager; by != "" {
		return c, fmt.Errorf("%s is managed by %s: passepartout lease renew asks it", iface, by)
	}
	l.m = m
	if l.segment, err = openSegment(m, iface, e); err != nil {
		return c, err
	}
	l.lease = l.segment.Lease(l.server)
	ctx, cancel := context.WithTimeout(ctx, offerWait)
	defer cancel()
	l.offered, err = l.lease.Offer(ctx)
	switch who := "no DHCP server"; {
	case errors.Is(err, context.DeadlineExceeded):
		if l.server.IsValid() {
			who = l.server.String()
		}
		return c, fmt.Errorf("%s offered a lease on %s within %v; passepartout dhcp tells who answers there", who, iface, offerWait)
	case errors.Is(err, context.Canceled):
		return c, errors.New("nothing was done: it was broken off")
	case err != nil:
		return c, err
	case l.offered.PrefixLength == 0:
		return c, fmt.Errorf("%v offers %v without a mask: it cannot be used", l.offered.Server, l.offered.Address)
	}
	return change.Lease(iface, l.offered, change.Of(e)), nil
}

// openSegment listens on an interface, in frames.
func openSegment(m machine.Machine, iface string, e *endpoint.Endpoint) (*probe.Segment, error) {
	s, err := probe.OpenSegment(m, iface, e.Owns, func(evidence.Heard) {}, nil)
	if errors.Is(err, fs.ErrPermission) {
		return nil, errors.New("asking DHCP servers needs permission to send raw frames; allow it: " + m.Permissions().Frames.Mend)
	}
	return s, err
}

// take takes what was offered and shown.
func (l *leasing) take(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, takeWait)
	defer cancel()
	got, err := l.lease.Take(ctx)
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		return fmt.Errorf("%v offered %v, and does not answer the request for it", l.offered.Server, l.offered.Address)
	case err != nil:
		return err
	case got.Prefix() != l.offered.Prefix() || !slices.Equal(got.Routers, l.offered.Routers) ||
		!slices.Equal(got.Resolvers, l.offered.Resolvers):
		return fmt.Errorf("%v gives something other than it offered: ask again", got.Server)
	}
	return nil
}

// keep renews the lease until the program is ended, or the lease is lost; then the settings are as before.
func (l *leasing) keep(ctx context.Context, t *trialled) error {
	t.tell("%s", l.standing())
	why := l.lease.Keep(ctx, func(dhcp.Terms) {
		if err := l.goesOn(ctx, t); err != nil {
			fmt.Fprintln(os.Stderr, "the lease was renewed, and the address could not be kept longer:", err)
			return
		}
		t.tell("renewed: %s", l.standing())
	})
	broken := ctx.Err() != nil
	err := l.goBack(context.WithoutCancel(ctx), t)
	switch {
	case err != nil:
		return err
	case broken:
		t.tell("the lease of %v is given back; the settings are as before", l.offered.Address)
		return nil
	}
	return fmt.Errorf("the lease is lost, and the settings are as before: %w", why)
}

func (l *leasing) standing() string {
	if until := l.lease.Until(); !until.IsZero() {
		return fmt.Sprintf("%v is leased until %s, and renewed before; Ctrl-C gives it back", l.offered.Address,
			until.Local().Format("2006-01-02 15:04:05"))
	}
	return fmt.Sprintf("%v is leased without an end; Ctrl-C gives it back", l.offered.Address)
}

// goesOn has the system let the address stay for the new time of the lease.
func (l *leasing) goesOn(ctx context.Context, t *trialled) error {
	until := l.lease.Until()
	if until.IsZero() {
		return nil
	}
	now, err := acting.Settings(ctx, l.m)
	if err != nil {
		return err
	}
	return t.obey(ctx, acting.Order{From: now, To: now, Renews: t.out.ID, Who: acting.Login(), Steps: []change.Op{
		{Do: change.KeepAddress, Interface: t.out.Interface, Prefix: l.offered.Prefix(), For: time.Until(until)}}})
}

// goBack sets what was before the lease.
func (l *leasing) goBack(ctx context.Context, t *trialled) error {
	now, err := acting.Settings(ctx, l.m)
	if err != nil {
		return err
	}
	o, _, err := backTo(now, t.out.ID, t.out.Plan.From, t.out.Plan.To, t.out.Plan.Ops())
	if err != nil {
		return err
	}
	return t.obey(ctx, o)
}

func (l *leasing) close() {
	if l.lease != nil {
		l.lease.Release()
	}
	if l.segment != nil {
		l.segment.Close()
	}
}

// obey has the hand do one more thing, and waits for what comes of it.
func (t *trialled) obey(ctx context.Context, o acting.Order) error {
	if err := t.hand.Do(o); err != nil {
		return err
	}
	for {
		select {
		case n, speaks := <-t.hand.News():
			switch {
			case !speaks:
				return acting.ErrGone
			case n.Is == acting.Refused || n.Is == acting.Ended && n.Outcome == acting.Failed:
				return errors.New(n.Says)
			case n.Is == acting.Ended:
				return nil
			}
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// backTo is the order that takes a change back; others lists what has been changed by others since.
func backTo(now change.Settings, id int, from, to change.Settings, done []change.Op) (o acting.Order, others []string, err error) {
	target, others := change.TakeBack(now, from, to)
	steps, err := change.Way(now, target)
	if err != nil {
		return o, others, fmt.Errorf("there is no way back: %w", err)
	}
	steps = append(steps, change.ForGood(done, target)...)
	return acting.Order{From: now, To: target, Steps: steps, Who: acting.Login(), Undoes: id}, others, nil
}
