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

	"passepartout/internal/core/path"
	"passepartout/internal/probe"
	"passepartout/internal/report"
)

// The times of a trace that a person waits for: silent stations are asked again after a second, when routers may speak again.
const (
	tracePatience = time.Second
	traceAgain    = time.Second
	namesPatience = 400 * time.Millisecond
	longestTrace  = 30
	mostFlows     = 16
	mostRounds    = 3600
)

// tracing are trace's own flags.
type tracing struct {
	rounds, flows int
	method        string
	draw          string
}

func (q *tracing) check() error {
	switch {
	case q.rounds < 1 || q.rounds > mostRounds:
		return fmt.Errorf("--rounds %d: give 1 to %d", q.rounds, mostRounds)
	case q.flows < 1 || q.flows > mostFlows:
		return fmt.Errorf("--flows %d: give 1 to %d", q.flows, mostFlows)
	case !slices.Contains([]string{"", "icmp", "udp", "tcp"}, q.method):
		return fmt.Errorf("--method %q: give icmp, udp or tcp", q.method)
	}
	return nil
}

func (f *flags) traceCommand() *cobra.Command {
	q := &tracing{}
	cmd := &cobra.Command{
		Use:   "trace TARGET",
		Short: "The path, station by station",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := errors.Join(q.check(), f.checkDrawing(q.draw)); err != nil {
				return err
			}
			f.rows = true
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
			method := probe.TraceMethod(q.method)
			if method == "" {
				method = probe.UsualMethod(a.machine, a.target.Port)
			}
			switch {
			case method == probe.TraceTCP && a.target.Port == 0:
				return fmt.Errorf("--method tcp: %s names no port; write name:port", a.target)
			case method == probe.TraceICMP && !a.machine.Permissions().Echo.Granted:
				return fmt.Errorf("--method icmp: %s; try udp, or %s", a.machine.Permissions().Echo.Why, a.machine.Permissions().Echo.Mend)
			}
			track := &path.Track{To: a.address, Method: string(method), OnLink: a.endpoint.OnLink}
			var mu sync.Mutex
			began := time.Now()
			apart, err := probe.Trace(ctx, a.echoer,
				probe.TraceQuestion{To: netip.AddrPortFrom(a.address, a.target.Port), Method: method, First: 1, Last: longestTrace,
					Patience: tracePatience, Again: traceAgain, Flows: q.flows, Rounds: q.rounds}, func(s path.Seen) {
					mu.Lock()
					defer mu.Unlock()
					track.Add(s)
				})
			if err != nil {
				return err
			}
			took := time.Since(began)
			names := probe.Names(ctx, a.machine, a.endpoint.AskedResolvers(), speakers(track), namesPatience)
			t := report.NewTrace(a.target.Host(), track, q.flows, names, took)
			t.Apart = apart
			switch f.format {
			case "json":
				err = t.WriteJSON(stdout)
			case "csv":
				err = t.WriteCSV(stdout)
			default:
				err = t.WriteText(stdout)
			}
			if err == nil {
				err = f.drawPath(q.draw, a, t)
			}
			if err == nil && !t.Reached {
				err = status(exitFault)
			}
			return err
		},
	}
	cmd.Flags().IntVar(&q.rounds, "rounds", 1, "how often the whole path is asked, a second apart")
	cmd.Flags().IntVar(&q.flows, "flows", 1, "how many flows side by side, to show where load is shared")
	cmd.Flags().StringVar(&q.method, "method", "", "icmp, udp or tcp; tcp when the target has a port, else icmp")
	f.bindDrawing(cmd, &q.draw)
	return cmd
}

func speakers(t *path.Track) (out []netip.Addr) {
	for _, p := range t.Places(-1) {
		for _, v := range p.Voices {
			if !slices.Contains(out, v.From) {
				out = append(out, v.From)
			}
		}
	}
	return out
}
