package tui

import (
	"time"

	"passepartout/internal/core/blame"
	"passepartout/internal/core/event"
	"passepartout/internal/core/series"
	"passepartout/internal/core/target"
	"passepartout/internal/probe/watch"
)

// reachSource is where the view has its lanes from: the watcher of a case that lives, or the log of one that was kept.
type reachSource struct {
	watcher *watch.Watcher // nil: the log
	start   time.Time
	see     func(func(now time.Duration, subjects []*watch.Subject, ledger *blame.Ledger))
}

func watcherSource(w *watch.Watcher) reachSource { return reachSource{w, w.Start, w.See} }

// lookAtRecordedReach builds the lanes of a recording as they were at the moment where one stands.
func lookAtRecordedReach(m *model) func() any {
	_, width, _ := m.reachColumns()
	rows, chosen, span := m.reachBody(), m.reach().selected, spans[m.reach().span]
	events, at := m.recorded.Timeline.Events(), m.state.At
	return func() any { return shotOf(loggedSource(events, at), width, rows, chosen, span) }
}

// loggedSource is what a log says of its witnesses until a moment. Whose loss it was is worked out anew, as it was while the case lived.
func loggedSource(events []event.Event, until time.Time) reachSource {
	var start time.Time
	var subjects []*watch.Subject
	probes := map[string][]series.Point{}
	of := map[string]*watch.Subject{}
	for _, e := range events {
		if e.At.After(until) {
			break
		}
		if start.IsZero() {
			start = e.At
		}
		switch b := e.Body.(type) {
		case event.Watched:
			s := of[b.Witness]
			if s == nil {
				t, err := target.Parse(b.Witness)
				if err != nil {
					continue
				}
				s = &watch.Subject{ID: len(subjects), Spec: watch.Spec{Target: t}, Address: t.Addr, Since: e.At.Sub(start)}
				of[b.Witness], subjects = s, append(subjects, s)
			}
			if s.Rank = b.Rank; b.Rank > 0 { // else it stands for no zone any more, and its lane stays where it was
				s.Zone = b.Zone
			}
		case event.Probed:
			probes[b.Witness] = append(probes[b.Witness], series.Point{At: max(b.Sent.Sub(start), 0), RTT: b.RTT, Fate: b.Fate})
		}
	}
	now := until.Sub(start)
	ledger := blame.NewLedger(time.Second)
	var witnesses []blame.Witness
	for id, s := range of {
		s.Record = series.Restored(probes[id])
	}
	for _, s := range subjects {
		if s.Rank > 0 {
			witnesses = append(witnesses, blame.Witness{Name: s.Name(), Zone: s.Zone, Rank: s.Rank, Record: s.Record})
		}
	}
	ledger.Update(witnesses, nil, now)
	return reachSource{start: start, see: func(f func(time.Duration, []*watch.Subject, *blame.Ledger)) { f(now, subjects, ledger) }}
}
