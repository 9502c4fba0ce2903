package main

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"

	"github.com/spf13/cobra"

	"passepartout/internal/acting"
	"passepartout/internal/core/change"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/machine"
)

// takesLease makes the command that takes a lease.
func (f *flags) takesLease(use, short string) *cobra.Command {
	q := &changing{flags: f}
	server := ""
	cmd := &cobra.Command{Use: use, Short: short,
		Long: `Asks the DHCP servers for a lease and gives the interface what one of them offers, in the place of its
settings by IPv4: for an interface that no other client of DHCP manages. The lease is renewed while the
program runs. When it ends (Ctrl-C), the lease is given back and the settings are as before; so they are
when it is killed.`,
		Args: cobra.NoArgs, Annotations: map[string]string{changes: ""},
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			var from netip.Addr
			if server != "" {
				if from, err = change.ParseAddr(server); err != nil {
					return err
				}
			}
			q.last, q.then = "while the program runs", q.holdLease
			return q.carryOut(cmd.Context(), whyOf(cmd, nil),
				func(m acting.Machine, e *endpoint.Endpoint, iface string) (change.Change, error) {
					return q.offered(cmd.Context(), m, e, iface, from)
				})
		}}
	q.bind(cmd)
	cmd.Flags().StringVar(&server, "server", "", "the server whose offer is taken (default: the first that offers)")
	return cmd
}

// needsFrames is that servers cannot be asked without permission, and how to give it.
func needsFrames(m machine.Machine) error {
	return fmt.Errorf("%w; allow it: %s", acting.ErrFrames, m.Permissions().Frames.Mend)
}

// offered asks for an offer, and gives what it makes of the interface. Nothing is taken yet.
func (q *changing) offered(ctx context.Context, m acting.Machine, e *endpoint.Endpoint, iface string, server netip.Addr) (c change.Change,
	err error) {
	if err := askable(e, iface); err != nil {
		return c, err
	}
	if i, _ := e.Interface(iface); i.Manager != "" {
		return c, fmt.Errorf("%s is managed by %s, which takes its leases; have it renew, or stop it first", iface, i.Manager)
	}
	t, err := acting.Offer(ctx, m, iface, server)
	switch {
	case errors.Is(err, acting.ErrFrames):
		return c, needsFrames(m)
	case errors.Is(err, context.Canceled):
		return c, errors.New("nothing was done: it was broken off")
	case err != nil:
		return c, err
	}
	return change.Lease(iface, t, change.Of(e)), nil
}

// holdLease tells how the lease goes on, until the program is ended or the lease is lost; then the settings are as before.
func (q *changing) holdLease(ctx context.Context, t *trialled) error {
	address := t.lease.Terms.Address
	t.tell("%v is leased, and renewed in time; Ctrl-C gives it back", address)
	broken := ctx.Done()
	for {
		select {
		case <-broken:
			broken = nil
			now, err := acting.Settings(context.WithoutCancel(ctx), t.c.Machine)
			if err != nil {
				return err
			}
			plan := &t.out.Plan
			o, _, err := backTo(now, t.out.ID, plan.From, plan.To, plan.Ops())
			if err == nil {
				err = t.hand.Do(o)
			}
			if err != nil {
				return err
			}
		case n, speaks := <-t.hand.News():
			switch {
			case !speaks:
				return acting.ErrGone
			case n.Is == acting.Renewed && n.Says != "":
				fmt.Fprintln(os.Stderr, "the lease was renewed, and the address could not be kept longer:", n.Says)
			case n.Is == acting.Renewed:
				t.tell("renewed until %s", n.Until.Local().Format("2006-01-02 15:04:05"))
			case n.Is == acting.Over:
				return fmt.Errorf("%s; the settings are as before", n.Says)
			case n.Is == acting.Refused || n.Is == acting.Ended && n.Outcome == acting.Failed:
				return errors.New(n.Says)
			case n.Is == acting.Ended:
				t.tell("the lease of %v is given back; the settings are as before", address)
				return nil
			}
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
