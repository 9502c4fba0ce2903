package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"passepartout/internal/core/site"
	"passepartout/internal/core/target"
	"passepartout/internal/core/zone"
	"passepartout/internal/plainfile"
	"passepartout/internal/probe"
	"passepartout/internal/probe/plan"
	"passepartout/internal/sheetfile"
)

func (f *flags) siteCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "site",
		Short: "The site sheet: what is documented of a network, to compare a machine with",
		Long: `A site sheet is a YAML file that says what a network should be like: prefixes, gateways, DHCP
servers, name servers, addresses and services. Any command takes it with --site FILE. What the sheet
does not say is not judged. docs/site-sheet.md describes every field.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(f.siteLearnCommand(), f.siteCheckCommand())
	return cmd
}

func (f *flags) siteCheckCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "check FILE",
		Short: "Reads a site sheet and says what is in it, or what is wrong in which line",
		Args:  cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := sheetfile.Read(args[0])
			if err != nil {
				return err
			}
			for _, n := range s.Networks {
				fmt.Fprintf(stdout, "%s %v: gateways %v, %d fixed addresses, %d ranges\n", n.Name, n.Prefixes, n.Gateways, len(n.Fixed),
					len(n.Ranges))
			}
			fmt.Fprintf(stdout, "%d services\n", len(s.Services))
			return nil
		},
	}
}

func (f *flags) siteLearnCommand() *cobra.Command {
	out, force := "", false
	cmd := &cobra.Command{
		Use:   "learn [SERVICE...]",
		Short: "Writes a site sheet from a healthy machine: this one",
		Long: `Reads this machine, asks everybody on its segment and the DHCP servers, and writes down what is
there as a site sheet. A machine on which a fault stands in the way is refused: what is wrong would
be documented as right. Look the sheet over before you trust it.`,
		Args: cobra.MaximumNArgs(50),
		RunE: func(cmd *cobra.Command, args []string) error {
			var services []target.Target
			for _, text := range args {
				t, err := target.Parse(text)
				if err != nil {
					return err
				}
				services = append(services, t)
			}
			if out != "" && !force {
				if _, err := os.Stat(out); err == nil {
					return fmt.Errorf("%s is there already; --force writes over it", out)
				}
			}
			s, err := f.learn(cmd.Context(), services)
			if err != nil {
				return err
			}
			raw, err := sheetfile.Write(s)
			if err != nil {
				return err
			}
			head := fmt.Sprintf("# Learnt from a machine on %s. Look it over: what stands here counts as right.\n",
				time.Now().Format("2006-01-02"))
			text := append([]byte(head), raw...)
			if out == "" {
				_, err = stdout.Write(text)
				return err
			}
			return plainfile.Write(out, func(w io.Writer) error { _, err := w.Write(text); return err })
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the file to write (default: standard output)")
	cmd.Flags().BoolVar(&force, "force", false, "write over a file that is there")
	return cmd
}

// learn gathers what a site sheet says of this machine's network.
func (f *flags) learn(ctx context.Context, services []target.Target) (*site.Sheet, error) {
	m, given, leave, err := f.ground(nil)
	if err != nil {
		return nil, err
	}
	defer leave()
	if f.scenario != "" && len(services) == 0 {
		services = append(services, given)
	}
	run, cancel := context.WithTimeout(ctx, f.deadline)
	defer cancel()
	set, result, err := plan.Run(run, plan.Config{Machine: m, Interface: f.iface, Families: f.families(), Thorough: true}, nil)
	if err != nil {
		return nil, err
	}
	if result.Zone != zone.None {
		return nil, errors.New("this machine is not healthy, so nothing was written: " + result.Sentence)
	}
	f.iface = set.Interface
	p, stop, err := f.patrol(ctx, false)
	if err != nil {
		return nil, err
	}
	defer stop()
	if size, _, ok := p.Size(); ok && size <= 256 {
		if err := p.Ask(ctx, 0); err != nil {
			return nil, err
		}
		probe.Sleep(ctx, 3*time.Second) // for the names
	}
	l := site.Learnt{Site: strings.Join(set.Endpoint.Search, " "), Endpoint: set.Endpoint, Interface: set.Interface, Services: services}
	picture := p.See()
	for _, r := range picture.Rows {
		if r.Hardware.IsZero() {
			continue
		}
		name := ""
		if len(r.Names) > 0 {
			name, _, _ = strings.Cut(r.Names[0].Text, ".")
		}
		l.Met = append(l.Met, site.Fixed{Address: r.Address, Name: name, Hardware: r.Hardware})
		for _, v6 := range []bool{false, true} {
			if gw, ok := set.Endpoint.Gateway(set.Interface, v6); ok && gw == r.Address && !slices.Contains(l.Routers, r.Hardware) {
				l.Routers = append(l.Routers, r.Hardware)
			}
		}
	}
	if d := set.Discovery; d != nil {
		for _, o := range d.Offers {
			l.DHCP = append(l.DHCP, o.Server)
		}
	} else if lease, ok := set.Endpoint.Lease(set.Interface); ok && lease.Terms.Server.IsValid() {
		l.DHCP = append(l.DHCP, lease.Terms.Server)
	}
	if s := picture.Switch; s != nil {
		l.Switch, l.VLAN = s.Name, s.VLAN
	}
	return site.Learn(l), nil
}
