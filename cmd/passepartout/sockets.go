package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"passepartout/internal/core/sockets"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/machine/linux"
	"passepartout/internal/probe"
	"passepartout/internal/probe/socketwatch"
	"passepartout/internal/report"
)

// socketsLook is for how long sockets are looked at where nobody says: until what is not read, or not taken, has shown that it stays so.
const socketsLook = 2500 * time.Millisecond

func (f *flags) socketsCommand() *cobra.Command {
	program, state, listening, lasting := "", "", false, time.Duration(0)
	cmd := &cobra.Command{
		Use:   "sockets",
		Short: "What this machine's programs do on the network: who tries, what is stuck, who listens",
		Long: `Reads the sockets of all programs, twice within three seconds, and says first what is stuck and at
whose end: connections that nobody answers, what is not acknowledged, what a program has not read.
With --for it goes on looking, and says what was opened and closed meanwhile. Nothing is sent.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			f.rows = true
			filter, err := socketFilter(program, state)
			switch {
			case err != nil:
				return err
			case lasting < 0 || lasting > 24*time.Hour:
				return fmt.Errorf("--for %v: give 1s to 24h", lasting)
			}
			seen, err := f.lookAtSockets(cmd.Context(), max(lasting, socketsLook))
			if err != nil {
				return err
			}
			out := report.Sockets{Seen: seen, Filter: filter, Only: listening, Changes: lasting > 0}
			return f.write(out)
		},
	}
	cmd.Flags().StringVar(&program, "program", "", "only those of a program, by its name or its process identifier")
	cmd.Flags().StringVar(&state, "state", "", "only those in a state of TCP, by its name in RFC 9293, such as SYN-SENT")
	cmd.Flags().BoolVar(&listening, "listening", false, "only those that wait for others")
	cmd.Flags().DurationVar(&lasting, "for", 0, "look for so long, and tell what was opened and closed")
	return cmd
}

// socketFilter reads what is to be chosen.
func socketFilter(program, state string) (f sockets.Filter, err error) {
	if pid, err := strconv.Atoi(program); err == nil && pid > 0 {
		f.PID = pid
	} else {
		f.Name = program
	}
	if state == "" {
		return f, nil
	}
	s, ok := sockets.StateOf(strings.ToUpper(state))
	if !ok {
		return f, fmt.Errorf("--state %q: give one of %s", state, strings.Join(sockets.StateNames(), ", "))
	}
	f.State = &s
	return f, nil
}

// lookAtSockets watches the sockets of the machine for a time.
func (f *flags) lookAtSockets(ctx context.Context, lasting time.Duration) (*sockets.Seen, error) {
	m, _, leave, err := f.ground(nil)
	if err != nil {
		return nil, err
	}
	defer leave()
	ctx, cancel := context.WithCancel(ctx)
	w, err := socketwatch.Start(ctx, m)
	if err != nil {
		cancel()
		return nil, err
	}
	probe.Sleep(ctx, lasting)
	cancel()
	w.Wait()
	seen, err := w.See()
	if seen == nil {
		return nil, errors.Join(err, errors.New("the sockets could not be read"))
	}
	return seen, nil
}

const programFlag = "program"

// wantedBy gives the target that a program tries to reach: one that it does not get to, if there is one.
func (f *flags) wantedBy(ctx context.Context, program string, args []string) ([]string, error) {
	if len(args) > 0 {
		return nil, fmt.Errorf("--program %s and %s: give one of the two", program, args[0])
	}
	filter, _ := socketFilter(program, "")
	seen, err := f.lookAtSockets(ctx, socketsLook)
	if err != nil {
		return nil, err
	}
	name := wiretext.Clip(program)
	wants := seen.Wants(filter)
	switch {
	case len(wants) > 1:
		fmt.Fprintf(os.Stderr,
			"%s: asked about %v, where it is stuck or has most connections; it has others to %d more: passepartout sockets --program %s\n",
			name, wants[0], len(wants)-1, name)
	case len(wants) == 1:
	case !slices.ContainsFunc(seen.Programs,
		func(p sockets.Program) bool { return filter.PID > 0 && p.PID == filter.PID || p.Named(filter.Name) }):
		why := ""
		if seen.Withheld != "" {
			why = " (not known: " + seen.Withheld + ")"
		}
		return nil, fmt.Errorf("no program %s has a socket here%s; passepartout sockets lists those that have", name, why)
	default:
		fmt.Fprintf(os.Stderr,
			"%s connects to nobody at present: it makes no attempt, so that the network has nothing to answer for yet\n", name)
		return nil, status(exitUndetermined)
	}
	return []string{wants[0].String()}, nil
}

const ownersName = "owners"

// ownersCommand is the process that tells whose the sockets are. It is begun by the program itself, and hears nobody else.
func ownersCommand() *cobra.Command {
	return &cobra.Command{Use: ownersName, Hidden: true, Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return linux.ServeOwners(cmd.Context(), os.Stdin, os.Stdout)
		}}
}
