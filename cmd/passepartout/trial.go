package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"passepartout/internal/acting"
	"passepartout/internal/conductor"
	"passepartout/internal/guard"
	"passepartout/internal/report"
)

// trialled is a change that is being done.
type trialled struct {
	*changing
	c     conductor.Config
	hand  *acting.Hand
	out   *report.Change
	why   string
	asked bool // a person sits there
	until time.Time
	lease *acting.Lease // that it stands on, or nil
}

// run does it, to the outcome.
func (t *trialled) run(ctx context.Context) error {
	plan := &t.out.Plan
	before := verdictOf(ctx, t.c)
	t.out.Before = &before
	o := acting.Order{From: plan.From, To: plan.To, Steps: plan.Ops(), Trial: t.trial, Who: acting.Login(), Why: t.why, Lease: t.lease}
	if err := t.hand.Do(o); err != nil {
		return err
	}
	last, err := t.hear(ctx)
	if err != nil {
		return err
	}
	if t.settled != nil {
		if err := t.settled(ctx, t); err != nil {
			return err
		}
	}
	after := verdictOf(ctx, t.c)
	t.out.After = &after
	t.tell("before  %s\nafter   %s", before.Sentence, after.Sentence)
	proven, worse := better(before, after)
	if last.Is == acting.Ended { // it was to be kept at once
		return t.end(last, proven)
	}
	keep := !worse
	if t.asked {
		word, said := t.ask(ctx)
		if !said {
			return t.settle(nil, proven)
		}
		keep = word
	}
	if keep {
		return t.settle(t.hand.Keep, proven)
	}
	return t.settle(t.hand.Back, proven)
}

// hear follows the steps, until the change is on trial or has ended.
func (t *trialled) hear(ctx context.Context) (acting.News, error) {
	broken := ctx.Done()
	for {
		select {
		case <-broken:
			broken = nil
			if err := t.hand.Back(); err != nil {
				return acting.News{}, err
			}
		case n, speaks := <-t.hand.News():
			switch {
			case !speaks:
				return n, acting.ErrGone
			case n.Is == acting.Waiting:
				fmt.Fprintf(os.Stderr, "waiting: %s is changing this machine\n", n.Says)
			case n.Is == acting.Retrying:
				retrying(n)
			case n.Is == acting.Renewed: // of a lease that it stands on
			case n.Is == acting.Refused:
				return n, fmt.Errorf("nothing was done: %s", n.Says)
			case n.Is == acting.Begun:
				t.out.ID, t.out.Outcome = n.ID, string(acting.OnTrial)
			case n.Is == acting.Stepped:
				t.out.Ended(n.Step, n.Says)
				t.tell("%s", t.out.StepLine(n.Step))
			case n.Is == acting.Trying:
				t.until = n.Until
				return n, nil
			case n.Outcome == acting.Kept:
				return n, nil
			case n.Outcome == acting.TakenBack:
				return n, t.end(n, false)
			default:
				t.out.Outcome = string(n.Outcome)
				return n, errors.New(n.Says)
			}
		}
	}
}

// settle says what becomes of the change, and waits for it; nil says nothing.
func (t *trialled) settle(say func() error, proven bool) error {
	if say != nil {
		if err := say(); err != nil {
			return err
		}
	}
	for n := range t.hand.News() {
		if n.Is == acting.Retrying {
			retrying(n)
		}
		if n.Is == acting.Ended {
			return t.end(n, proven)
		}
	}
	return fmt.Errorf("whether it was kept is not known: %w", acting.ErrGone)
}

func retrying(n acting.News) {
	fmt.Fprintf(os.Stderr, "not taken back yet, and tried again for ten minutes: %s\n", n.Says)
}

func (t *trialled) end(n acting.News, proven bool) error {
	t.out.Outcome = string(n.Outcome)
	switch n.Outcome {
	case acting.Kept:
		t.tell("kept as change %d; passepartout undo takes it back", t.out.ID)
		if !proven {
			return status(exitUndetermined)
		}
		return nil
	case acting.TakenBack:
		t.tell("taken back: %s", n.Says)
		return status(exitFault)
	}
	return errors.New(n.Says)
}

// tell says something to a person.
func (t *trialled) tell(format string, args ...any) {
	if t.format != "json" {
		fmt.Fprintf(stdout, format+"\n", args...)
	}
}

// ask asks a person whether the change stays, until the trial is over.
func (t *trialled) ask(ctx context.Context) (keep, said bool) {
	answers := make(chan string, 1)
	go func() {
		defer guard.Goroutine()
		lines := bufio.NewScanner(os.Stdin)
		for lines.Scan() {
			answers <- strings.TrimSpace(lines.Text())
		}
	}()
	over := t.until
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		fmt.Fprintf(os.Stderr, "\rk and enter keep it, b and enter take it back; by itself in %2.0f s: ", max(0, time.Until(over).Seconds()))
		select {
		case a := <-answers:
			switch strings.ToLower(a) {
			case "k", "keep":
				return true, true
			case "b", "back":
				return false, true
			}
		case <-tick.C:
			if !time.Now().Before(over) {
				fmt.Fprintln(os.Stderr)
				return false, false
			}
		case <-ctx.Done():
			return false, true
		}
	}
}
