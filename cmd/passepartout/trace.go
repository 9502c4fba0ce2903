package main

import (
	"errors"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/probe"
	"passepartout/internal/report"
)

// The times of a trace that a person waits for: silent stations are asked again after a second, when routers may speak again.
const (
	tracePatience = time.Second
	traceAgain    = time.Second
	namesPatience = 400 * time.Millisecond
	longestTrace  = 30
)

func (f *flags) traceCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "trace TARGET",
		Short: "The path, station by station",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			a, err := f.ask(ctx, args)
			if errors.Is(err, probe.ErrNoAddress) {
				fmt.Fprintln(os.Stderr, "passepartout:", err)
				return status(exitFault)
			}
			if err != nil {
				return err
			}
			defer a.stop()
			defer a.echoer.Close()
			q := probe.TraceQuestion{To: netip.AddrPortFrom(a.address, a.target.Port), Method: probe.TraceICMP, First: 1, Last: longestTrace, Patience: tracePatience, Again: traceAgain}
			switch {
			case a.target.Port != 0:
				q.Method = probe.TraceTCP
			case !a.machine.Permissions().Echo.Granted:
				q.Method = probe.TraceUDP
			}
			var mu sync.Mutex
			var hops []evidence.Hop
			began := time.Now()
			probe.Trace(ctx, a.echoer, q, func(h evidence.Hop) {
				mu.Lock()
				defer mu.Unlock()
				hops = append(hops, h)
			})
			took := time.Since(began)
			onLink := func(addr netip.Addr) bool {
				return slices.ContainsFunc(a.endpoint.Interfaces, func(i endpoint.Interface) bool { return i.OnLink(addr) })
			}
			names := probe.Names(ctx, a.machine, a.endpoint.AskedResolvers(), senders(hops), namesPatience)
			t := report.NewTrace(a.target.Host(), a.address, hops, names, onLink, took)
			if f.format == "json" {
				err = t.WriteJSON(os.Stdout)
			} else {
				err = t.WriteText(os.Stdout)
			}
			if err == nil && !t.Reached {
				err = status(exitFault)
			}
			return err
		},
	}
}

func senders(hops []evidence.Hop) (out []netip.Addr) {
	for _, h := range hops {
		if h.From.IsValid() && !slices.Contains(out, h.From) {
			out = append(out, h.From)
		}
	}
	return out
}
