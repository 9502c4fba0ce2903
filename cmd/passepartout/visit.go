package main

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"passepartout/internal/acting"
	"passepartout/internal/core/change"
	"passepartout/internal/core/endpoint"
)

// The bounds of a visit, and how many addresses are tried for it.
const (
	leastVisit = 10 * time.Second
	mostVisit  = 24 * time.Hour
	mostTried  = 8
)

// visitCommand gives this machine a second address for a while, to reach a device that still has its factory settings.
func (f *flags) visitCommand() *cobra.Command {
	q := &changing{flags: f}
	during := 10 * time.Minute
	cmd := &cobra.Command{Use: "visit ADDRESS[/LENGTH]",
		Short: "A second address for a while, to reach a device with other settings",
		Long: `Gives the interface a free address in the device's network (/24 unless you say otherwise), beside those
that it has, for the device alone. The system takes it away by itself when the time is over, whatever
becomes of this program; passepartout undo does it before.`,
		Args: cobra.ExactArgs(1), Annotations: map[string]string{changes: ""},
		RunE: func(cmd *cobra.Command, args []string) error {
			device, err := deviceOf(args[0])
			if err != nil {
				return err
			}
			if during < leastVisit || during > mostVisit {
				return fmt.Errorf("--for %v: give %v to %v", during, leastVisit, mostVisit)
			}
			if q.target == "" {
				q.target = device.Addr().String()
			}
			q.trial, q.last = 0, "for "+during.String()
			return q.carryOut(cmd.Context(), "visit "+device.String(),
				func(m acting.Machine, e *endpoint.Endpoint, iface string) (change.Change, error) {
					return q.visit(cmd.Context(), m, e, iface, device, during)
				})
		}}
	q.bind(cmd)
	cmd.Flags().DurationVar(&during, "for", during, "how long the address stays")
	_ = cmd.Flags().MarkHidden("trial") // it goes by itself
	_ = cmd.Flags().MarkHidden("last")
	return cmd
}

// visit finds an address for it that nobody has.
func (q *changing) visit(ctx context.Context, m acting.Machine, e *endpoint.Endpoint, iface string, device netip.Prefix,
	during time.Duration) (c change.Change, err error) {
	if i, ok := e.Interface(iface); ok && i.OnLink(device.Addr()) {
		return c, fmt.Errorf("%v lies in a network of %s already: it is reached as it is", device.Addr(), iface)
	}
	beside, err := change.Beside(device, mostTried)
	if err != nil {
		return c, err
	}
	for _, a := range beside {
		switch held, asked := acting.Held(ctx, m, e, iface, a); {
		case !asked:
			return c, errors.New("whether an address is free cannot be asked here: it needs permission for raw frames")
		case !held:
			return change.Visit(iface, device.Addr(), a, during), nil
		}
	}
	return c, fmt.Errorf("the %d addresses next to %v are all in use; give another length", len(beside), device.Addr())
}

func deviceOf(text string) (netip.Prefix, error) {
	if !strings.Contains(text, "/") {
		text += "/24"
	}
	p, err := netip.ParsePrefix(text)
	if err != nil {
		return p, fmt.Errorf("%q: give the device's address, such as 192.168.1.1 or 192.168.1.1/24", clipped(text))
	}
	return p, nil
}
