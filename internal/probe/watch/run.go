package watch

import (
	"container/heap"
	"context"
	"time"

	"passepartout/internal/core/blame"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/series"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
	"passepartout/internal/nap"
	"passepartout/internal/probe"
)

// schedule is a heap of subjects by when they are due.
type schedule []*Subject

func (s schedule) Len() int { return len(s) }
func (s schedule) Less(i, j int) bool {
	return s[i].due < s[j].due || s[i].due == s[j].due && s[i].Rank > s[j].Rank
}
func (s schedule) Swap(i, j int) { s[i], s[j] = s[j], s[i]; s[i].place, s[j].place = i, j }
func (s *schedule) Push(x any)   { x.(*Subject).place = len(*s); *s = append(*s, x.(*Subject)) }
func (s *schedule) Pop() any {
	last := (*s)[len(*s)-1]
	last.place = -1
	*s = (*s)[:len(*s)-1]
	return last
}

// wait is a probe under way.
type wait struct {
	until, sent time.Duration
	subject     *Subject
	generation  int
	number      int
	began       time.Time
	stood       time.Duration // for how long this process had stood still by then
	given       time.Duration // for what it stood still since, the probe is waited for longer by as much
	ticket      probe.Ticket
	cancel      context.CancelFunc // of a connection attempt or a datagram
}

// waits is a heap of probes by when their time is over. Those that were answered stay in it until then.
type waits []*wait

func (s waits) Len() int           { return len(s) }
func (s waits) Less(i, j int) bool { return s[i].until < s[j].until }
func (s waits) Swap(i, j int)      { s[i], s[j] = s[j], s[i] }
func (s *waits) Push(x any)        { *s = append(*s, x.(*wait)) }
func (s *waits) Pop() any {
	last := (*s)[len(*s)-1]
	(*s)[len(*s)-1] = nil
	*s = (*s)[:len(*s)-1]
	return last
}

// forgotten is a request whose late answers are still told apart until then.
type forgotten struct {
	at     time.Duration
	ticket probe.Ticket
}

// lateFor is how long after its time an answer is told as late and not taken for foreign.
const lateFor = 10 * time.Second

// The bounds of pauses that say that nothing could be sent: the machine slept, or this program was not run.
const (
	leastSleep  = 500 * time.Millisecond
	leastHoldUp = time.Second
)

// plan puts a subject into the schedule, at its next turn, or takes it out.
func (w *Watcher) plan(x *Subject) {
	w.unplan(x)
	if x.Paused || x.Done || !x.Address.IsValid() {
		return
	}
	// Witnesses stand on whole multiples of their interval, all in step; the others are spread, so that they do not leave in one burst.
	phase := time.Duration(0)
	if x.Rank == 0 {
		const golden = 0.6180339887498949
		share := float64(x.ID) * golden
		phase = time.Duration((share - float64(int(share))) * float64(x.Interval))
	}
	now := w.now()
	x.due = now - now%x.Interval + phase
	for x.due < now {
		x.due += x.Interval
	}
	heap.Push(&w.schedule, x)
	w.rouse()
}

func (w *Watcher) unplan(x *Subject) {
	if x.place >= 0 {
		heap.Remove(&w.schedule, x.place)
	}
}

func (w *Watcher) rouse() {
	select {
	case w.wake <- struct{}{}:
	default:
	}
}

func (w *Watcher) run(ctx context.Context) {
	defer close(w.ended)
	defer w.echoer.Close()
	timer := time.NewTimer(0)
	defer timer.Stop()
	asleep := w.Asleep()
	expected := time.Now()
	for {
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
		case <-w.wake:
		}
		w.mu.Lock()
		if now := w.Asleep(); now-asleep > leastSleep {
			w.interrupted(now-asleep, "this machine slept")
			w.slept += now - asleep
			asleep = now
		} else if late := time.Since(expected); late > leastHoldUp {
			w.interrupted(0, "this program was held up")
		}
		next := w.turn(ctx)
		w.mu.Unlock()
		expected = time.Now().Add(next)
		timer.Reset(next)
	}
}

// interrupted notes a time in which nothing could be sent or heard: what was under way says nothing.
func (w *Watcher) interrupted(slept time.Duration, why string) {
	now := w.now() + slept
	from := now
	for _, p := range w.waits {
		if p.subject.generation == p.generation && p.subject.Record.Fate(p.number) == series.Pending {
			p.subject.Record.End(p.number, series.Void, 0)
		}
	}
	for _, x := range w.subjects {
		if last := x.due - x.Interval; x.place >= 0 && last < from {
			from = max(last, 0)
		}
	}
	w.note(blame.Span{From: from, To: now, Why: why, Asleep: true})
}

// mostSpans bounds what a port that comes and goes can fill.
const mostSpans = 1000

func (w *Watcher) note(s blame.Span) {
	if len(w.spans) >= mostSpans {
		w.spans = append(w.spans[:0], w.spans[1:]...)
	}
	w.spans = append(w.spans, s)
}

// turn does all that is due, and says how long to wait for what comes next.
func (w *Watcher) turn(ctx context.Context) time.Duration {
	now := w.now()
	for len(w.waits) > 0 && w.waits[0].until <= now {
		p := heap.Pop(&w.waits).(*wait)
		if !w.more(p, now) {
			w.expire(p, now)
		}
	}
	for len(w.old) > 0 && w.old[0].at <= now {
		w.old[0].ticket.Forget()
		w.old = w.old[1:]
	}
	for len(w.schedule) > 0 && w.schedule[0].due <= now {
		x := w.schedule[0]
		if w.Late != nil {
			w.Late(now - x.due)
		}
		w.ask(ctx, x, now)
		// A turn that was missed is left out, not made up for in a burst.
		for x.due += x.Interval; x.due <= now; {
			x.due += x.Interval
		}
		if x.Count > 0 && x.issued >= x.Count {
			heap.Remove(&w.schedule, x.place)
			x.Done = true
		} else {
			heap.Fix(&w.schedule, x.place)
		}
		now = w.now()
	}
	next := time.Hour
	if len(w.schedule) > 0 {
		next = min(next, w.schedule[0].due-now)
	}
	if len(w.waits) > 0 {
		next = min(next, w.waits[0].until-now)
	}
	if len(w.old) > 0 {
		next = min(next, w.old[0].at-now)
	}
	return max(next, 0)
}

// stood is for how long nothing that came could be looked at: this process did not get its turn, or this machine was late in answering
// itself.
func (w *Watcher) stood() time.Duration { return w.Stood() + w.late }

// lookAgain is when a probe whose time is over is looked at again, because this machine has not answered itself either.
const lookAgain = 50 * time.Millisecond

// more gives a probe whose time is over as much more as this machine stood still in it, and reports whether it did.
func (w *Watcher) more(p *wait, now time.Duration) bool {
	stood := w.stood() - p.stood
	switch own := w.own; {
	case stood > p.given:
		p.until, p.given = p.until+stood-p.given, stood
	case own != nil && own != p && now-own.sent > nap.Stood && own.until > now &&
		own.subject.generation == own.generation && own.subject.Record.Fate(own.number) == series.Pending:
		p.until = now + lookAgain
	default:
		return false
	}
	heap.Push(&w.waits, p)
	return true
}

// ask sends one probe.
func (w *Watcher) ask(ctx context.Context, x *Subject, now time.Duration) {
	number := x.Record.Sent(now)
	x.issued++
	patience := x.estimate.Timeout(floor, ceiling)
	if x.Address.IsLoopback() { // nothing is lost there: it comes late where this machine does
		patience = ceiling
	}
	p := &wait{subject: x, generation: x.generation, number: number, sent: now, until: now + patience, began: time.Now(), stood: w.stood()}
	if x.Address.IsLoopback() {
		w.own = p
	}
	if x.Method == Connect || !w.Machine.Permissions().Echo.Granted {
		w.askApart(ctx, x, p)
		heap.Push(&w.waits, p)
		return
	}
	ticket, err := w.echoer.Send(probe.EchoQuestion{To: x.Address, Size: x.Octets(), DontFragment: x.DontFragment},
		func(r evidence.Reply) { w.arrived(p, r) })
	p.began, p.ticket = ticket.SentAt, ticket
	if err != nil {
		w.end(p, machine.LocalError(err))
		return
	}
	heap.Push(&w.waits, p)
}

// askApart sends a probe that has a socket of its own: a connection attempt, or a datagram in place of an echo request.
func (w *Watcher) askApart(ctx context.Context, x *Subject, p *wait) {
	ctx, p.cancel = context.WithTimeout(ctx, p.until-p.sent+lateFor/4)
	spec, to := x.Spec, x.Address
	go func() {
		defer guard.Goroutine()
		defer p.cancel()
		var r evidence.Reply
		if spec.Method == Connect {
			r = probe.AskConnect(ctx, w.Machine, machine.ConnectConfig{To: spec.Target.WithAddr(to), Interface: w.Interface})
		} else {
			e, _ := w.echoer.AskEcho(ctx, probe.EchoQuestion{To: to, Size: spec.Octets()})
			r = e.Reply
		}
		if r.Outcome != evidence.Silent {
			w.arrived(p, r)
		}
	}()
}

// arrived takes in what came back to a probe, at whatever time.
func (w *Watcher) arrived(p *wait, r evidence.Reply) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if p.subject.generation != p.generation {
		return
	}
	w.end(p, r)
}

// fateOf tells what an answer makes of a probe that was under way. A next hop that does not answer for its hardware address is silence on
// the segment, told by the own system.
func fateOf(r evidence.Reply) series.Fate {
	switch {
	case r.Outcome == evidence.Answered:
		return series.Replied
	case r.Unheard():
		return series.Silent
	case r.Outcome == evidence.LocalError:
		return series.NotSent
	}
	return series.Unreachable
}

func (w *Watcher) end(p *wait, r evidence.Reply) {
	x := p.subject
	again := false
	fate := fateOf(r)
	switch was := x.Record.Fate(p.number); {
	case was == series.Pending:
		x.Record.End(p.number, fate, r.RTT)
		if fate == series.Replied {
			x.estimate.Add(r.RTT)
			if x.Address.IsLoopback() && r.RTT > nap.Stood {
				w.late += r.RTT
			}
		} else {
			x.Said, x.SaidAt = r, p.sent
		}
	case was == series.Silent && fate == series.Replied:
		fate = series.Late
		x.Record.End(p.number, fate, r.RTT)
		x.estimate.Add(r.RTT) // the next ones are waited for longer
	case (was == series.Replied || was == series.Late) && fate == series.Replied:
		fate, again = was, true
		x.Record.Copy(p.number)
	default:
		return
	}
	if w.Ended != nil {
		w.Ended(x, w.result(p, r, fate, again))
	}
}

func (w *Watcher) result(p *wait, r evidence.Reply, fate series.Fate, again bool) Result {
	method := string(p.subject.Method)
	if p.subject.Method == Echo && !w.Machine.Permissions().Echo.Granted {
		method = "udp"
	}
	return Result{Number: p.number, SentAt: p.began, Method: method, Seq: p.ticket.Seq, Fate: fate, Again: again, Reply: r}
}

// expire ends a probe whose time is over. Late answers are still told apart for a while.
func (w *Watcher) expire(p *wait, now time.Duration) {
	if p.ticket.Open() {
		w.old = append(w.old, forgotten{now + lateFor, p.ticket})
	}
	if x := p.subject; x.generation == p.generation && x.Record.Fate(p.number) == series.Pending {
		w.end(p, evidence.Reply{Outcome: evidence.Silent, Waited: now - p.sent})
	}
}
