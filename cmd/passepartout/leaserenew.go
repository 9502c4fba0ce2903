package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"passepartout/internal/acting"
	"passepartout/internal/core/change"
	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/probe"
	"passepartout/internal/report"
)

// renewWait is how long the exchange that a client was told to begin is waited for: it may look for its own address first.
const renewWait = 20 * time.Second

// quietRelease is how long a manager that gives a lease back may take to tell the server: some do not.
const quietRelease = 2 * time.Second

// asksClient makes the command that has the client of DHCP which manages an interface do something, and shows the exchange.
func (f *flags) asksClient(use, short string, do change.Do) *cobra.Command {
	q := &changing{flags: f}
	cmd := &cobra.Command{Use: use, Short: short,
		Long: `Tells the client of DHCP that manages the interface, by the way that its manual names, and shows the
exchange on the wire, to its end.`,
		Args: cobra.NoArgs, Annotations: map[string]string{changes: ""},
		RunE: func(cmd *cobra.Command, _ []string) error {
			q.trial = 0 // the server knows of it by then
			var ear *probe.DHCPListener
			defer func() {
				if ear != nil {
					ear.Close()
				}
			}()
			q.settled = func(ctx context.Context, t *trialled) error { return awaitExchange(ctx, t, ear) }
			return q.carryOut(cmd.Context(), whyOf(cmd, nil),
				func(m acting.Machine, e *endpoint.Endpoint, iface string) (c change.Change, err error) {
					if err := askable(e, iface); err != nil {
						return c, err
					}
					i, _ := e.Interface(iface)
					o := change.Op{Do: do, Interface: iface, Name: i.Manager}
					if err := change.Askable(i.Manager, iface); err != nil {
						return c, err
					}
					if l, ok := e.Lease(iface); ok {
						o.Prefix = l.Terms.Prefix()
					} else if do == change.ReleaseLease {
						return c, fmt.Errorf("%s holds no lease that is known", iface)
					}
					if ear, err = probe.ListenDHCP(m, iface, nil); errors.Is(err, fs.ErrPermission) {
						err = errors.New("watching the exchange needs permission for raw frames; allow it: " + m.Permissions().Frames.Mend)
					}
					return step(o), err
				})
		}}
	q.bind(cmd)
	_ = cmd.Flags().MarkHidden("trial")
	return cmd
}

// awaitExchange waits for the exchange that was begun to end, and for what it gives or takes to be so on the interface, and shows it.
func awaitExchange(ctx context.Context, t *trialled, ear *probe.DHCPListener) error {
	release := t.out.Plan.Steps[0].Do == change.ReleaseLease
	wanted := []dhcp.Outcome{dhcp.BoundTo, dhcp.Renewed, dhcp.Rebound, dhcp.Refused, dhcp.Declined}
	if release {
		wanted = []dhcp.Outcome{dhcp.Released}
	}
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	var seen *dhcp.Exchange
	for began := time.Now(); ; {
		e, err := t.c.Machine.Read(ctx)
		if err != nil {
			return err
		}
		i, _ := e.Interface(t.out.Interface)
		own := dhcp.HardwareFrom(i.Hardware[:])
		heard, _ := ear.Exchanges()
		for _, x := range heard {
			if seen == nil && x.Client == own && slices.Contains(wanted, x.Outcome) {
				if seen = x; t.format != "json" {
					(&report.Exchanges{W: stdout, Format: t.format}).Write(x)
				}
			}
		}
		waited := time.Since(began)
		switch {
		case seen != nil && (seen.Outcome == dhcp.Refused || seen.Outcome == dhcp.Declined):
			return fmt.Errorf("the lease was not renewed: %v", seen.Outcome)
		case seen != nil && (release || e.Owns(seen.Terms.Address)):
			return nil
		case release && waited > quietRelease: // the address is gone: the step was read back
			t.tell("%s took the address away, and told the server nothing", t.out.Manager)
			return nil
		case waited > renewWait && seen != nil:
			return fmt.Errorf("%v is leased, and %s does not have it after %v", seen.Terms.Address, t.out.Interface, renewWait)
		case waited > renewWait:
			return fmt.Errorf("%s was told, and no answer was seen within %v; passepartout dhcp tells who answers on %s",
				t.out.Manager, renewWait, t.out.Interface)
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}
