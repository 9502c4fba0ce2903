package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"passepartout/internal/acting"
	"passepartout/internal/conductor"
	"passepartout/internal/core/change"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/core/zone"
	"passepartout/internal/report"
	"passepartout/internal/tui"
)

// changing are the flags of all commands that change this machine.
type changing struct {
	*flags
	dry, yes, force bool
	trial           time.Duration
	target, lasts   string
	last            string                                 // how long it lasts, in words; "": until it is set otherwise
	settled         func(context.Context, *trialled) error // waits for what the steps bring about; nil: nothing
	then            func(context.Context, *trialled) error // done while the change is kept; nil: nothing
}

func (q *changing) bind(cmd *cobra.Command) {
	p := cmd.PersistentFlags()
	p.BoolVar(&q.dry, "dry-run", false, "only say what would be done")
	p.BoolVar(&q.yes, "yes", false, "do it without asking")
	p.BoolVar(&q.force, "force", false, "also against a warning that stops it")
	p.DurationVar(&q.trial, "trial", time.Minute, "how long the change is on trial before it is taken back by itself; 0 keeps it at once")
	p.StringVar(&q.lasts, "last", lastsNow,
		"how long it lasts: now, until the manager, the cable or a restart says otherwise; for-good; or a time such as 10m")
	p.StringVar(&q.target, "target", "", "what should be reachable: tested before and after")
}

// lastsNow: until the manager, the cable or a restart says otherwise.
const lastsNow = "now"

// annotation of commands that need the power to change this machine.
const changes = "changes"

var errNotToBeTold = errors.New("this machine cannot be changed from here: changes are for the machine that the program runs on")

// carryOut looks at a change, does it, proves it, and keeps it or takes it back.
func (q *changing) carryOut(ctx context.Context, why string,
	of func(m acting.Machine, e *endpoint.Endpoint, iface string) (change.Change, error)) error {
	if q.trial < 0 || q.trial > 24*time.Hour {
		return fmt.Errorf("--trial %v: give up to 24h; 0 keeps the change at once", q.trial)
	}
	c, stop, err := q.caseOf([]string{q.target})
	if err != nil {
		return err
	}
	defer stop()
	m, can := c.Machine.(acting.Machine)
	if !can {
		return errNotToBeTold
	}
	e, iface, err := q.port(ctx, m)
	if err != nil {
		return err
	}
	wanted, err := of(m, e, iface)
	if err != nil {
		return err
	}
	if wanted, err = q.lasting(wanted); err != nil {
		return err
	}
	from := change.Of(e)
	plan, err := change.Work(wanted, from, change.Known{})
	if err != nil {
		return err
	}
	known := acting.Learn(ctx, m, e, wanted, plan.Ops(), q.sheet, os.Getenv)
	if wanted.Lease() != nil {
		delete(known.Leased, iface) // it is this one that holds from now on
	}
	if plan, err = change.Work(wanted, from, known); err != nil {
		return err
	}
	out := report.Change{Interface: iface, Manager: known.Manager[iface], Last: cmp.Or(q.last, q.lasts), Plan: plan,
		Outcome: string(acting.Planned), First: wanted.Before()}
	say := func() error {
		if q.format == "json" {
			return out.WriteJSON(stdout)
		}
		return nil
	}
	if q.format != "json" {
		if err := out.WritePlan(stdout); err != nil {
			return err
		}
	}
	if q.dry || len(plan.Steps) == 0 {
		return say()
	}
	for _, w := range plan.Warnings {
		if w.ID.Grave() && !q.force {
			return fmt.Errorf("nothing was done: %s; add --force to do it all the same", w.Text)
		}
	}
	if err := q.agreed("Do it? [y/N] "); err != nil {
		return err
	}
	hand, err := q.hand(ctx, m)
	if err != nil {
		return fmt.Errorf("nothing was done: %w", err)
	}
	defer hand.Close()
	t := trialled{changing: q, c: c, hand: hand, out: &out, why: why, asked: !q.yes, lease: acting.Leased(wanted)}
	err = t.run(ctx)
	if written := say(); written != nil {
		return written
	}
	if q.then != nil && out.Outcome == string(acting.Kept) {
		return q.then(ctx, &t)
	}
	return err
}

// lasting has a change last as long as it was asked to.
func (q *changing) lasting(c change.Change) (change.Change, error) {
	if q.last != "" || q.lasts == lastsNow {
		return c, nil
	}
	l, err := change.ParseLast(q.lasts)
	if err != nil {
		return c, fmt.Errorf("--last %w", err)
	}
	if c, err = c.Lasting(l); err != nil {
		return c, fmt.Errorf("--last %s: %w", wiretext.Clip(q.lasts), err)
	}
	q.last = l.String()
	return c, nil
}

// hand is who changes a machine: for this one a process of its own, which goes on when this one is killed.
func (f *flags) hand(ctx context.Context, m acting.Machine) (*acting.Hand, error) {
	switch {
	case f.scenario != "":
		return acting.Within(context.WithoutCancel(ctx), m), nil // it takes back what it has begun, though the rest be broken off
	case f.hands != nil || f.handless != nil:
		return f.hands, f.handless
	}
	return startHand() // which will say what it may not
}

func startHand() (*acting.Hand, error) {
	program, err := os.Executable()
	if err != nil {
		return nil, err
	}
	return acting.Start(program, guardName)
}

// agreed asks a person, unless the command line has said so already.
func (q *changing) agreed(question string) error {
	if q.yes {
		return nil
	}
	if !tui.IsTerminal(os.Stdin) {
		return errors.New("nothing was done: this is no terminal, so that --yes must say that it shall be")
	}
	fmt.Fprint(os.Stderr, question)
	var answer string
	_, _ = fmt.Scanln(&answer)
	if !strings.EqualFold(answer, "y") && !strings.EqualFold(answer, "yes") {
		return errors.New("nothing was done")
	}
	return nil
}

// verdictOf tests once.
func verdictOf(ctx context.Context, c conductor.Config) verdict.Result {
	known, err := conductor.New(ctx, c).Once()
	if err != nil {
		return verdict.Result{}
	}
	return known.Round.Result
}

// better reports whether a change is proven: nothing stands in the way. worse, that something does which did not before.
func better(before, after verdict.Result) (proven, worse bool) {
	return after.Zone == zone.None, before.Zone == zone.None && after.Zone != zone.None
}
