package report

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"passepartout/internal/core/blame"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/path"
	"passepartout/internal/core/series"
	"passepartout/internal/core/topology"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
	"passepartout/internal/draw"
	"passepartout/internal/probe/watch"
)

// Times is what a watch comes to, ready to be drawn or listed: copied, so that the watch may go on.
type Times struct {
	Start    time.Time
	From, To time.Duration
	Targets  []Watched
	Outages  []blame.Outage
	Blame    bool
}

// Watched is one target of a watch.
type Watched struct {
	Name    string
	Zone    zone.Zone
	Address netip.Addr
	Method  string
	Summary series.Summary
	RTTs    []time.Duration
	Points  []series.Point
}

// TimesOf copies what a watcher shows within See. ledger is nil where nobody is a witness.
func TimesOf(start time.Time, now time.Duration, subjects []*watch.Subject, ledger *blame.Ledger) Times {
	t := Times{Start: start, To: now}
	for _, s := range subjects {
		t.Targets = append(t.Targets,
			Watched{Name: wiretext.Clean(s.Name()), Zone: s.Zone, Address: s.Address, Method: string(s.Method), Summary: s.Record.Summary(),
				RTTs: s.Record.RTTs(), Points: s.Record.All()})
		t.Blame = t.Blame || s.Rank > 1
	}
	if ledger != nil {
		t.Outages = ledger.Outages()
	} else {
		t.Blame = false
	}
	return t
}

// mostLanes is how many targets one page shows; the others are in the data.
const mostLanes = 8

// Page draws the watch: times over time, and their distribution.
func (t Times) Page(endpoint string) draw.Page {
	targets := t.Targets[:min(len(t.Targets), mostLanes)]
	p := draw.Page{Title: "Round trips over time", At: t.Start, Lines: []string{
		fmt.Sprintf("from %s  ·  %s to %s  ·  times of day are this machine's", endpoint, t.Start.Add(t.From).Format("2006-01-02 15:04:05"),
			wording.Clock(t.Start.Add(t.To))),
	}}
	if n := len(t.Targets); n > mostLanes {
		p.Lines = append(p.Lines, fmt.Sprintf("the first %d of %d targets; the data has all", mostLanes, n))
	}
	figure := draw.Times{Start: t.Start, From: t.From, To: t.To, Blame: t.Blame}
	spread := draw.Spread{}
	for _, w := range targets {
		note := fmt.Sprintf("%d of %d lost", w.Summary.Lost(), w.Summary.Sent())
		if w.Summary.Times.Known {
			note = fmt.Sprintf("median %s, ± %s; ", wording.Millis(w.Summary.Times.Median), wording.Millis(w.Summary.Times.Half())) + note
		}
		if n := w.Summary.Late; n > 0 {
			note += fmt.Sprintf(" (%d late)", n)
		}
		name := w.Name
		if a := w.Address.String(); w.Address.IsValid() && a != name {
			name += " " + a
		}
		figure.Lanes = append(figure.Lanes, draw.Lane{Name: name, Zone: w.Zone, Note: note, Points: w.Points})
		spread.Curves = append(spread.Curves, draw.Curve{Name: w.Name, RTTs: w.RTTs, Sent: w.Summary.Sent()})
	}
	p.Parts = append(p.Parts, figure, spread)
	const mostListed = 12
	for i, o := range slices.Backward(t.Outages) {
		figure.Bands = append(figure.Bands, draw.Band{From: o.From, To: o.To, Zone: o.Zone})
		if len(t.Outages)-i <= mostListed {
			p.Parts = append(p.Parts, draw.Words{Text: t.OutageLine(o)})
		}
	}
	p.Parts[0] = figure
	return p
}

// OutageLine is one outage for a person.
func (t Times) OutageLine(o blame.Outage) string {
	return fmt.Sprintf("%s  %s  %s: %s", wording.Clock(t.Start.Add(o.From)), wording.Lasting(o.Length()), o.Zone, o.Evidence())
}

// Page draws a trace.
func (t Trace) Page(endpoint string, at time.Time) draw.Page {
	p := draw.Page{Title: "Path to " + place(t.Target, t.Address), At: at, Lines: []string{
		fmt.Sprintf("from %s  ·  %s  ·  %d rounds  ·  %s  ·  %s", endpoint, MethodWords[t.Method], t.Rounds,
			at.Format("2006-01-02 15:04:05"), wording.Millis(t.took)),
	}}
	figure := draw.Path{Reached: t.Reached}
	for i, pl := range t.places {
		h := t.Hops[i]
		s := draw.Stop{HopLimit: h.TTL, Segment: SegmentWords[h.Segment], Sent: h.Sent, Received: h.Received,
			Destination: pl.State == path.DestinationState, Refuses: pl.State == path.Refuses}
		if len(h.Answers) > 0 {
			v := pl.Voices[0]
			s.Answers, s.Name, s.Address, s.Low, s.Median, s.High = true, h.Answers[0].Name, h.Answers[0].From, v.Times.Least,
				v.Times.Median, v.Times.Top
			if len(h.Answers) > 1 {
				s.Name = fmt.Sprintf("%s and %d more", s.Name, len(h.Answers)-1)
			}
		}
		for _, r := range t.Remarks {
			if r.TTL == h.TTL {
				if s.Remark != "" {
					s.Remark += "; "
				}
				s.Remark += r.Words
				s.Bad = s.Bad || !r.Harmless
			}
		}
		figure.Stops = append(figure.Stops, s)
	}
	if !t.Reached {
		figure.Ending = "ends here: nothing behind it answers"
	}
	p.Parts = []draw.Figure{figure}
	return p
}

// CheckPage draws a verdict with the line.
func CheckPage(s *evidence.Set, r verdict.Result, at time.Time) draw.Page {
	host := ""
	if s.Endpoint != nil {
		host = wiretext.Clean(s.Endpoint.Host)
	}
	about := s.Target.String()
	if s.Target.IsZero() {
		about = "gateway, name servers and who answers past them; no target was given"
	}
	p := draw.Page{Title: "Can " + host + " reach it?  " + about, At: at,
		Lines: []string{
			fmt.Sprintf("interface %s  ·  %s  ·  in %s", s.Interface, at.Format("2006-01-02 15:04:05"), wording.Millis(s.Elapsed))}}
	p.Parts = append(p.Parts, draw.Line{Line: topology.Of(s, r)}, draw.Words{Head: Headline(r), Text: r.Sentence})
	for _, a := range r.Also {
		p.Parts = append(p.Parts, draw.Words{Text: "Also: " + a.Sentence})
	}
	for _, n := range r.Next {
		p.Parts = append(p.Parts, draw.Words{Text: "Next: " + n})
	}
	return p
}
