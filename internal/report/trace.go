package report

import (
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/path"
	"passepartout/internal/core/rtt"
)

// TraceSchema names the shape of trace's JSON.
const TraceSchema = "passepartout.trace/1"

// Trace is one trace, ready to be written.
type Trace struct {
	Schema  string `json:"schema"`
	Target  string `json:"target"`
	Address string `json:"address"`
	Method  string `json:"method"`
	Reached bool   `json:"reached"`
	Hops    []Hop  `json:"hops"`
	took    time.Duration
}

// Hop is one station.
type Hop struct {
	TTL      int          `json:"ttl"`
	Answers  []Answer     `json:"answers"`
	Sent     int          `json:"sent"`
	Received int          `json:"received"`
	State    string       `json:"state"`
	Segment  path.Segment `json:"segment"`
	said     string
}

// Answer is one address that answered for a station.
type Answer struct {
	From     string             `json:"from"`
	Name     string             `json:"name"`
	Received int                `json:"received"`
	RTT      map[string]float64 `json:"rtt_us"`
	median   time.Duration
}

// NewTrace puts the hops of one trace in order and cuts it after the destination, and after the last station that answered when it was not reached.
func NewTrace(target string, to netip.Addr, hops []evidence.Hop, names map[netip.Addr]string, onLink func(netip.Addr) bool, took time.Duration) Trace {
	t := Trace{Schema: TraceSchema, Target: target, Address: to.String(), Hops: []Hop{}, took: took}
	by := map[int][]evidence.Hop{}
	last, end := 0, 0
	for _, h := range hops {
		t.Method = h.Method
		by[h.HopLimit] = append(by[h.HopLimit], h)
		if h.Came() {
			last = max(last, h.HopLimit)
			if h.From == to && (h.Outcome == evidence.Answered || h.Outcome == evidence.Refused) && (end == 0 || h.HopLimit < end) {
				end = h.HopLimit
			}
		}
	}
	if t.Reached = end > 0; t.Reached {
		last = end
	}
	var stations []netip.Addr
	for ttl := 1; ttl <= last; ttl++ {
		hop := newHop(ttl, by[ttl], to, names)
		t.Hops = append(t.Hops, hop)
		from := netip.Addr{}
		if len(hop.Answers) > 0 {
			from, _ = netip.ParseAddr(hop.Answers[0].From)
		}
		stations = append(stations, from)
	}
	for i, segment := range path.Segments(stations, to, onLink) {
		t.Hops[i].Segment = segment
	}
	return t
}

func newHop(ttl int, asked []evidence.Hop, to netip.Addr, names map[netip.Addr]string) Hop {
	h := Hop{TTL: ttl, Answers: []Answer{}, Sent: len(asked), State: "silent"}
	times := map[netip.Addr][]time.Duration{}
	for _, a := range asked {
		if !a.Came() {
			continue
		}
		h.Received++
		times[a.From] = append(times[a.From], a.RTT)
		state := "answers"
		switch {
		case a.From == to && (a.Outcome == evidence.Answered || a.Outcome == evidence.Refused):
			state = "destination"
		case a.Outcome == evidence.Unreachable || a.Outcome == evidence.Refused:
			state, h.said = "refused", a.Why.String()
		}
		if h.State != "destination" {
			h.State = state
		}
	}
	for from, list := range times {
		slices.Sort(list)
		mid, _ := rtt.Quantile(list, .5)
		h.Answers = append(h.Answers, Answer{From: from.String(), Name: names[from], Received: len(list), median: mid,
			RTT: map[string]float64{"low": micros(list[0]), "median": micros(mid), "high": micros(list[len(list)-1])}})
	}
	slices.SortFunc(h.Answers, func(a, b Answer) int { return cmp.Compare(a.From, b.From) })
	return h
}

// WriteJSON writes the trace as one JSON object.
func (t Trace) WriteJSON(w io.Writer) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	return e.Encode(t)
}

var segmentWords = map[path.Segment]string{
	path.LocalSubnet: "this subnet", path.Private: "further private routers", path.Provider: "provider", path.Far: "far network", path.Destination: "destination", path.Unknown: "",
}

// WriteText writes the trace for a person: by stretches, the stations under each.
func (t Trace) WriteText(w io.Writer) error {
	method := map[string]string{"icmp": "ICMP echo", "udp": "UDP", "tcp": "TCP connections"}[t.Method]
	fmt.Fprintf(w, "to %s by %s\n", place(t.Target, t.Address), method)
	segment := path.Unknown
	for _, h := range t.Hops {
		if h.Segment != segment && h.Segment != path.Unknown {
			segment = h.Segment
			fmt.Fprintf(w, "  %s\n", segmentWords[segment])
		}
		if len(h.Answers) == 0 {
			note := "keeps silent"
			if h.TTL < len(t.Hops) {
				note += "; harmless, later ones answer"
			}
			fmt.Fprintf(w, "    ┈┈ station %-3d %s\n", h.TTL, note)
		}
		for _, a := range h.Answers {
			shape, said := "━━", ""
			if h.State == "refused" {
				shape, said = "━╳", "says: "+h.said
			}
			fmt.Fprintf(w, "    %s station %-3d %9s   %s  %s\n", shape, h.TTL, fault.Millis(a.median), place(a.Name, a.From), said)
		}
	}
	end := "The destination was reached"
	if !t.Reached {
		end = "The destination was not reached"
		if n := len(t.Hops); n > 0 {
			end += fmt.Sprintf("; nothing answers after station %d", n)
		}
	}
	_, err := fmt.Fprintf(w, "%s, %s.\n", end, fault.Millis(t.took))
	return err
}

func place(name, address string) string {
	if name == "" || name == address {
		return address
	}
	return name + " " + address
}
