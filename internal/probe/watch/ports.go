package watch

import (
	"context"
	"time"

	"passepartout/internal/core/blame"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/probe"
)

// watchPorts notes the times in which the port through which the probes leave was off, gone or without signal.
func (w *Watcher) watchPorts(ctx context.Context) {
	changes, err := w.Machine.Watch(ctx)
	if err != nil {
		return // the times are missing then; what was not sent still tells
	}
	name := w.Interface
	if e, err := w.Machine.Read(ctx); err == nil && name == "" {
		name, _ = e.Choose()
	}
	for range changes {
		at, began := w.Now(), time.Now()
		if all, err := w.Machine.Interfaces(ctx); err == nil {
			w.portIs(at, flawOf(&endpoint.Endpoint{Interfaces: all}, name))
		}
		probe.Rest(ctx, began)
	}
}

// flawOf says what is wrong with a port; "" for nothing.
func flawOf(e *endpoint.Endpoint, name string) string {
	i, ok := e.Interface(name)
	switch {
	case name == "":
		return ""
	case !ok:
		return name + " was gone"
	case !i.Up:
		return name + " was switched off"
	case i.Carrier == endpoint.CarrierAbsent:
		return name + " had no signal"
	}
	return ""
}

func (w *Watcher) portIs(at time.Duration, flaw string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if n := len(w.spans) - 1; n >= 0 && w.spans[n].To == 0 && !w.spans[n].Asleep {
		if flaw == w.spans[n].Why {
			return
		}
		w.spans[n].To = at
	}
	if flaw != "" {
		w.note(blame.Span{From: at, Why: flaw})
	}
}
