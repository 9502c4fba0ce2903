package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"passepartout/internal/acting"
	"passepartout/internal/core/change"
	"passepartout/internal/core/endpoint"
)

// visitCommand gives this machine a second address for a while, to reach a device that still has its factory settings.
func (f *flags) visitCommand() *cobra.Command {
	q := &changing{flags: f}
	during := change.UsualVisit
	cmd := &cobra.Command{Use: "visit ADDRESS[/LENGTH]",
		Short: "A second address for a while, to reach a device with other settings",
		Long: `Gives the interface a free address in the device's network (/24 unless you say otherwise), beside those
that it has, for the device alone. The system takes it away by itself when the time is over, whatever
becomes of this program; passepartout undo does it before.`,
		Args: cobra.ExactArgs(1), Annotations: map[string]string{changes: ""},
		RunE: func(cmd *cobra.Command, args []string) error {
			device, err := change.ParseDevice(args[0])
			if err != nil {
				return err
			}
			if during < change.LeastWhile || during > change.MostWhile {
				return fmt.Errorf("--for %v: give %v to %v", during, change.LeastWhile, change.MostWhile)
			}
			if q.target == "" {
				q.target = device.Addr().String()
			}
			q.trial, q.last = 0, "for "+during.String()
			return q.carryOut(cmd.Context(), "visit "+device.String(),
				func(m acting.Machine, e *endpoint.Endpoint, iface string) (change.Change, error) {
					return acting.Visit(cmd.Context(), m, e, iface, device, during)
				})
		}}
	q.bind(cmd)
	cmd.Flags().DurationVar(&during, "for", during, "how long the address stays")
	_ = cmd.Flags().MarkHidden("trial") // it goes by itself
	_ = cmd.Flags().MarkHidden("last")
	return cmd
}
