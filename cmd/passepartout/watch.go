package main

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"passepartout/internal/conductor"
	"passepartout/internal/core/zone"
	"passepartout/internal/nap"
	"passepartout/internal/report"
)

// watchCommand keeps a verdict true until it is ended, and writes whatever changes.
func (f *flags) watchCommand() *cobra.Command {
	duration, file := time.Duration(0), ""
	cmd := &cobra.Command{
		Use:   "watch [TARGET]",
		Short: "Keeps the verdict true, and writes a line whenever it changes",
		Long: `Runs the tests, and from their verdict on watches all that it rests on: the machine's own settings,
the gateway, the first station beyond, the name servers, the target itself, and what is said on the
segment. When anything of that changes, the tests are run again. Ends with Ctrl-C, or after --for.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if duration < 0 {
				return fmt.Errorf("--for %v: give a time above zero, such as 1h, or leave it out for no end", duration)
			}
			asked, stop, err := f.caseOf(args)
			if err != nil {
				return err
			}
			defer stop()
			ctx, cancel := context.WithCancel(cmd.Context())
			defer cancel()
			out := &report.Watch{To: stdout, JSON: f.format == "json"}
			log, closeCase, err := f.keepCase(file, complaintOf(f.scenario), asked.Machine, out.Take)
			if err != nil {
				return err
			}
			asked.Asleep, asked.Log = nap.Asleep, log
			c := conductor.New(ctx, asked)
			c.Start()
			because, failed := follow(ctx, c, out, duration)
			c.Stop(because)
			if err := closeCase(); err != nil {
				return err
			}
			if failed != nil {
				return failed
			}
			if out.Err() != nil {
				return out.Err()
			}
			return exitOf(c.State().Verdict.Result.Zone)
		},
	}
	cmd.Flags().DurationVar(&duration, "for", 0, "how long, such as 8h; without it, until Ctrl-C")
	bindCase(cmd, &file)
	return cmd
}

// follow waits until watching is over, and says why it is; an error if the tests cannot be run at all.
func follow(ctx context.Context, c *conductor.Conductor, out *report.Watch, duration time.Duration) (because string, failed error) {
	var over <-chan time.Time
	if duration > 0 {
		over = time.After(duration)
	}
	for {
		select {
		case <-ctx.Done():
			return "interrupted", nil
		case <-over:
			return fmt.Sprintf("%v are over", duration), nil
		case <-c.News():
			if err := c.Failed(); err != nil {
				return err.Error(), err
			}
			if out.Err() != nil {
				return "what was written is not taken any more", nil
			}
		}
	}
}

// exitOf is the exit status that a verdict's zone has.
func exitOf(z zone.Zone) error {
	switch z {
	case zone.None:
		return nil
	case zone.Undetermined, zone.Unknown:
		return status(exitUndetermined)
	}
	return status(exitFault)
}
