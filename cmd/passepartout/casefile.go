package main

import (
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/adrg/xdg"
	"github.com/spf13/cobra"

	"passepartout/internal/casefile"
	"passepartout/internal/core/event"
	"passepartout/internal/core/state"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/machine"
	"passepartout/internal/scenario"
	"passepartout/internal/tui"
)

func bindCase(cmd *cobra.Command, file *string) {
	cmd.Flags().StringVar(file, "case", "", "keep all that is seen in FILE"+casefile.Ending+
		": passepartout report reads it; the screen keeps it by itself, unless \"none\" is given")
}

// keptNowhere is what is given for a case that shall not be kept.
const keptNowhere = "none"

// shelf is where the screen keeps cases by itself.
func shelf() casefile.Shelf {
	return casefile.Shelf(filepath.Join(xdg.StateHome, "passepartout", "cases"))
}

// onShelf is where the screen's case is kept where no file was named, and what there is to say of cases that were left; "" where that is
// not to be had: nobody is kept from looking by that.
func (f *flags) onShelf() (file, left string) {
	if f.keep != "" {
		return f.keep, ""
	}
	all, err := shelf().List()
	if err == nil {
		err = shelf().Tidy(all)
	}
	if err == nil {
		file, err = shelf().Fresh(time.Now())
	}
	if err != nil {
		return "", "This case is not kept: " + wiretext.Clean(err.Error())
	}
	n := 0
	for _, k := range all {
		if k.Left {
			n++
			left = fmt.Sprintf("An unfinished case of %s (%s): passepartout cases lists it, closes it or throws it away.",
				k.Began.Local().Format("2 January, 15:04"), wiretext.Clip(k.Target))
		}
	}
	if n > 1 {
		left = fmt.Sprintf("%d unfinished cases: passepartout cases lists them, closes or throws away.", n)
	}
	return file, left
}

// listener hears of all that happens in a case.
type listener func(event.Event, *state.State)

// keepCase has all that happens in a case kept in a file, beside whoever else hears of it; close makes the file of it. Without a name
// nothing is kept.
func (f *flags) keepCase(file, complaint string, m machine.Machine, log listener) (_ listener, close func() error, err error) {
	if file == "" || file == keptNowhere {
		return log, func() error { return nil }, nil
	}
	r, err := casefile.Record(file, f.manifest(m, complaint))
	if err != nil {
		return nil, nil, err
	}
	return func(e event.Event, s *state.State) {
		if log != nil {
			log(e, s)
		}
		r.Take(e, s)
	}, func() error { return r.Close(time.Now()) }, nil
}

// tellFlaws says what of a case could not be read.
func tellFlaws(file string, c *casefile.Case) {
	for _, flaw := range c.Flaws {
		fmt.Fprintf(os.Stderr, "%s: %s\n", file, flaw)
	}
}

// complaintOf is what a demonstration's user says; "" on a live machine.
func complaintOf(name string) string {
	if name == "" {
		return ""
	}
	words, err := scenario.Complaint(name)
	if err != nil {
		return "a demonstration"
	}
	return words
}

// manifest says what a case is of that begins now.
func (f *flags) manifest(m machine.Machine, complaint string) casefile.Manifest {
	out := casefile.Manifest{Version: version(), Began: time.Now(), Permissions: []string{}, Complaint: complaint,
		Simulated: complaint != ""}
	if m != nil {
		p := m.Permissions()
		for _, one := range []machine.Permission{p.Echo, p.Frames} {
			if !one.Granted {
				out.Permissions = append(out.Permissions, one.Why)
			}
		}
	}
	return out
}

// openCommand looks at a case that was kept, or at two side by side.
func (f *flags) openCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "open FILE [FILE]",
		Short: "Opens a case that was kept, full-screen, as it was at any moment; or two of them, side by side",
		Long: `Opens a case that check, watch or the screen has kept with --case, also one that was never closed. Nothing is
asked of any network. The keys , and . go from one moment to the next at which something happened. With a
second case, what parts the two is shown first: the broken machine and the healthy one beside it, before and
after, Monday and today.`,
		Args: cobra.RangeArgs(1, 2),
		RunE: func(cmd *cobra.Command, args []string) error {
			c := tui.Config{Handed: keepCopied}
			var err error
			if c.Theme, err = tui.Theme(f.theme); err != nil {
				return err
			}
			for i, file := range args {
				kept, line, err := casefile.OpenInTime(file)
				if err != nil {
					return err
				}
				tellFlaws(file, kept)
				r := &tui.Recording{Name: filepath.Base(file), Timeline: line, Complaint: kept.Complaint, Simulated: kept.Simulated}
				if i == 0 {
					c.Recorded, c.Version = r, kept.Version
				} else {
					c.Beside = r
				}
			}
			if !tui.IsTerminal(os.Stdin) || !tui.IsTerminal(os.Stdout) {
				return errNoTerminal
			}
			return tui.Run(cmd.Context(), c)
		},
	}
	bindTheme(cmd, &f.theme)
	return cmd
}
