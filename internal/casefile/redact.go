package casefile

import (
	"encoding/json"
	"io"

	"passepartout/internal/core/event"
	"passepartout/internal/core/redact"
	"passepartout/internal/core/state"
)

// withheld stands for what a person wrote: which of its words are names, nobody can know.
const withheld = "(withheld: somebody's own words)"

// Redacted is a case with stand-ins for all that tells where it was and whose.
type Redacted struct {
	Case
	Redactor *redact.Redactor
	path     string
}

// OpenRedacted opens a case with stand-ins, which follow from the key and from what stands in the case.
func OpenRedacted(path string, key redact.Key) (*Redacted, error) {
	seen := redact.NewOriginals()
	first := &Case{take: func(event.Event) {}, line: func(raw []byte) ([]byte, error) { return raw, seen.JSON(raw) }}
	if err := first.open(path); err != nil {
		return nil, err
	}
	head, err := json.Marshal(first.Manifest)
	if err != nil {
		return nil, err
	}
	if err := seen.JSON(head); err != nil {
		return nil, err
	}
	r := &Redacted{Redactor: redact.New(key, seen), path: path}
	var s state.State
	if err := r.again(func(e event.Event) { s = state.Fold(s, e) }); err != nil {
		return nil, err
	}
	r.State = s
	return r, nil
}

// again reads the case once more, with stand-ins.
func (r *Redacted) again(take func(event.Event)) error {
	r.Case = Case{line: r.Redactor.JSON, take: func(e event.Event) {
		if _, is := e.Body.(event.Noted); is {
			e.Body = event.Noted{Text: withheld}
		}
		take(e)
	}}
	if err := r.open(r.path); err != nil {
		return err
	}
	head, err := json.Marshal(r.Manifest)
	if err != nil {
		return err
	}
	if head, err = r.Redactor.JSON(head); err != nil {
		return err
	}
	r.Manifest = Manifest{} // nothing of it is left where a field is not in what is read
	if err := json.Unmarshal(head, &r.Manifest); err != nil {
		return err
	}
	if r.Complaint != "" && !r.Simulated {
		r.Complaint = withheld
	}
	return nil
}

// Write writes it as a case of its own.
func (r *Redacted) Write(w io.Writer) error {
	return pack(w, r.Manifest, func(body io.Writer) error {
		log := event.NewWriter(body)
		var failed error
		again := &Redacted{Redactor: r.Redactor, path: r.path}
		err := again.again(func(e event.Event) {
			if failed == nil {
				failed = log.Write(e)
			}
		})
		if err != nil {
			return err
		}
		return failed
	})
}
