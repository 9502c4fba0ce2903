package main

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"passepartout/internal/core/change"
	"passepartout/internal/core/lease"
	"passepartout/internal/leasefile"
	"passepartout/internal/report"
)

func (f *flags) leaseCommand() *cobra.Command {
	root, at := "", ""
	cmd := &cobra.Command{
		Use:   "lease",
		Short: "What DHCP gave this machine, by whom, and until when",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := f.check(); err != nil {
				return err
			}
			now := time.Now()
			if at != "" {
				var err error
				if now, err = time.Parse(time.RFC3339, at); err != nil {
					return fmt.Errorf("--at %q: give a time such as 2026-11-23T09:14:00Z", at)
				}
			}
			leases, flaws, err := f.leases(cmd, root, at != "", now)
			if err != nil {
				return err
			}
			if f.iface != "" {
				leases = slices.DeleteFunc(leases,
					func(l lease.Lease) bool { return l.Interface != f.iface && strconv.Itoa(l.Index) != f.iface })
			}
			write := report.LeasesText
			if f.format == "json" {
				write = report.LeasesJSON
			}
			if err := write(stdout, leases, flaws, now); err != nil {
				return err
			}
			if !slices.ContainsFunc(leases, func(l lease.Lease) bool { return l.InForce && l.At(now) != lease.Expired }) {
				return status(exitFault)
			}
			return nil
		},
	}
	cmd.AddCommand(f.asksClient("renew", "Has the client that manages the interface renew its lease", change.RenewLease),
		f.asksClient("release", "Has the client that manages the interface give its lease back", change.ReleaseLease),
		f.takesLease("take", "Takes a lease and keeps it while the program runs, where no other client does"))
	cmd.Flags().StringVar(&root, "root", "", "read a mounted disk or a copied tree in place of this system")
	cmd.Flags().StringVar(&at, "at", "", "the moment from which the state follows, as 2026-11-23T09:14:00Z (default now)")
	return cmd
}

// leases reads those of this machine or of a simulated one, or with a root those of a tree, without asking the kernel.
func (f *flags) leases(cmd *cobra.Command, root string, given bool, now time.Time) ([]lease.Lease, []lease.Flaw, error) {
	if root != "" {
		if f.scenario != "" {
			return nil, nil, errors.New("--root and --scenario exclude each other")
		}
		info, err := os.Stat(root)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return nil, nil, fmt.Errorf("--root %q: not there", root)
		case err != nil:
			return nil, nil, fmt.Errorf("--root %q: %w", root, err)
		case !info.IsDir():
			return nil, nil, fmt.Errorf("--root %q: not a directory", root)
		}
		tree, err := os.OpenRoot(root) // a link in it that leads out of it is none
		if err != nil {
			return nil, nil, fmt.Errorf("--root %q: %w", root, err)
		}
		defer tree.Close()
		found, flaws := leasefile.Read(tree.FS())
		return lease.Alone(found, now), flaws, nil
	}
	if given {
		return nil, nil, errors.New("--at goes with --root: on a running machine now is now")
	}
	m, _, stop, err := f.ground(nil)
	if err != nil {
		return nil, nil, err
	}
	defer stop()
	e, err := m.Read(cmd.Context())
	if err != nil {
		return nil, nil, err
	}
	return e.Leases, e.LeaseFlaws, e.Check(f.iface)
}
