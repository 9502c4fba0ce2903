package main

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/names"
	"passepartout/internal/core/target"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/probe"
	"passepartout/internal/report"
)

// recordTypes are those that can be asked for.
var recordTypes = []string{"A", "AAAA", "CNAME", "PTR", "SRV", "MX", "TXT", "NS", "SOA", "CAA", "HTTPS", "SVCB"}

// servers lists whom to ask: those that were given, else those that are set here or named for this machine.
func (f *flags) servers(given []string, e *endpoint.Endpoint, iface string) (out []names.Server, err error) {
	all := names.Servers(&evidence.Set{Endpoint: e, Interface: iface, Sheet: f.sheet})
	if len(given) == 0 {
		if len(all) == 0 {
			return nil, errors.New("no name server is set on this machine; name one with --server ADDRESS")
		}
		return all, nil
	}
	for _, text := range given {
		a, err := netip.ParseAddr(text)
		if err != nil {
			return nil, fmt.Errorf("--server %q is no address", wiretext.Clip(text))
		}
		i := slices.IndexFunc(all, func(s names.Server) bool { return s.Address == a })
		if i < 0 {
			out = append(out, names.Server{Address: a, Origin: []string{"the command line"}})
		} else {
			out = append(out, all[i])
		}
	}
	return out, nil
}

func addressesOf(servers []names.Server) (out []netip.Addr) {
	for _, s := range servers {
		out = append(out, s.Address)
	}
	return out
}

func (f *flags) namesCommand() *cobra.Command {
	types, tcp, given := "A,AAAA", false, []string{}
	cmd := &cobra.Command{
		Use:   "names NAME",
		Short: "One name, or address, asked of every name server at once, side by side",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			name, err := names.Check(args[0])
			if err != nil {
				return err
			}
			kinds := strings.Split(strings.ToUpper(types), ",")
			for _, k := range kinds {
				if !slices.Contains(recordTypes, k) {
					return fmt.Errorf("--type %q: give some of %s, with commas between", wiretext.Clip(k), strings.Join(recordTypes, ", "))
				}
			}
			m, e, iface, stop, err := f.standing(cmd.Context())
			if err != nil {
				return err
			}
			defer stop()
			out := report.Named{Name: name, At: time.Now(), Hosts: e.HostsEntries(name)}
			if out.Servers, err = f.servers(given, e, iface); err != nil {
				return err
			}
			out.Asked = []string{name}
			if _, err := netip.ParseAddr(name); err != nil {
				out.Asked, _ = e.Completed(name)
			}
			out.Lookups = probe.AskCompleted(cmd.Context(), m,
				probe.NamesQuestion{Servers: addressesOf(out.Servers), Types: kinds, TCP: tcp}, out.Asked, nil)
			if f.format == "json" {
				err = out.WriteJSON(stdout)
			} else {
				err = out.WriteText(stdout)
			}
			if err == nil &&
				(out.Parts() || !slices.ContainsFunc(out.Lookups, evidence.Lookup.Has)) {
				return status(exitFault)
			}
			return err
		},
	}
	cmd.Flags().StringVar(&types, "type", types, "the records to ask for: "+strings.Join(recordTypes, ", "))
	cmd.Flags().BoolVar(&tcp, "tcp", false, "ask over TCP as well")
	cmd.Flags().StringArrayVar(&given, "server", nil, "ask this name server in place of those that are set; may be repeated")
	return cmd
}

func (f *flags) resolversCommand() *cobra.Command {
	rounds, given := 20, []string{}
	cmd := &cobra.Command{
		Use:   "resolvers [NAME...]",
		Short: "Compares the name servers by many look-ups, and says which to take",
		Args:  cobra.MaximumNArgs(20),
		RunE: func(cmd *cobra.Command, args []string) error {
			if rounds < 2 || rounds > 1000 {
				return fmt.Errorf("--rounds %d: give 2 to 1000", rounds)
			}
			m, t, stop, err := f.ground(nil)
			if err != nil {
				return err
			}
			defer stop()
			e, iface, err := f.port(cmd.Context(), m)
			if err != nil {
				return err
			}
			out := report.Compared{At: time.Now(), Rounds: rounds}
			for _, text := range args {
				name, err := names.Check(text)
				if err != nil {
					return err
				}
				out.Names = append(out.Names, name)
			}
			if len(out.Names) == 0 {
				if out.Names = trialNames(t, f, e); len(out.Names) == 0 {
					return errors.New("give the names to look up; neither a site sheet nor a search list names any")
				}
			}
			if out.Servers, err = f.servers(given, e, iface); err != nil {
				return err
			}
			out.Trial = names.NewTrial(addressesOf(out.Servers))
			var mu sync.Mutex
			probe.Compare(cmd.Context(), m,
				probe.TrialQuestion{Servers: addressesOf(out.Servers), Names: out.Names, Rounds: rounds, Pause: trialPause},
				func(l evidence.Lookup) {
					mu.Lock()
					defer mu.Unlock()
					out.Trial.Add(l)
				})
			if f.format == "json" {
				return out.WriteJSON(stdout)
			}
			return out.WriteText(stdout)
		},
	}
	cmd.Flags().IntVar(&rounds, "rounds", rounds, "how often each name is looked up at each server")
	cmd.Flags().StringArrayVar(&given, "server", nil, "compare this name server in place of those that are set; may be repeated")
	return cmd
}

// trialPause is what is left between two look-ups at one server: fifty a second at most.
const trialPause = 20 * time.Millisecond

// trialNames are the names to compare by when none was given: the target's, the site sheet's services, the domains that short names are
// completed with.
func trialNames(t target.Target, f *flags, e *endpoint.Endpoint) (out []string) {
	add := func(name string) {
		if name != "" && !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	add(t.Name)
	if f.sheet != nil {
		for _, s := range f.sheet.Services {
			add(s.Target.Name)
		}
	}
	for _, domain := range e.Search {
		add(domain)
	}
	return out
}
