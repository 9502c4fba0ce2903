package main

import (
	"fmt"
	"net"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"passepartout/internal/acting"
	"passepartout/internal/core/change"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/target"
	"passepartout/internal/core/wiretext"
)

// act makes a command that changes this machine.
func (q *changing) act(use, short string, args cobra.PositionalArgs,
	of func(args []string, e *endpoint.Endpoint, iface string) (change.Change, error)) *cobra.Command {
	cmd := &cobra.Command{Use: use, Short: short, Args: args, Annotations: map[string]string{changes: ""}}
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return q.carryOut(cmd.Context(), whyOf(cmd, args),
			func(_ acting.Machine, e *endpoint.Endpoint, iface string) (change.Change, error) {
				return of(args, e, iface)
			})
	}
	return cmd
}

// whyOf is the command as the journal has it.
func whyOf(cmd *cobra.Command, args []string) string {
	return wiretext.Clean(strings.Join(append(strings.Fields(cmd.CommandPath())[1:], args...), " "))
}

// step is a change of one step.
func step(o change.Op) change.Change { return change.Change{Steps: []change.Op{o}} }

func (f *flags) setCommand() *cobra.Command {
	q := &changing{flags: f}
	parent := &cobra.Command{Use: "set", Short: "Sets address, gateway and name servers as one set; switches an interface; sets its MTU",
		Long: `Sets what an interface has, as one set: what is not given is carried along, so that nothing is lost by
changing one value. Nothing is done before you have seen the steps. What is done is on trial: if nobody
keeps it, it is taken back by itself, though the program be killed or the session cut.`,
		Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	q.bind(parent)
	var gateway string
	var dns, search []string
	address := q.act("address ADDRESS/LENGTH", "The address, with mask, gateway and name servers", cobra.ExactArgs(1),
		func(args []string, _ *endpoint.Endpoint, iface string) (change.Change, error) {
			s := &change.Static{Interface: iface, Search: search}
			var err error
			if s.Address, err = change.ParsePrefix(args[0]); err != nil {
				return change.Change{}, err
			}
			if gateway != "" {
				if s.Gateway, err = change.ParseAddr(gateway); err != nil {
					return change.Change{}, err
				}
			}
			for _, text := range dns {
				a, err := change.ParseAddr(text)
				if err != nil {
					return change.Change{}, err
				}
				s.Resolvers = append(s.Resolvers, a)
			}
			return change.Change{Set: s}, nil
		})
	address.Flags().StringVar(&gateway, "gateway", "", "the router that leads out (default: the one there is)")
	address.Flags().StringArrayVar(&dns, "dns", nil, "a name server; may be given more than once (default: those there are)")
	address.Flags().
		StringArrayVar(&search, "search", nil, "a domain of the search list; may be given more than once (default: the list there is)")
	onOff := func(do change.Do) func([]string, *endpoint.Endpoint, string) (change.Change, error) {
		return func(_ []string, e *endpoint.Endpoint, iface string) (change.Change, error) {
			if i, ok := e.Interface(iface); ok && i.Up == (do == change.SwitchOn) {
				return change.Change{}, nil
			}
			return step(change.Op{Do: do, Interface: iface}), nil
		}
	}
	parent.AddCommand(
		q.act("lookups SERVICE...", "Where programs look for hosts, such as: files dns (nsswitch.conf(5))", cobra.MinimumNArgs(1),
			func(args []string, _ *endpoint.Endpoint, _ string) (change.Change, error) {
				for _, word := range args {
					if strings.ContainsAny(word, "#:\n\r") || wiretext.Clean(word) != word {
						return change.Change{}, fmt.Errorf("%q is no service; give such as files or dns", wiretext.Clip(word))
					}
				}
				return step(change.Op{Do: change.SetSources, Name: strings.Join(args, " ")}), nil
			}))
	parent.AddCommand(f.takesLease("automatic", "Settings by DHCP, while the program runs, where no other client manages the interface"))
	parent.AddCommand(address, q.act("up", "Switches the interface on", cobra.NoArgs, onOff(change.SwitchOn)),
		q.act("down", "Switches the interface off", cobra.NoArgs, onOff(change.SwitchOff)),
		q.act("mtu OCTETS", "The largest packet that leaves in one piece", cobra.ExactArgs(1),
			func(args []string, _ *endpoint.Endpoint, iface string) (change.Change, error) {
				n, err := change.ParseMTU(args[0])
				return step(change.Op{Do: change.SetMTU, Interface: iface, MTU: n}), err
			}))
	return parent
}

// addCommand makes "add" or "remove".
func (f *flags) addCommand(use, short string, address, route, neighbour change.Do) *cobra.Command {
	q := &changing{flags: f}
	parent := &cobra.Command{Use: use, Short: short, Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	q.bind(parent)
	var via, hardware string
	metric := 0
	routes := q.act("route PREFIX", "A route, such as 203.0.113.0/24 or default", cobra.ExactArgs(1),
		func(args []string, e *endpoint.Endpoint, iface string) (c change.Change, err error) {
			o := change.Op{Do: route, Interface: iface, Metric: metric}
			if via != "" {
				if o.Via, err = change.ParseAddr(via); err != nil {
					return c, err
				}
			}
			if o.Prefix, err = change.ParseDestination(args[0], o.Via); err != nil {
				return c, err
			}
			if route == change.RemoveRoute {
				return theRoute(e, o)
			}
			return step(o), nil
		})
	routes.Flags().StringVar(&via, "via", "", "the router that leads there (default: it lies on the link itself)")
	routes.Flags().IntVar(&metric, "metric", 0, "the least is taken first")
	neighbours := q.act("neighbour ADDRESS", "An entry of the neighbour table that is not asked for", cobra.ExactArgs(1),
		func(args []string, e *endpoint.Endpoint, iface string) (c change.Change, err error) {
			o := change.Op{Do: neighbour, Interface: iface}
			if o.Address, err = change.ParseAddr(args[0]); err != nil {
				return c, err
			}
			if neighbour == change.RemoveNeighbour {
				for _, n := range change.Of(e).Neighbours {
					if n.Interface == iface && n.Address == o.Address {
						o.Hardware = n.Hardware
						return step(o), nil
					}
				}
				return c, fmt.Errorf("%v is not fixed on %s: there is nothing to take away", o.Address, iface)
			}
			hw, err := net.ParseMAC(hardware)
			var ok bool
			if o.Hardware, ok = endpoint.HardwareFrom(hw); err != nil || !ok {
				return c, fmt.Errorf("--hardware %q: give a hardware address such as 02:00:00:28:00:09", wiretext.Clip(hardware))
			}
			return step(o), nil
		})
	if neighbour == change.AddNeighbour {
		neighbours.Flags().StringVar(&hardware, "hardware", "", "its hardware address")
	}
	host := change.AddHost
	if neighbour == change.RemoveNeighbour {
		host = change.RemoveHost
		parent.AddCommand(
			q.act("rule PRIORITY", "A rule by which packets are looked up in a table of their own", cobra.ExactArgs(1), theRule))
	}
	parent.AddCommand(q.act("host NAME ADDRESS", "A name of the hosts file", cobra.ExactArgs(2),
		func(args []string, _ *endpoint.Endpoint, _ string) (c change.Change, err error) {
			o := change.Op{Do: host, Name: args[0]}
			if t, err := target.Parse(args[0]); err != nil || t.Name == "" || t.Port != 0 {
				return c, fmt.Errorf("%q is no host's name; give one such as bookings.kittiwake.example", wiretext.Clip(args[0]))
			}
			o.Address, err = change.ParseAddr(args[1])
			return step(o), err
		}))
	parent.AddCommand(q.act("address ADDRESS/LENGTH", "An address beside those there are", cobra.ExactArgs(1),
		func(args []string, _ *endpoint.Endpoint, iface string) (change.Change, error) {
			p, err := change.ParsePrefix(args[0])
			return step(change.Op{Do: address, Interface: iface, Prefix: p}), err
		}), routes, neighbours)
	return parent
}

// theRoute is the one of this machine's that is meant.
func theRoute(e *endpoint.Endpoint, o change.Op) (change.Change, error) {
	var found []change.Route
	settings := change.Of(e)
	for _, r := range settings.Routes {
		if r.To == o.Prefix && r.Interface == o.Interface && (!o.Via.IsValid() || r.Via == o.Via) &&
			(o.Metric == 0 || r.Metric == o.Metric) {
			found = append(found, r)
		}
	}
	switch len(found) {
	case 0:
		return change.Change{}, fmt.Errorf("%s has no such route to %v that could be taken away", o.Interface, o.Prefix)
	case 1:
		r := found[0]
		o.Via, o.Source, o.Metric, o.Protocol, o.OnLink = r.Via, r.Source, r.Metric, r.Protocol, r.OnLink
		return step(o), nil
	}
	return change.Change{}, fmt.Errorf("%d routes lead to %v; say which with --via or --metric", len(found), o.Prefix)
}

// theRule is the one of this machine's that is meant.
func theRule(args []string, e *endpoint.Endpoint, _ string) (change.Change, error) {
	n, err := strconv.Atoi(args[0])
	if err != nil {
		return change.Change{}, fmt.Errorf("%q is no rule's priority; give a number such as 1000", wiretext.Clip(args[0]))
	}
	for _, r := range e.Rules {
		if r.Priority == n {
			if o, ok := change.RuleRemoval(r); ok {
				return step(o), nil
			}
			return change.Change{}, fmt.Errorf("the rule %d is told by more than source and destination: it is not taken away from here", n)
		}
	}
	return change.Change{}, fmt.Errorf("there is no rule of priority %d", n)
}
