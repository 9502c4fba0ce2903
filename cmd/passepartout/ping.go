package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"passepartout/internal/core/blame"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/series"
	"passepartout/internal/core/target"
	"passepartout/internal/core/zone"
	"passepartout/internal/machine"
	"passepartout/internal/nap"
	"passepartout/internal/probe"
	"passepartout/internal/probe/watch"
	"passepartout/internal/report"
)

// shortestInterval is ping's: for a short run that a person waits for. What is watched without end keeps to watch.ShortestInterval.
const shortestInterval = 10 * time.Millisecond

// asked is what ping and trace begin with: a machine, its settings, and the first address of the target.
type asked struct {
	machine  machine.Machine
	endpoint *endpoint.Endpoint
	target   target.Target
	address  netip.Addr
	echoer   *probe.Echoer
	stop     func()
}

// ask finds the machine and the target's address. A name that leads to no address is printed and gives exitFault: nothing was reached.
func (f *flags) ask(ctx context.Context, args []string) (a asked, err error) {
	a.machine, a.target, a.stop, err = f.ground(args)
	if err != nil {
		return a, err
	}
	defer func() {
		if err != nil {
			a.stop()
		}
	}()
	if a.target.IsZero() {
		return a, errors.New("what should be reached? Give a name or an address")
	}
	if a.endpoint, err = a.machine.Read(ctx); err != nil {
		return a, err
	}
	if err = cmp.Or(a.endpoint.Check(f.iface), a.endpoint.CheckTarget(a.target.Addr)); err != nil {
		return a, err
	}
	addrs, _, err := probe.Resolve(ctx, a.machine, a.endpoint, a.target, f.families())
	if err != nil {
		return a, err
	}
	a.address = addrs[0]
	a.echoer = probe.NewEchoer(a.machine, f.iface)
	return a, nil
}

// pinging are ping's own flags.
type pinging struct {
	spec     watch.Spec
	duration time.Duration
	tcp      bool   // --method tcp, by an older name
	method   string // "": by the target
	draw     string
}

func (q *pinging) check(cmd *cobra.Command) error {
	s := &q.spec
	switch {
	case s.Count < 1:
		return fmt.Errorf("--count %d: give a number from 1; --duration ends by time instead", s.Count)
	case s.Interval < shortestInterval:
		return fmt.Errorf("--interval %v: the shortest is %v", s.Interval, shortestInterval)
	case s.Interval > watch.LongestInterval:
		return fmt.Errorf("--interval %v: the longest is %v", s.Interval, watch.LongestInterval)
	case s.Size < 0 || s.Size > watch.LargestPayload:
		return fmt.Errorf("--size %d: give 0 to %d octets", s.Size, watch.LargestPayload)
	case q.method != "" && q.method != string(watch.Echo) && q.method != string(watch.Connect):
		return fmt.Errorf("--method %q: give icmp or tcp", q.method)
	case q.tcp && q.method == string(watch.Echo):
		return errors.New("--tcp and --method icmp: one or the other")
	case q.duration < 0:
		return fmt.Errorf("--duration %v: give a time above zero, such as 30s", q.duration)
	}
	if q.duration > 0 && !cmd.Flags().Changed("count") {
		s.Count = 0
	}
	if s.Size == 0 {
		s.Size = -1
	}
	if q.tcp {
		q.method = string(watch.Connect)
	}
	return nil
}

// methodFor is how a target is asked: one that names a port is asked for a connection there, as check does.
func (q *pinging) methodFor(t target.Target) watch.Method {
	switch {
	case q.method != "":
		return watch.Method(q.method)
	case t.Port != 0:
		return watch.Connect
	}
	return watch.Echo
}

func (f *flags) pingCommand() *cobra.Command {
	q := &pinging{}
	cmd := &cobra.Command{
		Use:   "ping TARGET...",
		Short: "Probes to one target or several, one line each, and a summary: echo requests, or connections to its port",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := errors.Join(q.check(cmd), f.checkDrawing(q.draw)); err != nil {
				return err
			}
			return f.ping(cmd.Context(), q, args[:min(len(args), 1)], args)
		},
	}
	cmd.Flags().IntVar(&q.spec.Count, "count", 10, "how many probes to each")
	cmd.Flags().DurationVar(&q.spec.Interval, "interval", time.Second, "time between two probes")
	cmd.Flags().IntVar(&q.spec.Size, "size", 48, "octets of payload")
	cmd.Flags().BoolVar(&q.spec.DontFragment, "whole", false, "never in fragments: what is too large for a link is refused or lost")
	cmd.Flags().DurationVar(&q.duration, "duration", 0, "end after that time, however many probes that makes")
	cmd.Flags().StringVar(&q.method, "method", "", "icmp or tcp; tcp when the target has a port, else icmp")
	cmd.Flags().BoolVar(&q.tcp, "tcp", false, "the same as --method tcp")
	f.bindDrawing(cmd, &q.draw)
	return cmd
}

// ping runs to the end of its counts, its duration, or an interrupt, and sums up.
func (f *flags) ping(ctx context.Context, q *pinging, first, all []string) error {
	f.rows = true
	a, err := f.ask(ctx, first)
	out := report.Ping{W: stdout, Format: f.format, Many: len(all) > 1}
	if errors.Is(err, probe.ErrNoAddress) && len(all) <= 1 {
		fmt.Fprintln(os.Stderr, "passepartout:", err)
		if f.format == "json" {
			if err := out.Summary(a.target.Host(), netip.Addr{}, series.Summary{}); err != nil {
				return err
			}
		}
		return status(exitFault)
	}
	if err != nil && !errors.Is(err, probe.ErrNoAddress) {
		return err
	}
	defer a.stop()
	targets := []target.Target{a.target}
	for _, text := range all[min(len(all), 1):] {
		t, err := target.Parse(text)
		if err != nil {
			return err
		}
		targets = append(targets, t)
	}
	if a.echoer != nil {
		a.echoer.Close()
	}
	if err := tooMany(len(targets)); err != nil {
		return err
	}
	connects := 0
	for _, t := range targets {
		if q.methodFor(t) == watch.Connect {
			connects++
			if t.Port == 0 {
				return fmt.Errorf("--method tcp: %s names no port; write name:port", t)
			}
		}
	}
	if f.format == "text" {
		to := fmt.Sprintf("%d targets", len(targets))
		if len(targets) == 1 {
			to = nameAnd(a)
		}
		fmt.Fprintf(stdout, "to %s by %s, every %v\n", to, methodWords(connects, len(targets), a, q.spec.Octets()), q.spec.Interval)
	}
	if err := out.Head(); err != nil {
		return err
	}
	return f.pingAll(ctx, q, a, targets, out)
}

func tooMany(n int) error {
	if n > watch.MostTargets {
		return fmt.Errorf("%d targets: at most %d are probed at once", n, watch.MostTargets)
	}
	return nil
}

func (f *flags) pingAll(ctx context.Context, q *pinging, a asked, targets []target.Target, out report.Ping) error {
	running, cancel := context.WithCancel(ctx)
	defer cancel()
	if q.duration > 0 {
		running, cancel = context.WithTimeout(ctx, q.duration)
		defer cancel()
	}
	var failed error
	w := watch.New(context.WithoutCancel(ctx),
		watch.Config{Machine: a.machine, Interface: f.iface, Asleep: nap.Asleep, Ended: func(s *watch.Subject, r watch.Result) {
			if err := out.Probe(s, r); err != nil && failed == nil {
				failed = err
				cancel()
			}
		}})
	for _, t := range targets {
		s := q.spec
		s.Target, s.Families = t, f.families()
		s.Method = q.methodFor(t)
		if len(targets) == 1 {
			s.Rank = 1 // its turns are on the dot
			s.Zone = zone.Beyond
		}
		w.Add(s)
	}
	for !w.Finished() && running.Err() == nil {
		probe.Sleep(running, 5*time.Millisecond)
	}
	if q.duration > 0 && ctx.Err() == nil { // the last ones still get their time
		for w.Stop(); w.Waiting(); {
			probe.Sleep(ctx, 5*time.Millisecond)
		}
	}
	answered := true
	var figure report.Times
	w.See(func(now time.Duration, subjects []*watch.Subject, _ *blame.Ledger) {
		for _, s := range subjects {
			sum := s.Record.Summary()
			answered = answered && sum.Received > 0
			if s.Trouble != "" && failed == nil {
				fmt.Fprintln(os.Stderr, "passepartout:", s.Trouble)
			}
			if failed == nil {
				failed = out.Summary(s.Target.Host(), s.Address, sum)
			}
		}
		figure = report.TimesOf(w.Start, now, subjects, nil)
	})
	if failed != nil {
		return failed
	}
	if err := f.drawTimes(q.draw, a, figure); err != nil {
		return err
	}
	if !answered {
		return status(exitFault)
	}
	return nil
}

// methodWords says how so many of all targets are asked by connections, and the others by echo.
func methodWords(connects, all int, a asked, octets int) string {
	connections, echo := "connections to port "+strconv.Itoa(int(a.target.Port)), fmt.Sprintf("ICMP echo, %d octets", octets)
	if all > 1 {
		connections = "TCP connections"
	}
	if !a.machine.Permissions().Echo.Granted {
		echo = fmt.Sprintf("UDP, as echo is not permitted, %d octets", octets)
	}
	switch connects {
	case 0:
		return echo
	case all:
		return connections
	}
	return connections + " where a port is named, else " + echo
}

func nameAnd(a asked) string {
	if a.target.Name == "" {
		return a.address.String()
	}
	return a.target.Name + " " + a.address.String()
}
