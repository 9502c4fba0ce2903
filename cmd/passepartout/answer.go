package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"strconv"

	"github.com/spf13/cobra"

	"passepartout/internal/core/farend"
	"passepartout/internal/privilege"
	"passepartout/internal/responder"
)

func (f *flags) answerCommand() *cobra.Command {
	port := uint16(farend.Port)
	cmd := &cobra.Command{
		Use:   "answer",
		Short: "Stands at the far end and says what arrives from the machine that gets no answer",
		Long: `Run this at the far end, on or beside the machine that is not reached, and "passepartout check
TARGET --responder NAME" at the near one. It counts the datagrams that arrive and tells the near
end, by whatever way that asks: over the other address family, or at another address. What arrives
and is not answered has no way back.

It listens on one UDP port, answers nothing else, and never with more than it was asked.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := f.check(); err != nil {
				return err
			}
			network := "udp"
			switch {
			case f.only4:
				network = "udp4"
			case f.only6:
				network = "udp6"
			}
			conn, err := (&net.ListenConfig{}).ListenPacket(cmd.Context(), network, net.JoinHostPort("", strconv.Itoa(int(port))))
			if err != nil {
				return fmt.Errorf("UDP port %d cannot be had: %w; give another one with --port, here and with the name behind --responder",
					port, err)
			}
			defer context.AfterFunc(cmd.Context(), func() { conn.Close() })()
			drop(privilege.Keep{})
			fmt.Fprintf(os.Stderr, "listening on UDP port %d; end with Ctrl-C\n", port)
			err = responder.Serve(conn, func(a responder.Arrival) {
				fmt.Fprintf(stdout, "%v  run %s: arrived %d over IPv4, %d over IPv6\n", a.From, a.Run.Token[:4], a.Run.IPv4, a.Run.IPv6)
			})
			if errors.Is(err, net.ErrClosed) {
				return nil
			}
			return err
		},
	}
	cmd.Flags().Uint16Var(&port, "port", port, "the UDP port to listen on")
	return cmd
}
