package report

import (
	"encoding/json"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"passepartout/internal/core/series"
	"passepartout/internal/draw"
	"passepartout/internal/plainfile"
)

// Export is what a view can be written as: a page to draw, if it has one, and the data by a file name's ending.
type Export struct {
	Page func() draw.Page
	Data map[string]func(io.Writer) error // by ending, with the dot
}

// Later is an export with those endings that is put together only when it is written: what stands behind it may have to be waited for.
func Later(make func() Export, endings ...string) Export {
	out := Export{Data: map[string]func(io.Writer) error{}}
	once := sync.OnceValue(make)
	for _, ending := range endings {
		if ending == ".svg" || ending == ".pdf" {
			out.Page = func() draw.Page { return once().Page() }
			continue
		}
		out.Data[ending] = func(w io.Writer) error { return once().Data[ending](w) }
	}
	return out
}

// Endings lists the endings that a name may have.
func (e Export) Endings() []string {
	var data []string
	for ending := range e.Data {
		data = append(data, ending)
	}
	slices.Sort(data)
	if e.Page == nil {
		return data
	}
	return append([]string{".svg", ".pdf"}, data...)
}

// Check refuses a name whose ending does not tell what the file is to hold.
func (e Export) Check(path string) error {
	if ending := strings.ToLower(filepath.Ext(path)); !slices.Contains(e.Endings(), ending) {
		return fmt.Errorf("%q: let the name end in %s", filepath.Base(path), strings.Join(e.Endings(), ", "))
	}
	return nil
}

// Save writes a file whose ending tells what it is to hold, whole or not at all.
func (e Export) Save(path string) error {
	if err := e.Check(path); err != nil {
		return err
	}
	if write, ok := e.Data[strings.ToLower(filepath.Ext(path))]; ok {
		return plainfile.Write(path, write)
	}
	return e.Page().WriteFile(path)
}

// watchedJSON is one probe of a watch.
type watchedJSON struct {
	Schema  string    `json:"schema"`
	Target  string    `json:"target"`
	Address string    `json:"address"`
	Zone    string    `json:"zone"`
	Method  string    `json:"method"`
	Seq     int       `json:"seq"`
	SentAt  time.Time `json:"sent_at"`
	Outcome string    `json:"outcome"`
	RTT     *float64  `json:"rtt_us,omitempty"`
	Copies  int       `json:"duplicates,omitempty"`
}

// outageJSON is one outage of a watch.
type outageJSON struct {
	Schema string `json:"schema"`
	Outage struct {
		From     time.Time `json:"from"`
		Seconds  float64   `json:"seconds"`
		Zone     string    `json:"zone"`
		Lost     int       `json:"lost"`
		Evidence string    `json:"evidence"`
	} `json:"outage"`
}

// WatchSchema names the shape of a watch's JSON lines.
const WatchSchema = "passepartout.watch/1"

var fateWords = map[series.Fate]string{series.Replied: "reply", series.Silent: "timeout", series.Late: "late",
	series.Unreachable: "unreachable", series.NotSent: "local-error", series.Void: "void"}

// each calls f for every probe that has ended.
func (t Times) each(f func(watchedJSON) error) error {
	for _, w := range t.Targets {
		for _, p := range w.Points {
			if p.Fate == series.Pending {
				continue
			}
			row := watchedJSON{Schema: WatchSchema, Target: w.Name, Address: w.Address.String(), Zone: w.Zone.Token(), Method: w.Method,
				Seq: p.Number, SentAt: t.Start.Add(p.At).UTC(), Outcome: fateWords[p.Fate], Copies: p.Again}
			if p.Fate == series.Replied || p.Fate == series.Late {
				us := micros(p.RTT)
				row.RTT = &us
			}
			if err := f(row); err != nil {
				return err
			}
		}
	}
	return nil
}

// WriteCSV writes a row for each probe.
func (t Times) WriteCSV(w io.Writer) error {
	if err := csvRow(w, "target", "address", "zone", "method", "seq", "sent_at", "outcome", "rtt_us", "duplicates"); err != nil {
		return err
	}
	return t.each(func(r watchedJSON) error {
		return csvRow(w, r.Target, r.Address, r.Zone, r.Method, r.Seq, r.SentAt.Format(time.RFC3339Nano), r.Outcome, r.RTT, r.Copies)
	})
}

// WriteJSONL writes a line for each probe, then one for each outage.
func (t Times) WriteJSONL(w io.Writer) error {
	e := json.NewEncoder(w)
	if err := t.each(func(r watchedJSON) error { return e.Encode(r) }); err != nil {
		return err
	}
	for _, o := range t.Outages {
		out := outageJSON{Schema: WatchSchema}
		out.Outage.From, out.Outage.Seconds, out.Outage.Zone, out.Outage.Lost, out.Outage.Evidence = t.Start.Add(o.From).UTC(),
			o.Length().Seconds(), o.Zone.Token(), o.Lost, o.Evidence()
		if err := e.Encode(out); err != nil {
			return err
		}
	}
	return nil
}

// Export is the watch as a view writes it.
func (t Times) Export(endpoint string) Export {
	return Export{Page: func() draw.Page { return t.Page(endpoint) },
		Data: map[string]func(io.Writer) error{".csv": t.WriteCSV, ".jsonl": t.WriteJSONL}}
}

// Export is the path as a view writes it.
func (t Trace) Export(endpoint string, at time.Time) Export {
	return Export{Page: func() draw.Page { return t.Page(endpoint, at) },
		Data: map[string]func(io.Writer) error{".csv": t.WriteCSV, ".json": t.WriteJSON, ".txt": t.WriteText}}
}
