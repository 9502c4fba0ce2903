// Package acting does changes on a machine: step by step, each read back; what fails is taken back. A change is on trial until it is kept,
// and a guard of its own takes it back if nobody keeps it.
package acting

import (
	"context"
	"fmt"
	"slices"
	"time"

	"passepartout/internal/core/change"
	"passepartout/internal/machine"
)

// Machine is one that can be read and told.
type Machine interface {
	machine.Machine
	machine.Changer
}

// The patience with what a step brings about, and how often it is looked at.
const (
	settling = 3 * time.Second
	look     = 20 * time.Millisecond
	managing = 8 * time.Second // a manager that was told to set an interface anew
)

// Settings reads the machine's.
func Settings(ctx context.Context, m machine.Machine) (change.Settings, error) {
	e, err := m.Read(ctx)
	if err != nil {
		return change.Settings{}, fmt.Errorf("this machine's settings: %w", err)
	}
	return change.Of(e), nil
}

// Follow does steps one after the other, each until it is read back, and says how many were done. ended is told of each; it may be nil.
func Follow(ctx context.Context, m Machine, steps []change.Op, ended func(i int, err error)) (done int, err error) {
	kept := false
	for i, o := range steps {
		var err error
		if !kept || !doneBy(ctx, m, o) {
			if err = m.Do(ctx, o); err == nil {
				err = holds(ctx, m, o)
			}
		}
		if o.Do == change.Store && err == nil {
			kept = true
			leaveTo(ctx, m, steps[i+1:])
		}
		if ended != nil {
			ended(i, err)
		}
		if err != nil {
			return i, err
		}
	}
	return len(steps), nil
}

// leaveTo gives a manager time to do the rest by himself.
func leaveTo(ctx context.Context, m Machine, rest []change.Op) {
	for over := time.Now().Add(managing); time.Now().Before(over) && ctx.Err() == nil; time.Sleep(look) {
		now, err := Settings(ctx, m)
		if err == nil && !slices.ContainsFunc(rest, func(o change.Op) bool { return !now.Done(o) }) {
			return
		}
	}
}

func doneBy(ctx context.Context, m Machine, o change.Op) bool {
	now, err := Settings(ctx, m)
	return err == nil && now.Done(o)
}

// holds waits until what a step does is read back from the system.
func holds(ctx context.Context, m Machine, o change.Op) error {
	for over := time.Now().Add(settling); ; {
		now, err := Settings(ctx, m)
		switch {
		case err != nil:
			return err
		case now.Holds(o):
			return nil
		case time.Now().After(over):
			return fmt.Errorf("%v: the system took it, and %v later it is not so; something else sets it", o, settling)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(look):
		}
	}
}

// TakeBack undoes a change of which so many steps were done, or a part of one more. others lists what of these somebody else has changed
// since.
func TakeBack(ctx context.Context, m Machine, o Order, done int) (others []string, err error) {
	now, err := Settings(ctx, m)
	if err != nil {
		return nil, err
	}
	if reached, err := change.Along(o.From, o.Steps[:done]); err == nil && !change.Keeps(o.Steps) { // what a manager made of it is read
		_, others = change.TakeBack(now, o.From, reached.To)
	}
	target, _ := change.TakeBack(now, o.From, o.To)
	steps, err := change.Way(now, target)
	if err != nil {
		return others, fmt.Errorf("there is no way back: %w", err)
	}
	_, err = Follow(ctx, m, append(steps, change.ForGood(o.Steps[:done], target)...), nil)
	return others, err
}
