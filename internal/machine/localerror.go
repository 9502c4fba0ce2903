package machine

import (
	"errors"
	"io/fs"

	"passepartout/internal/core/evidence"
)

// LocalError is the reply to a question that this machine did not send, because of err.
func LocalError(err error) evidence.Reply {
	r := evidence.Reply{Outcome: evidence.LocalError, Reason: err.Error()}
	switch {
	case errors.Is(err, fs.ErrPermission):
		r.Forbidden, r.Reason = true, "this machine's own rules refuse to send it"
	case errors.Is(err, ErrDown):
		r.Reason = "the interface is down"
	case errors.Is(err, ErrNoRoute):
		r.Reason = "this machine knows no way there"
	case errors.Is(err, ErrTooLong):
		r.Why, r.Reason = evidence.TooBig, "larger than the interface's MTU"
	case errors.Is(err, ErrGone):
		r.Reason = "the interface is gone"
	}
	return r
}
