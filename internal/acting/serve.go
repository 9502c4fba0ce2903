package acting

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"passepartout/internal/core/change"
	"passepartout/internal/guard"
)

// An interface that has gone may return: it is waited for, and tried again.
const (
	tryAgain = 500 * time.Millisecond
	tryFor   = 10 * time.Minute
)

// lockName is the file that whoever changes the machine holds, beside the journal.
const lockName = "changes.lock"

// byOthers is what is said of a change that somebody else has changed since.
const byOthers = "; changed by others since, and left: "

// server does what it is told: it may change the machine, and nobody else here needs to.
type server struct {
	m       Machine
	journal *Journal
	told    chan request // closed when nobody speaks to it any more
	out     *json.Encoder
	saying  sync.Mutex
	held    []*tenancy
	lost    chan *tenancy // whose lease is no more
}

// Serve does orders, one after the other, each step by step, and holds each change until it is told to keep it or to take it back, or its
// time is over: then it takes it back. That nobody speaks to it any more changes nothing of that; it ends when nothing is on trial then.
func Serve(ctx context.Context, m Machine, j *Journal, in io.Reader, out io.Writer) error {
	s := &server{m: m, journal: j, told: make(chan request), out: json.NewEncoder(out), lost: make(chan *tenancy, 8)}
	go s.hear(ctx, in)
	defer s.leaveAll(ctx)
	s.clearUp(ctx)
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case t := <-s.lost:
			if <-t.ended; slices.Contains(s.held, t) {
				s.leave(ctx, t, "the lease is lost: "+t.why.Error())
			}
		case r, speaks := <-s.told:
			if !speaks {
				return nil
			}
			if r.Order != nil {
				s.carryOut(ctx, *r.Order)
			}
		}
	}
}

func (s *server) hear(ctx context.Context, in io.Reader) {
	defer guard.Goroutine()
	defer close(s.told)
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, mostLine)
	for lines.Scan() {
		var r request
		if json.Unmarshal(lines.Bytes(), &r) != nil {
			continue
		}
		select {
		case s.told <- r:
		case <-ctx.Done():
			return
		}
	}
}

// say tells; that nobody listens is no reason to stop.
func (s *server) say(n News) {
	s.saying.Lock()
	defer s.saying.Unlock()
	_ = s.out.Encode(n)
}

// clearUp takes back what was on trial when the process that held it ended, or the machine restarted: what was done now is gone with it,
// and what a manager keeps is not. While somebody else changes the machine it is his.
func (s *server) clearUp(ctx context.Context) {
	entries, _, err := s.journal.Read()
	if err != nil || !slices.ContainsFunc(entries, func(e Entry) bool { return e.Outcome == OnTrial }) {
		return
	}
	path := filepath.Join(filepath.Dir(s.journal.Path()), lockName)
	lock, err := lockFile(path, Login(), func(string, bool) error { return errBusy })
	if err != nil {
		return
	}
	defer lock.Close()
	if entries, _, err = s.journal.Read(); err != nil {
		return
	}
	for _, e := range slices.Backward(entries) {
		if e.Outcome != OnTrial {
			continue
		}
		others, err := TakeBack(ctx, s.m, Order{From: e.From, To: e.To, Steps: e.Steps}, len(e.Steps))
		out := Entry{ID: e.ID, At: time.Now(), Outcome: TakenBack, Says: "whoever would have taken it back had ended"}
		if err != nil {
			out.Outcome, out.Says = Failed, out.Says+"; NOT taken back: "+err.Error()
		} else if len(others) > 0 {
			out.Says += "; gone or changed since: " + strings.Join(others, "; ")
		}
		_ = s.journal.Append(out) // it is tried again at the next start
	}
}

// leaveAll gives back what is leased: nobody is left for whom it would be kept.
func (s *server) leaveAll(ctx context.Context) {
	for len(s.held) > 0 {
		s.leave(ctx, s.held[0], "the program has ended: the lease is given back")
	}
}

func (s *server) carryOut(ctx context.Context, o Order) {
	id, release, err := s.begin(ctx, o)
	if err != nil {
		s.say(News{Is: Refused, Says: err.Error()})
		return
	}
	defer release()
	var over <-chan time.Time
	if o.Trial > 0 {
		over = time.After(o.Trial)
	}
	until := time.Now().Add(o.Trial)
	s.say(News{Is: Begun, ID: id})
	e, lease, done := s.follow(ctx, o)
	if done && change.Keeps(o.Steps) && o.Undoes == 0 { // what a manager made of it
		if now, err := Settings(ctx, s.m); err == nil {
			now.Stored, o.To = o.To.Stored, now // while he sets an interface it is not told where he keeps it
		}
	}
	if done && lease != nil {
		lease.id = id
		s.keep(ctx, lease)
		if o.Trial > 0 { // a server takes its time
			over, until = time.After(o.Trial), time.Now().Add(o.Trial)
		}
	}
	switch {
	case !done:
	case o.Undoes > 0:
		e = Entry{Outcome: TakenBack, Says: "undone"}
	case o.Trial <= 0:
		e = Entry{Outcome: Kept}
	default:
		s.say(News{Is: Trying, ID: id, Until: until})
		e = s.hold(ctx, o, over)
	}
	switch {
	case lease == nil:
	case e.Outcome == Kept:
		s.held = append(s.held, lease)
	default:
		lease.giveBack()
	}
	if e.ID, e.At = id, time.Now(); e.Outcome == Kept && change.Keeps(o.Steps) {
		e.To = o.To
	}
	if o.Undoes > 0 && e.Outcome == Failed { // the change still stands
		s.say(News{Is: Ended, ID: id, Outcome: Failed, Says: e.Says})
		return
	}
	if err := s.journal.Append(e); err != nil {
		e.Says = join(e.Says, err.Error())
	}
	if o.Undoes > 0 && e.Outcome == TakenBack {
		if i := slices.IndexFunc(s.held, func(t *tenancy) bool { return t.id == id }); i >= 0 { // it may have been another program's
			s.forget(s.held[i])
		}
	}
	s.say(News{Is: Ended, ID: id, Outcome: e.Outcome, Says: e.Says})
}

// begin makes sure that nobody else changes the machine, and that it is as the order has it, and writes down what is to come.
func (s *server) begin(ctx context.Context, o Order) (id int, release func(), err error) {
	release = func() {}
	if path := s.journal.Path(); path != "" {
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return 0, release, fmt.Errorf("the journal: %w", err)
		}
		lock, err := lockFile(filepath.Join(filepath.Dir(path), lockName), o.Who, s.waitFor)
		if err != nil {
			return 0, release, err
		}
		release = func() { lock.Close() }
	}
	if err = s.write(ctx, o, &id); err != nil {
		release()
	}
	return id, release, err
}

// waitFor waits a moment for somebody else who is changing the machine; first tells who that is. It ends when nobody waits any more.
func (s *server) waitFor(who string, first bool) error {
	if first {
		s.say(News{Is: Waiting, Says: who})
	}
	select {
	case r, speaks := <-s.told:
		if !speaks || r.Word == wordBack {
			return errBrokenOff
		}
	case <-time.After(tryAgain / 5):
	}
	return nil
}

func (s *server) write(ctx context.Context, o Order, id *int) error {
	now, err := Settings(ctx, s.m)
	if err != nil {
		return err
	}
	if plan := (change.Plan{From: o.From}); plan.Fresh(now) != nil {
		return change.ErrStale
	}
	if o.Undoes > 0 {
		*id = o.Undoes
		return nil
	}
	if *id, err = s.journal.Next(); err != nil {
		return err
	}
	e := Entry{ID: *id, At: time.Now(), Who: o.Who, Why: o.Why, Outcome: OnTrial, From: o.From, To: o.To, Steps: o.Steps}
	if o.Trial > 0 {
		e.Deadline = e.At.Add(o.Trial)
	}
	return s.journal.Append(e)
}

// follow does the steps. Where one is not done, or somebody would have it all back, what was done before is taken back; e says so.
func (s *server) follow(ctx context.Context, o Order) (e Entry, lease *tenancy, done bool) {
	stepping, stop := context.WithCancel(ctx)
	defer stop()
	type end struct {
		lease *tenancy
		steps int
		err   error
	}
	ended := make(chan end, 1)
	go func() {
		defer guard.Goroutine()
		var lease *tenancy
		if o.Lease != nil {
			var err error
			if lease, err = s.rent(stepping, o); err != nil {
				ended <- end{nil, 0, err}
				return
			}
		}
		n, err := Follow(stepping, s.m, o.Steps, func(i int, err error) {
			n := News{Is: Stepped, Step: i}
			if err != nil {
				n.Says = err.Error()
			}
			s.say(n)
		})
		ended <- end{lease, n, err}
	}()
	told, byHand := s.told, false
	for {
		select {
		case x := <-ended:
			undone := "what was done before it is taken back"
			if o.Lease != nil && x.lease == nil {
				undone = "nothing was changed"
			}
			switch {
			case x.err == nil && !byHand:
				return e, x.lease, true
			case byHand:
				return s.takeBack(ctx, o, x.steps, TakenBack, "taken back by hand"), x.lease, false
			}
			return s.takeBack(ctx, o, x.steps, Failed, x.err.Error()+"; "+undone), x.lease, false
		case r, speaks := <-told:
			if !speaks {
				told = nil
			}
			if r.Word == wordBack {
				byHand = true
				stop()
			}
		}
	}
}

// hold waits for what becomes of a change on trial.
func (s *server) hold(ctx context.Context, o Order, over <-chan time.Time) Entry {
	told := s.told
	for {
		select {
		case <-over:
			return s.takeBack(ctx, o, len(o.Steps), TakenBack, "nobody kept it")
		case <-ctx.Done():
			return s.takeBack(ctx, o, len(o.Steps), TakenBack, "the program has ended")
		case r, speaks := <-told:
			switch {
			case !speaks:
				told = nil // it goes on by itself
			case r.Word == wordKeep:
				return Entry{Outcome: Kept}
			case r.Word == wordBack:
				return s.takeBack(ctx, o, len(o.Steps), TakenBack, "taken back by hand")
			}
		}
	}
}

func (s *server) takeBack(ctx context.Context, o Order, done int, outcome Outcome, why string) Entry {
	var others []string
	var err error
	for began, told := time.Now(), ""; ; time.Sleep(tryAgain) { // once also when it is to end
		if others, err = TakeBack(context.WithoutCancel(ctx), s.m, o, done); err == nil || time.Since(began) > tryFor || ctx.Err() != nil {
			break
		}
		if err.Error() != told {
			told = err.Error()
			s.say(News{Is: Retrying, Says: told})
		}
	}
	e := Entry{Outcome: outcome, Says: why}
	switch {
	case err != nil:
		e.Outcome, e.Says = Failed, why+"; NOT taken back: "+err.Error()
	case len(others) > 0:
		e.Says += byOthers + strings.Join(others, "; ")
	}
	return e
}

func join(a, b string) string {
	if a == "" {
		return b
	}
	return a + "; " + b
}

// ErrGone: whatever became of a change is in the journal.
var (
	ErrGone      = errors.New("the process that changes this machine has ended; passepartout changes tells what was done")
	errBusy      = errors.New("somebody else is changing this machine")
	errBrokenOff = errors.New("it was broken off before its turn came")
)
