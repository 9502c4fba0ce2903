package main

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"github.com/spf13/cobra"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/neighbours"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/machine"
	"passepartout/internal/probe"
	"passepartout/internal/probe/neighbourwatch"
	"passepartout/internal/report"
)

// port reads the machine and gives the name of the port that is meant.
func (f *flags) port(ctx context.Context, m machine.Machine) (*endpoint.Endpoint, string, error) {
	e, err := m.Read(ctx)
	if err != nil {
		return nil, "", err
	}
	if err := e.Check(f.iface); err != nil {
		return nil, "", err
	}
	if f.iface != "" {
		return e, f.iface, nil
	}
	name, ok := e.Choose()
	if !ok {
		return nil, "", errors.New("this machine has no network interface besides loopback")
	}
	return e, name, nil
}

// standing gives the machine to examine, what it says of itself, and the port that is meant; stop leaves it.
func (f *flags) standing(ctx context.Context) (m machine.Machine, e *endpoint.Endpoint, iface string, stop func(), err error) {
	if m, _, stop, err = f.ground(nil); err != nil {
		return nil, nil, "", nil, err
	}
	if e, iface, err = f.port(ctx, m); err != nil {
		stop()
		return nil, nil, "", nil, err
	}
	return m, e, iface, stop, nil
}

// askable says why nothing can be asked out of an interface, before silence is taken for an answer.
func askable(e *endpoint.Endpoint, iface string) error {
	i, ok := e.Interface(iface)
	switch {
	case !ok:
		return e.Check(iface)
	case !i.Up:
		return fmt.Errorf("%s is switched off: nobody can be asked. Switch it on: ip link set dev %s up", iface, iface)
	case i.Carrier == endpoint.CarrierAbsent:
		return fmt.Errorf("%s has no signal: nobody can be asked. See to its cable", iface)
	}
	return nil
}

// patrol begins to watch the neighbours of the port that is meant.
func (f *flags) patrol(ctx context.Context, quiet bool) (p *neighbourwatch.Watch, stop func(), err error) {
	m, e, name, leave, err := f.standing(ctx)
	if err != nil {
		return nil, nil, err
	}
	ctx, cancel := context.WithCancel(ctx)
	if p, err = neighbourwatch.Start(ctx,
		neighbourwatch.Config{Machine: m, Interface: name, Endpoint: e, Sheet: f.sheet, Quiet: quiet}); err != nil {
		cancel()
		leave()
		return nil, nil, err
	}
	return p, func() { cancel(); p.Wait(); leave() }, nil
}

func (f *flags) neighboursCommand() *cobra.Command {
	ask, large, rate, listen := false, false, 0, 3*time.Second
	cmd := &cobra.Command{
		Use:   "neighbours",
		Short: "Who is on this segment: hardware addresses, names, how sure they are",
		Long: `Lists the neighbours that the system knows and those that are heard within a few seconds. With --ask
everybody on the segment is asked, at most so many requests a second; nothing leaves the segment.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			switch {
			case rate < 0 || rate > 5000:
				return fmt.Errorf("--rate %d: give 1 to 5000 requests a second", rate)
			case listen < 0 || listen > 10*time.Minute:
				return fmt.Errorf("--for %v: give 0s to 10m", listen)
			}
			f.rows = true
			p, stop, err := f.patrol(cmd.Context(), false)
			if err != nil {
				return err
			}
			defer stop()
			if ask {
				if err := askable(p.Endpoint, p.Interface); err != nil {
					return err
				}
				if size, prefix, ok := p.Size(); ok && size > 256 && size <= neighbourwatch.Largest && !large {
					return fmt.Errorf("%v has %d addresses: add --large to ask them all, at %d requests a second", prefix.Masked(), size,
						neighbourwatch.LargeRate)
				}
				if err := p.Ask(cmd.Context(), rate); err != nil {
					return err
				}
			}
			probe.Sleep(cmd.Context(), listen)
			out := report.Neighbours{Interface: p.Interface, Home: p.Home, HasHome: p.HasHome, Picture: p.See()}
			return f.write(out)
		},
	}
	cmd.Flags().BoolVar(&ask, "ask", false, "ask everybody on the segment")
	cmd.Flags().BoolVar(&large, "large", false, "also when the segment is larger than 256 addresses, up to 4096")
	cmd.Flags().IntVar(&rate, "rate", 0, "requests a second (default 300, or 1000 on a large segment)")
	cmd.Flags().DurationVar(&listen, "for", listen, "how long to listen, and to look names up")
	return cmd
}

func (f *flags) freeCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "free [ADDRESS]",
		Short: "Whether an address is free; without one: whether anybody else uses this machine's",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			p, stop, err := f.patrol(cmd.Context(), true)
			if err != nil {
				return err
			}
			defer stop()
			if err := askable(p.Endpoint, p.Interface); err != nil {
				return err
			}
			a, ok := p.OwnAddress()
			if len(args) > 0 {
				if a, err = netip.ParseAddr(args[0]); err != nil {
					return fmt.Errorf("%q is no address; give one such as 172.27.40.90", wiretext.Clip(args[0]))
				}
			} else if !ok {
				return errors.New("this machine has no address that another could use; give one to ask for")
			}
			if len(args) == 0 && p.See().Withheld != "" {
				return errors.New("whether anybody else uses this machine's address can only be asked in raw frames; allow them: " +
					p.Machine.Permissions().Frames.Mend)
			}
			t := p.Try(cmd.Context(), a)
			s, sentence, limits := t.Result(p.Prefix(a), p.Home, p.HasHome)
			if f.format == "json" {
				err = report.TrialJSON(stdout, t, p.Prefix(a), p.Home, p.HasHome)
			} else {
				fmt.Fprintln(stdout, sentence)
				for _, l := range limits {
					fmt.Fprintln(stdout, "  "+l)
				}
			}
			switch {
			case err != nil:
				return err
			case s == neighbours.Taken || s == neighbours.Claimed:
				return status(exitFault)
			case s == neighbours.CannotTell || s == neighbours.Asking:
				return status(exitUndetermined)
			}
			return nil
		},
	}
}

func (f *flags) portCommand() *cobra.Command {
	over := 2 * time.Second
	cmd := &cobra.Command{
		Use:   "port",
		Short: "What goes through the network interface now, and what it loses",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if over < 100*time.Millisecond || over > time.Hour {
				return fmt.Errorf("--for %v: give 100ms to 1h", over)
			}
			m, e, name, stop, err := f.standing(cmd.Context())
			if err != nil {
				return err
			}
			defer stop()
			was, _ := e.Interface(name)
			began := time.Now()
			probe.Sleep(cmd.Context(), over)
			ports, err := m.Interfaces(context.WithoutCancel(cmd.Context()))
			if err != nil {
				return err
			}
			seen := report.InterfaceSeen{At: began, Over: time.Since(began)}
			seen.Home, seen.HasHome = f.sheet.Home(e.Host, was.Hardware)
			for _, now := range ports {
				if now.Name == name {
					seen.Port, seen.Grown = now, now.Counters.Since(was.Counters)
				}
			}
			if seen.Port.Name == "" {
				return fmt.Errorf("%s: %w", name, endpoint.ErrNoInterface)
			}
			if f.format == "json" {
				err = seen.WriteJSON(stdout)
			} else {
				err = seen.WriteText(stdout)
			}
			if err == nil && seen.Grown.Errors() > 0 {
				return status(exitFault)
			}
			return err
		},
	}
	cmd.Flags().DurationVar(&over, "for", over, "how long to count")
	return cmd
}
