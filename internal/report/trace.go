package report

import (
	"fmt"
	"io"
	"net/netip"
	"time"

	"passepartout/internal/core/path"
	"passepartout/internal/core/wording"
)

// TraceSchema names the shape of trace's JSON.
const TraceSchema = "passepartout.trace/1"

// Trace is one trace, ready to be written.
type Trace struct {
	Schema  string       `json:"schema"`
	Target  string       `json:"target"`
	Address string       `json:"address"`
	Method  string       `json:"method"`
	Reached bool         `json:"reached"`
	Flows   int          `json:"flows"`
	Rounds  int          `json:"rounds"`
	Hops    []Hop        `json:"hops"`
	Remarks []HopRemark  `json:"remarks"`
	Changes []PathChange `json:"changes"`
	Apart   bool         `json:"-"` // every packet was a flow of its own

	places []path.Place
	took   time.Duration
}

// Hop is one station.
type Hop struct {
	TTL      int          `json:"ttl"`
	Answers  []Answer     `json:"answers"`
	Sent     int          `json:"sent"`
	Received int          `json:"received"`
	State    string       `json:"state"`
	Segment  path.Segment `json:"segment"`
}

// Answer is one address that answered for a station.
type Answer struct {
	From     string             `json:"from"`
	Name     string             `json:"name"`
	Received int                `json:"received"`
	Flows    []int              `json:"flows"`
	RTT      map[string]float64 `json:"rtt_us"`
	median   time.Duration
}

// HopRemark is what matters at one station.
type HopRemark struct {
	ID       string `json:"id"`
	TTL      int    `json:"ttl"`
	Harmless bool   `json:"harmless"`
	Words    string `json:"words"`
}

// PathChange is another station answering than before.
type PathChange struct {
	AfterMS int64  `json:"after_ms"`
	TTL     int    `json:"ttl"`
	Flow    int    `json:"flow"`
	Was     string `json:"was"`
	Is      string `json:"is"`
}

var hopStates = map[path.State]string{path.Silent: "silent", path.Answers: "answers", path.Refuses: "refused",
	path.DestinationState: "destination"}

// NewTrace puts a track into the contract's words.
func NewTrace(target string, track *path.Track, flows int, names map[netip.Addr]string, took time.Duration) Trace {
	t := Trace{Schema: TraceSchema, Target: target, Address: track.To.String(), Method: track.Method, Reached: track.Reached(),
		Flows: flows, Rounds: track.Rounds(),
		Hops: []Hop{}, Remarks: []HopRemark{}, Changes: []PathChange{}, places: track.Places(-1), took: took}
	for _, p := range t.places {
		h := Hop{TTL: p.HopLimit, Answers: []Answer{}, Sent: p.Sent, Received: p.Received, State: hopStates[p.State], Segment: p.Segment}
		for _, v := range p.Voices {
			h.Answers = append(h.Answers,
				Answer{From: v.From.String(), Name: names[v.From], Received: v.Received, Flows: v.Flows, median: v.Times.Median,
					RTT: map[string]float64{"low": micros(v.Times.Least), "median": micros(v.Times.Median), "high": micros(v.Times.Top)}})
		}
		t.Hops = append(t.Hops, h)
	}
	for _, r := range path.Remarks(t.places, t.Reached) {
		t.Remarks = append(t.Remarks, HopRemark{r.ID, r.HopLimit, r.Harmless, r.Words})
	}
	for _, c := range track.Changes() {
		t.Changes = append(t.Changes, PathChange{c.At.Milliseconds(), c.HopLimit, c.Flow, c.Was.String(), c.Is.String()})
	}
	return t
}

// WriteJSON writes the trace as one JSON object.
func (t Trace) WriteJSON(w io.Writer) error {
	return writeJSON(w, t)
}

// WriteCSV writes a row for each station that answered, and for each that kept silent.
func (t Trace) WriteCSV(w io.Writer) error {
	if err := csvRow(w, "target", "address", "method", "ttl", "segment", "state", "sent", "received", "from", "name", "answers",
		"rtt_us_low", "rtt_us_median", "rtt_us_high"); err != nil {
		return err
	}
	for _, h := range t.Hops {
		answers := h.Answers
		if len(answers) == 0 {
			answers = []Answer{{}}
		}
		for _, a := range answers {
			var low, mid, high *float64
			if a.From != "" {
				l, m, u := a.RTT["low"], a.RTT["median"], a.RTT["high"]
				low, mid, high = &l, &m, &u
			}
			if err := csvRow(w, t.Target, t.Address, t.Method, h.TTL, h.Segment, h.State, h.Sent, h.Received, a.From, a.Name, a.Received,
				low, mid, high); err != nil {
				return err
			}
		}
	}
	return nil
}

// SegmentWords are the stretches for people.
var SegmentWords = map[path.Segment]string{
	path.LocalSubnet: "this subnet", path.Private: "further private routers", path.Provider: "provider", path.Far: "far network",
	path.Destination: "destination", path.Unknown: "no answer",
}

// MethodWords are the methods for people.
var MethodWords = map[string]string{"icmp": "ICMP echo", "udp": "UDP", "tcp": "TCP to the service's own port"}

// WriteText writes the trace for a person: by stretches, the stations under each.
func (t Trace) WriteText(w io.Writer) error {
	how := "one flow"
	switch {
	case t.Apart:
		how = "a connection for each station (one flow needs permission to send raw frames)"
	case t.Flows > 1:
		how = fmt.Sprintf("%d flows", t.Flows)
	}
	fmt.Fprintf(w, "to %s, %s, %s\n", place(t.Target, t.Address), MethodWords[t.Method], how)
	for _, s := range path.Stretches(t.places) {
		adds := ""
		if s.Known {
			adds = "adds " + wording.Millis(s.Adds)
		}
		fmt.Fprintf(w, "  %-24s %-16s %s\n", SegmentWords[s.Segment], adds, ThroughWords(s))
		for _, p := range s.Places {
			t.station(w, t.Hops[p.HopLimit-1])
		}
	}
	for _, c := range t.Changes {
		fmt.Fprintf(w, "  after %v station %d changed from %s to %s\n", (time.Duration(c.AfterMS) * time.Millisecond).Round(time.Second/10),
			c.TTL, c.Was, c.Is)
	}
	end := "The destination was reached"
	if !t.Reached {
		end = "The destination was not reached"
		if n := len(t.Hops); n > 0 {
			end += fmt.Sprintf("; nothing answers after station %d", n)
		}
	}
	_, err := fmt.Fprintf(w, "%s, %s.\n", end, wording.Millis(t.took))
	return err
}

func (t Trace) station(w io.Writer, h Hop) {
	note := ""
	for _, r := range t.Remarks {
		if r.TTL == h.TTL {
			note += "  " + r.Words
		}
	}
	if len(h.Answers) == 0 {
		fmt.Fprintf(w, "    ┈┈ station %-3d%s\n", h.TTL, note)
	}
	for i, a := range h.Answers {
		shape := "━━"
		if h.State == "refused" {
			shape = "━╳"
		}
		if i > 0 {
			note = ""
		}
		fmt.Fprintf(w, "    %s station %-3d %9s   %s%s\n", shape, h.TTL, wording.Millis(a.median), place(a.Name, a.From), note)
	}
}

// ThroughWords says whether everything comes through a stretch.
func ThroughWords(s path.Stretch) string {
	sent := 0
	for _, p := range s.Places {
		sent = max(sent, p.Sent)
	}
	switch {
	case s.Through == 0:
		return "nothing answers"
	case s.Through >= .995:
		return "all comes through"
	}
	return fmt.Sprintf("%.0f of 100 come through", 100*s.Through)
}

func place(name, address string) string {
	if name == "" || name == address {
		return address
	}
	return name + " " + address
}
