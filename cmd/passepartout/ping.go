package main

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"time"

	"github.com/spf13/cobra"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/rtt"
	"passepartout/internal/core/target"
	"passepartout/internal/machine"
	"passepartout/internal/probe"
	"passepartout/internal/probe/plan"
	"passepartout/internal/report"
)

// Bounds of ping's flags. A shorter interval would load the network, a larger payload does not fit an IP packet.
const (
	shortestInterval = 10 * time.Millisecond
	largestPayload   = 65507
)

// asked is what ping and trace begin with: a machine, its settings, and the first address of the target.
type asked struct {
	machine  machine.Machine
	endpoint *endpoint.Endpoint
	target   target.Target
	address  netip.Addr
	echoer   *probe.Echoer
	stop     func()
}

// ask finds the machine and the target's address. A name that leads to no address is printed and gives exitFault: nothing was reached.
func (f *flags) ask(ctx context.Context, args []string) (a asked, err error) {
	a.machine, a.target, a.stop, err = f.ground(args)
	if err != nil {
		return a, err
	}
	defer func() {
		if err != nil {
			a.stop()
		}
	}()
	if a.target.IsZero() {
		return a, errors.New("what should be reached? Give a name or an address")
	}
	if a.endpoint, err = a.machine.Read(ctx); err != nil {
		return a, err
	}
	if _, ok := a.endpoint.Interface(f.iface); f.iface != "" && !ok {
		return a, fmt.Errorf("%w: %q", plan.ErrNoInterface, f.iface)
	}
	addrs, err := probe.Resolve(ctx, a.machine, a.endpoint, a.target, f.families())
	if err != nil {
		return a, err
	}
	a.address = addrs[0]
	a.echoer = probe.NewEchoer(a.machine, f.iface)
	return a, nil
}

func (f *flags) pingCommand() *cobra.Command {
	q := probe.SeriesQuestion{}
	cmd := &cobra.Command{
		Use:   "ping TARGET",
		Short: "Echo probes, one line each, and a summary",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case q.Count < 1:
				return fmt.Errorf("--count %d: give a number from 1", q.Count)
			case q.Interval < shortestInterval:
				return fmt.Errorf("--interval %v: the shortest is %v", q.Interval, shortestInterval)
			case q.Size < 0 || q.Size > largestPayload:
				return fmt.Errorf("--size %d: give 0 to %d octets", q.Size, largestPayload)
			}
			a, err := f.ask(cmd.Context(), args)
			out := report.Ping{W: os.Stdout, JSON: f.format == "json", Target: a.target.Host()}
			if errors.Is(err, probe.ErrNoAddress) {
				fmt.Fprintln(os.Stderr, "passepartout:", err)
				if out.JSON {
					if err := out.Summary(rtt.Summary{}); err != nil {
						return err
					}
				}
				return status(exitFault)
			}
			if err != nil {
				return err
			}
			defer a.stop()
			defer a.echoer.Close()
			q.To, out.Address = a.address, a.address
			if f.format == "text" {
				method := "ICMP echo"
				if !a.machine.Permissions().Echo.Granted {
					method = "UDP, as echo is not permitted"
				}
				fmt.Printf("to %s by %s, %d octets, every %v\n", nameAnd(a), method, q.Size, q.Interval)
			}
			var failed error
			samples := probe.Series(cmd.Context(), a.echoer, q, func(p probe.Probe) {
				if err := out.Probe(p); err != nil {
					failed = err
				}
			})
			summary := rtt.Summarize(samples)
			if err := errors.Join(failed, out.Summary(summary)); err != nil {
				return err
			}
			if summary.Received == 0 {
				return status(exitFault)
			}
			return nil
		},
	}
	cmd.Flags().IntVar(&q.Count, "count", 10, "how many probes")
	cmd.Flags().DurationVar(&q.Interval, "interval", time.Second, "time between two probes")
	cmd.Flags().IntVar(&q.Size, "size", 48, "octets of payload")
	return cmd
}

func nameAnd(a asked) string {
	if a.target.Name == "" {
		return a.address.String()
	}
	return a.target.Name + " " + a.address.String()
}
