package casefile_test

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/casefile"
	"passepartout/internal/core/event"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/series"
	"passepartout/internal/core/state"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

// day writes the log of a day's watching: six witnesses asked each second, an outage of a minute each hour that a target of its own has.
func day(take func(event.Event)) {
	at := time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)
	add := func(b event.Body) { take(event.Event{At: at, Body: b}) }
	set := evidencetest.Healthy()
	add(event.Began{Round: 1, Because: "asked for", Question: evidence.Subject{Target: set.Target}, Endpoint: set.Endpoint})
	add(event.Judged{Round: 1, Settled: true, Over: true, Verdict: event.VerdictOf(verdict.Judge(set))})
	names := []string{"172.27.40.1", "172.27.40.2", "198.51.100.1", "203.0.113.53", "203.0.113.80", "203.0.113.70"}
	for i, name := range names {
		add(event.Watched{Witness: name, Name: name, Zone: zone.Beyond, Rank: i})
	}
	for second := range 24 * 3600 {
		for i, name := range names {
			sent := at.Add(time.Duration(i) * 7 * time.Millisecond)
			scattered := uint32(second*6+i) * 2654435761 >> 12
			p := event.Probed{Witness: name, Sent: sent, Fate: series.Replied, RTT: time.Duration(4_000_000+scattered) * time.Nanosecond}
			switch n := second % 3600; {
			case i == second/3600%6 && n >= 600 && n < 660:
				p.Fate, p.RTT = series.Silent, 0
				switch n {
				case 600:
					add(event.Outage{Zone: zone.Beyond, From: sent, Evidence: name + " keeps silent"})
				case 659:
					add(event.Outage{Zone: zone.Beyond, From: sent.Add(-59 * time.Second), To: sent, Evidence: name + " keeps silent"})
				}
			}
			take(event.Event{At: sent.Add(p.RTT), Body: p})
		}
		at = at.Add(time.Second)
	}
	add(event.Stopped{Because: "the day is over"})
}

// A day of watching fits on the disk, is written in little memory, is opened while one waits, and any moment of it is shown at once.
func TestADay(t *testing.T) {
	if testing.Short() {
		t.Skip("a day takes some seconds")
	}
	path := filepath.Join(t.TempDir(), "day.case")
	heap := func() float64 {
		var m runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&m)
		return float64(m.HeapAlloc) / (1 << 20)
	}
	before := heap()
	r, err := casefile.Record(path, casefile.Manifest{Began: time.Now()})
	require.NoError(t, err)
	events := 0
	day(func(e event.Event) { r.Take(e, nil); events++ })
	writing := heap() - before
	require.NoError(t, r.Close(time.Now()))
	info, err := os.Stat(path)
	require.NoError(t, err)
	size := float64(info.Size()) / 1e6

	began := time.Now()
	c, line, err := casefile.OpenInTime(path)
	opened := time.Since(began)
	require.NoError(t, err)
	assert.Empty(t, c.Flaws)
	open := heap() - before
	assert.Len(t, slices.DeleteFunc(line.Moments(), func(m state.Moment) bool { return m.What != "an outage began, beyond" }), 24)
	var worst time.Duration
	from := line.Events()[0].At
	for minute := 0; minute < 24*60; minute += 7 {
		began := time.Now()
		s := line.At(from.Add(time.Duration(minute) * time.Minute))
		worst = max(worst, time.Since(began))
		lasts := s.Witness != nil && slices.ContainsFunc(s.Outages, func(o event.Outage) bool { return o.To.IsZero() })
		assert.Equal(t, minute%60 == 10, lasts, minute)
	}
	fmt.Printf("case, a day of six targets: %d events, %.1f MB on disk, %.0f MB of memory while it is written, %.0f opened; opened in %v, "+
		"a moment shown in at most %v\n", events, size, writing, open, opened.Round(time.Millisecond), worst.Round(time.Microsecond))
	assert.Less(t, size, 20.0)
	assert.Less(t, writing, 60.0)
	assert.Less(t, opened, 20*time.Second)
	assert.Less(t, worst, time.Second)
}
