package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"time"

	"github.com/spf13/cobra"

	"passepartout/internal/capture"
	"passepartout/internal/core/dhcp"
	"passepartout/internal/plainfile"
	"passepartout/internal/report"
)

// exchanging are the dhcp command's own flags.
type exchanging struct {
	read                              string
	wait                              time.Duration
	client, host, address, relay, xid string
}

func (q *exchanging) filter() (f dhcp.Filter, err error) {
	ok := true
	if q.client != "" {
		if f.Client, ok = dhcp.ParseHardware(q.client); !ok {
			return f, fmt.Errorf("--client %q: give a hardware address such as 02:00:00:00:10:17", q.client)
		}
	}
	for flag, x := range map[string]struct {
		text string
		to   *netip.Addr
	}{"--address": {q.address, &f.Address}, "--relay": {q.relay, &f.Relay}} {
		if x.text == "" {
			continue
		}
		if *x.to, err = netip.ParseAddr(x.text); err != nil || !x.to.Is4() {
			return f, fmt.Errorf("%s %q: give an IPv4 address such as 172.27.40.23", flag, x.text)
		}
	}
	if q.xid != "" {
		if f.XID, f.HasXID = dhcp.ParseXID(q.xid); !f.HasXID {
			return f, fmt.Errorf("--xid %q: give a transaction id such as 0x3903f326", q.xid)
		}
	}
	f.Host = q.host
	return f, nil
}

func (f *flags) dhcpCommand() *cobra.Command {
	q := &exchanging{}
	cmd := &cobra.Command{
		Use:   "dhcp",
		Short: "Asks DHCP servers what they offer; with --read, exchanges from a capture file",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := f.check(); err != nil {
				return err
			}
			filter, err := q.filter()
			if err != nil {
				return err
			}
			if q.read == "" {
				if !filter.IsZero() {
					return errors.New(
						"--client, --host, --address, --relay and --xid choose exchanges of a file: give --read FILE with them")
				}
				return f.askServers(cmd, q.wait)
			}
			return readCapture(cmd.Context(), stdout, q.read, f.format, filter)
		},
	}
	p := cmd.Flags()
	p.StringVar(&q.read, "read", "", "the capture file (pcap or pcapng)")
	p.DurationVar(&q.wait, "wait", 3*time.Second, "how long offers are collected")
	p.StringVar(&q.client, "client", "", "only exchanges of this hardware address")
	p.StringVar(&q.host, "host", "", "only those of clients whose host name has this in it")
	p.StringVar(&q.address, "address", "", "only those about this address")
	p.StringVar(&q.relay, "relay", "", "only those through this relay")
	p.StringVar(&q.xid, "xid", "", "only those with this transaction id")
	return cmd
}

// readCapture rebuilds the exchanges of a file and writes each as it ends.
func readCapture(ctx context.Context, w io.Writer, path, format string, filter dhcp.Filter) error {
	file, err := plainfile.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	out := &report.Exchanges{W: w, Format: format, File: path, Filter: filter}
	began := false
	begin := func() {
		if !began {
			began = true
			out.Begin()
		}
	}
	tracker := dhcp.NewTracker(dhcp.Config{Ended: out.Write})
	frames, err := capture.DHCP(interruptible{ctx, file}, beginning{tracker, begin},
		func(frame int, why string) { begin(); out.Skip(frame, why) })
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	begin()
	tracker.Close()
	if err := out.End(frames, tracker); err != nil {
		return err
	}
	if err := ctx.Err(); err != nil {
		return fmt.Errorf("stopped after frame %d", frames)
	}
	if tracker.Messages == 0 {
		return status(exitFault)
	}
	return nil
}

// beginning has the head written before the first message is taken.
type beginning struct {
	*dhcp.Tracker
	begin func()
}

func (b beginning) Take(s dhcp.Sighting) *dhcp.Exchange { b.begin(); return b.Tracker.Take(s) }

// interruptible ends a long reading when the user does.
type interruptible struct {
	ctx context.Context
	io.Reader
}

func (r interruptible) Read(b []byte) (int, error) {
	if r.ctx.Err() != nil {
		return 0, io.EOF
	}
	return r.Reader.Read(b)
}
