package change

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"passepartout/internal/core/wiretext"
)

// Last is how long a change lasts: now (the zero one), until the manager, the cable or a restart says otherwise; for good; or for a while.
type Last struct {
	ForGood bool
	For     time.Duration
}

// The bounds of a while.
const (
	LeastWhile = 10 * time.Second
	MostWhile  = 24 * time.Hour
)

// ParseLast reads now, for-good or a time.
func ParseLast(text string) (l Last, err error) {
	switch text {
	case "now":
		return l, nil
	case "for-good":
		return Last{ForGood: true}, nil
	}
	l.For, err = time.ParseDuration(text)
	if err != nil || l.For < LeastWhile || l.For > MostWhile {
		return l, fmt.Errorf("%q: give now, for-good, or a time from %v to %v, such as 10m", wiretext.Clip(text), LeastWhile, MostWhile)
	}
	return l, nil
}

// String is how long in words.
func (l Last) String() string {
	switch {
	case l.ForGood:
		return "for-good"
	case l.For > 0:
		return "for " + l.For.String()
	}
	return "now"
}

// Lasting is the change as it lasts so long. What cannot is refused.
func (c Change) Lasting(l Last) (Change, error) {
	byHand := c.Set != nil && c.Set.Leased == nil
	if l.ForGood && (!byHand || len(c.Steps) > 0) {
		return c, errors.New("for good is set an interface's address with all that goes with it")
	}
	out := Change{Steps: slices.Clone(c.Steps)}
	if c.Set != nil {
		set := *c.Set
		set.ForGood, set.For = l.ForGood, l.For
		out.Set = &set
		if l.For > 0 && !byHand {
			return c, errors.New("a lease says itself how long it lasts")
		}
	}
	for i, o := range out.Steps {
		if o.Do != AddAddress && l.For > 0 {
			return c, errors.New("only addresses go by themselves")
		}
		if o.Do == AddAddress {
			out.Steps[i].For = l.For
		}
	}
	return out, nil
}
