package acting

import (
	"time"

	"passepartout/internal/core/change"
	"passepartout/internal/core/dhcp"
)

// Order is a change that a hand shall do.
type Order struct {
	From   change.Settings `json:"from"` // what it was worked out from: where that is not so any more, nothing is done
	To     change.Settings `json:"to"`
	Steps  []change.Op     `json:"steps"`
	Trial  time.Duration   `json:"trial"` // 0: it is kept at once
	Who    string          `json:"who"`
	Why    string          `json:"why"`
	Undoes int             `json:"undoes,omitempty"` // the number of the change that it takes back; 0: none
	Lease  *Lease          `json:"lease,omitempty"`  // taken before the first step, and kept as long as the change is
}

// Lease is one that a change stands on.
type Lease struct {
	Interface string     `json:"interface"`
	Terms     dhcp.Terms `json:"terms"` // as they were offered
}

// Leased is the one that a change stands on, or nil.
func Leased(c change.Change) *Lease {
	if t := c.Lease(); t != nil {
		return &Lease{c.Set.Interface, *t}
	}
	return nil
}

// Happened is what a hand tells of.
type Happened string

// What a hand tells, in this order; a change ends as refused or as ended.
const (
	Waiting Happened = "waiting" // somebody else is changing the machine
	Refused Happened = "refused" // nothing was done
	Begun   Happened = "begun"
	Stepped Happened = "step"
	Trying  Happened = "on trial"
	// Retrying: it could not be taken back yet; that is tried again, for as long as an interface may be away.
	Retrying Happened = "retrying"
	Ended    Happened = "ended"
	// Renewed and Over are told of a lease that a kept change stands on, whatever else is being done: it goes on, or it is no more.
	Renewed Happened = "renewed"
	Over    Happened = "over"
)

// News is one thing that a hand tells.
type News struct {
	Is      Happened  `json:"is"`
	ID      int       `json:"id,omitempty"`
	Step    int       `json:"step,omitempty"`
	Outcome Outcome   `json:"outcome,omitempty"`
	Until   time.Time `json:"until,omitzero"` // it is taken back by itself, or the lease is over
	Says    string    `json:"says,omitempty"` // who is waited for, why nothing was done, why a step failed, what came of it
}

// request is what a hand is told: an order, or what becomes of the change on trial.
type request struct {
	Order *Order `json:"order,omitempty"`
	Word  word   `json:"word,omitempty"`
}

type word string

const (
	wordKeep word = "keep"
	wordBack word = "back"
)
