// Package plan decides what to ask when: all that can run at once does, what waits for an answer starts with it, and the whole ends when
// the verdict can no longer change.
package plan

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"sync"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/site"
	"passepartout/internal/core/target"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
	"passepartout/internal/nap"
	"passepartout/internal/probe"
)

// Config is one question to one machine.
type Config struct {
	Machine   machine.Machine
	Target    target.Target
	Interface string // "" chooses the one through which the target, else the default route, is reached
	Families  evidence.Families
	Sheet     *site.Sheet        // the documented network to compare with; nil if there is none
	Chosen    func(iface string) // called once, before anything is asked; may be nil
	// our own responder at the far end, if somebody has started one there; its name may lead to more addresses than the target's
	Responder target.Target
	Answers   []evidence.Answer // what a person has answered
	Before    []netip.Addr      // the addresses that the target's name had when it was looked up last: tried when it fails
	Log       Log               // what takes note of all that happens; nil: nobody
	Thorough  bool              // go on after the verdict is settled, until everything has been asked: for a screen
}

// Run gathers evidence until the verdict is settled or ctx ends, whichever comes first. onChange, if not nil, is called from one goroutine
// with what is known so far, at most every 25 ms. The result is judged from everything gathered.
func Run(ctx context.Context, c Config, onChange func(*evidence.Set, verdict.Result)) (*evidence.Set, verdict.Result, error) {
	ctx, cancel := context.WithCancel(ctx)
	awaited := &awaiting{Machine: c.Machine, open: map[evidence.Arrival]int{}}
	c.Machine = awaited
	turns := nap.Measure(turnsPace)
	defer turns.Stop()
	ctx = nap.With(ctx, turns)
	r := &run{Config: c, collector: newCollector(c.Log), echoer: probe.NewEchoer(c.Machine, ""), awaited: awaited,
		stopped: func() bool { return ctx.Err() != nil }}
	r.late = func(asked time.Duration) time.Duration { return turns.Since(r.started.Add(asked)) }
	defer r.echoer.Close()
	defer r.wg.Wait()
	defer cancel()
	if err := r.start(ctx); err != nil {
		return nil, verdict.Result{}, err
	}
	named := false
	m := r.look(ctx)
	clock, judge := time.NewTimer(never), time.NewTimer(0)
	defer clock.Stop()
	defer judge.Stop()
	due := true // to be judged
	for {
		clock.Reset(max(0, m.next-time.Since(r.started)))
		select {
		case <-ctx.Done(): // the questions end with it: what was open before counts, not what is left open now
			set := r.cutShort(m.Open)
			return set, verdict.Judge(set), nil
		case <-r.changed:
			m = r.lookAlive(ctx, m)
		case <-clock.C:
			m = r.lookAlive(ctx, m)
		case <-judge.C:
			due = false
			result := verdict.Of(m.Facts)
			if onChange != nil {
				onChange(m.Seen, result)
			}
			switch {
			case c.Thorough && !named && (result.Settled || len(m.Open) == 0): // for the screen: who are they all?
				named = true
				r.begin(ctx, m, naming, subject{})
				r.wake()
			case len(m.Open) == 0 && !r.asks(naming), result.Settled && !c.Thorough:
				r.markQuiet()
				if result.Zone != zone.None {
					r.lookAgain(ctx)
				}
				set := r.seal()
				return set, verdict.Judge(set), nil
			}
			continue
		}
		if !due { // evidence comes in bursts: a short pause judges a burst once
			due = true
			judge.Reset(judgePause)
		}
	}
}

// lookAlive looks at the plan, while there is time: what is known when the time is up is what was known before the questions ended with it.
func (r *run) lookAlive(ctx context.Context, was *moment) *moment {
	if m := r.look(ctx); ctx.Err() == nil {
		return m
	}
	return was
}

// lookAgain reads the machine once more before a fault is named: evidence from before and after a change does not fit together.
func (r *run) lookAgain(ctx context.Context) {
	const patience = 500 * time.Millisecond
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	now, err := r.Machine.Read(ctx)
	if err != nil {
		return
	}
	for _, d := range endpoint.Differences(r.endpoint, now) {
		if !d.Renewed {
			r.observe(evidence.Change(d.What))
			return
		}
	}
}

const judgePause = 2 * time.Millisecond

// run is one question under way.
type run struct {
	Config
	*collector
	*board
	echoer   *probe.Echoer
	awaited  *awaiting
	wg       sync.WaitGroup
	stopped  func() bool // whether the run is over: what comes to its end then says nothing
	iface    string
	endpoint *endpoint.Endpoint
	segment  *probe.Segment // nil where frames are withheld
	allowed  machine.Permissions
	// by how much longer is waited for what was asked at that time of the run, since this process had to wait for its turn: whoever is not
	// heard meanwhile is not silent
	late func(asked time.Duration) time.Duration
}

// turnsPace is how often it is looked how late this process is.
const turnsPace = 10 * time.Millisecond

// start reads the machine, chooses the interface and opens it for frames.
func (r *run) start(ctx context.Context) error {
	e, err := r.Machine.Read(ctx)
	if err != nil {
		return fmt.Errorf("this machine's settings: %w", err)
	}
	r.endpoint = e
	r.allowed = r.Machine.Permissions()
	if err := cmp.Or(e.Check(r.Interface), e.CheckTarget(r.Target.Addr)); err != nil {
		return err
	}
	r.iface = r.chooseInterface(ctx)
	r.ask(evidence.Subject{Target: r.Target, Interface: r.iface, Families: r.Families, Before: r.Before}, e, r.Sheet)
	for _, a := range r.Answers {
		r.observe(a)
	}
	if r.Chosen != nil {
		r.Chosen(r.iface)
	}
	r.withhold()
	if iface, ok := e.Interface(r.iface); ok && iface.Up {
		r.segment = r.openSegment(ctx, e.Owns)
		if r.segment != nil {
			r.wg.Go(func() {
				defer guard.Goroutine()
				<-ctx.Done()
				r.segment.Close()
			})
		}
		for _, a := range iface.Addresses {
			if a.Duplicate { // the system has found out by itself (RFC 4862 §5.4.5)
				r.observe(evidence.Conflict{Address: a.Prefix.Addr(),
					Reply: evidence.Reply{Outcome: evidence.Answered, From: a.Prefix.Addr()}})
			}
		}
	}
	r.board = newBoard(steps)
	return nil
}

// chooseInterface takes the one that was named, else the one through which the target is reached, else the most likely.
func (r *run) chooseInterface(ctx context.Context) string {
	if r.Interface != "" {
		return r.Interface
	}
	s := evidence.Set{Target: r.Target, Endpoint: r.endpoint, Families: r.Families}
	addrs, _ := s.TargetAddresses()
	for _, a := range addrs {
		if route, err := r.Machine.Route(ctx, a, ""); err == nil && route.Verdict == endpoint.Forward && !r.isTunnel(route.Interface) {
			return route.Interface
		}
	}
	return r.physical()
}

func (r *run) isTunnel(name string) bool {
	i, ok := r.endpoint.Interface(name)
	return ok && i.Kind == endpoint.Tunnel
}

// physical is the most likely port that is no tunnel: what goes through one leaves by a port all the same.
func (r *run) physical() string {
	name, _ := r.endpoint.Choose()
	if !r.isTunnel(name) {
		return name
	}
	for _, v6 := range []bool{false, true} {
		for _, d := range r.endpoint.DefaultRoutes(v6) {
			if !r.isTunnel(d.Interface) {
				return d.Interface
			}
		}
	}
	for _, i := range r.endpoint.Interfaces {
		if i.Up && i.Kind != endpoint.LoopbackKind && i.Kind != endpoint.Tunnel && i.Carrier != endpoint.CarrierAbsent {
			return i.Name
		}
	}
	return name
}

// withhold lists what this process may not ask.
func (r *run) withhold() {
	if p := r.allowed.Frames; !p.Granted {
		for _, k := range []evidence.Kind{evidence.DHCPOffer, evidence.AddressConflict, evidence.SegmentFrames} {
			r.observe(evidence.Withheld{Kind: k, Why: p.Why, Mend: p.Mend})
		}
	}
	if p := r.allowed.Echo; !p.Granted {
		r.observe(evidence.Withheld{Kind: evidence.TargetEcho, Why: p.Why + "; UDP probes were sent in its place", Mend: p.Mend})
	}
}

// cutShort is the evidence when the time is up: what is still under way counts as withheld.
func (r *run) cutShort(underWay []evidence.Kind) *evidence.Set {
	for _, k := range underWay {
		r.observeIf(func(s *evidence.Set) bool { return !s.IsWithheld(k) },
			evidence.Withheld{Kind: k, Why: "was cut short by the deadline"})
	}
	r.setOpen(nil) // in the log too: it must fold to the same
	return r.seal()
}

// openSegment opens the segment's port for frames, if that is allowed.
func (r *run) openSegment(ctx context.Context, own func(netip.Addr) bool) *probe.Segment {
	if !r.allowed.Frames.Granted {
		return nil
	}
	segment, err := probe.OpenSegment(r.Machine, r.iface, own,
		func(h evidence.Heard) {
			r.observeIf(func(s *evidence.Set) bool { return len(s.Heard) < mostHeard }, h)
			if own(h.Address) { // it came unasked, or when the answer was not waited for any longer
				r.observeHolder(evidence.Conflict{Address: h.Address, Hardware: h.Hardware,
					Reply: evidence.Reply{Outcome: evidence.Answered, From: h.Address}})
			}
		},
		func(a evidence.Arrival) { r.arrived(ctx, a) })
	if err != nil && !errors.Is(err, fs.ErrPermission) {
		r.observe(evidence.Withheld{Kind: evidence.SegmentFrames, Why: err.Error()})
	}
	return segment
}

// mostArrivals bounds what a busy port can fill, mostHeard what a flood of ARP can.
const (
	mostArrivals = 256
	mostHeard    = 512
)
