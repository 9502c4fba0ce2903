package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strconv"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"passepartout/internal/acting"
	"passepartout/internal/core/change"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/machine/linux"
	"passepartout/internal/report"
)

const guardName = "guard"

// guardCommand is the process that changes this machine, and takes back what nobody keeps. It is begun by the program itself.
func (f *flags) guardCommand() *cobra.Command {
	return &cobra.Command{Use: guardName, Hidden: true, Args: cobra.NoArgs, Annotations: map[string]string{changes: ""},
		RunE: func(cmd *cobra.Command, _ []string) error {
			m, err := thisMachine()
			if err != nil {
				return err
			}
			// What ends other processes does not end this one: it ends when the change is kept or taken back.
			signal.Ignore(syscall.SIGHUP, syscall.SIGINT, syscall.SIGTERM, syscall.SIGPIPE)
			return acting.Serve(context.WithoutCancel(cmd.Context()), m, acting.OpenJournal(), os.Stdin, os.Stdout)
		}}
}

func thisMachine() (acting.Machine, error) {
	live, err := linux.New()
	if err != nil {
		return nil, err
	}
	m, ok := live.(acting.Machine)
	if !ok {
		return nil, errNotToBeTold
	}
	return m, nil
}

func (f *flags) changesCommand() *cobra.Command {
	return &cobra.Command{Use: "changes", Short: "Lists what was changed here, and what became of it", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if err := f.check(); err != nil {
				return err
			}
			journal := acting.OpenJournal()
			entries, damaged, err := journal.Read()
			if err != nil {
				return err
			}
			if damaged > 0 {
				fmt.Fprintf(os.Stderr, "%d lines of %s cannot be read; they stay where they are\n", damaged, journal.Path())
			}
			if f.format == "json" {
				e := json.NewEncoder(stdout)
				for _, x := range entries {
					if err := e.Encode(x); err != nil {
						return err
					}
				}
				return nil
			}
			if len(entries) == 0 {
				fmt.Fprintln(stdout, "Nothing was changed here.")
			}
			for _, x := range entries {
				fmt.Fprintf(stdout, "%4d  %s  %-10s  %s  by %s%s\n", x.ID, x.At.Local().Format("2006-01-02 15:04:05"), x.Outcome, x.Why,
					x.Who,
					map[bool]string{true: ": " + x.Says}[x.Says != ""])
				for _, o := range x.Steps {
					fmt.Fprintf(stdout, "        %v\n", o)
				}
			}
			return nil
		}}
}

func (f *flags) undoCommand() *cobra.Command {
	q := &changing{flags: f}
	cmd := &cobra.Command{Use: "undo [NUMBER]", Short: "Takes a change back: the last one that stands, or that of a number",
		Args:        cobra.MaximumNArgs(1),
		Annotations: map[string]string{changes: ""},
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := f.check(); err != nil {
				return err
			}
			m, err := thisMachine()
			if err != nil {
				return err
			}
			journal := acting.OpenJournal()
			entries, _, err := journal.Read()
			if err != nil {
				return err
			}
			e, err := undone(entries, args)
			if err != nil {
				return err
			}
			now, err := acting.Settings(cmd.Context(), m)
			if err != nil {
				return err
			}
			o, others, err := backTo(now, e.ID, e.From, e.To, e.Steps)
			if len(others) > 0 && !q.force {
				return fmt.Errorf("nothing was done: changed by others since: %s; add --force to take back the rest",
					strings.Join(others, "; "))
			}
			if err != nil {
				return err
			}
			plan, err := change.Along(now, o.Steps)
			if err != nil {
				return err
			}
			out := report.Change{ID: e.ID, Last: lastsNow, Plan: plan, Outcome: string(acting.Planned)}
			if len(o.Steps) > 0 {
				out.Interface = o.Steps[0].Interface
			}
			write := out.WriteJSON
			if q.format != "json" {
				write = func(io.Writer) error { return nil }
				if err := out.WritePlan(stdout); err != nil {
					return err
				}
			}
			if q.dry {
				return write(stdout)
			}
			if err := q.agreed("Take it back? [y/N] "); err != nil {
				return err
			}
			hand, err := q.hand(cmd.Context(), m)
			if err != nil {
				return fmt.Errorf("nothing was done: %w", err)
			}
			defer hand.Close()
			t := trialled{changing: q, hand: hand, out: &out}
			if err := hand.Do(o); err != nil {
				return err
			}
			_, err = t.hear(cmd.Context())
			if out.Outcome == string(acting.TakenBack) {
				err = nil
			}
			return errors.Join(err, write(stdout))
		}}
	q.bind(cmd)
	return cmd
}

var errNothingToUndo = errors.New("there is no change that could be taken back")

// undone is the change that is meant: it stands, and was done.
func undone(entries []acting.Entry, args []string) (acting.Entry, error) {
	stands := func(e acting.Entry) bool { return e.Outcome == acting.Kept || e.Outcome == acting.OnTrial }
	if len(args) > 0 {
		id, err := strconv.Atoi(args[0])
		if err != nil {
			return acting.Entry{}, fmt.Errorf("%q is no change's number; passepartout changes lists them", wiretext.Clip(args[0]))
		}
		for _, e := range entries {
			if e.ID == id && stands(e) {
				return e, nil
			}
			if e.ID == id {
				return e, fmt.Errorf("change %d does not stand any more: %s", id, e.Outcome)
			}
		}
		return acting.Entry{}, fmt.Errorf("there is no change %d; passepartout changes lists them", id)
	}
	for i := len(entries) - 1; i >= 0; i-- {
		if stands(entries[i]) {
			return entries[i], nil
		}
	}
	return acting.Entry{}, errNothingToUndo
}
