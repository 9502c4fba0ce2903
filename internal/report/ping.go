package report

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"net/netip"
	"strings"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/series"
	"passepartout/internal/core/wording"
	"passepartout/internal/probe/watch"
)

// PingSchema names the shape of ping's JSON lines.
const PingSchema = "passepartout.ping/1"

type probeJSON struct {
	Schema       string    `json:"schema"`
	Target       string    `json:"target"`
	Address      string    `json:"address"`
	Method       string    `json:"method"`
	Seq          int       `json:"seq"`
	SentAt       time.Time `json:"sent_at"`
	Outcome      string    `json:"outcome"`
	From         string    `json:"from,omitempty"`
	RTT          *float64  `json:"rtt_us,omitempty"`
	HopLimitLeft int       `json:"hop_limit_left,omitempty"`
	ICMPType     *uint8    `json:"icmp_type,omitempty"`
	ICMPCode     *uint8    `json:"icmp_code,omitempty"`
	Reason       string    `json:"reason,omitempty"`
	Payload      int       `json:"payload_bytes"`
}

type summaryJSON struct {
	Schema  string `json:"schema"`
	Summary struct {
		Target      string             `json:"target"`
		Address     string             `json:"address"`
		Received    int                `json:"received"`
		Sent        int                `json:"sent"`
		LossRuns    []int              `json:"loss_runs"`
		RTT         map[string]float64 `json:"rtt_us"`
		IPDV        map[string]float64 `json:"ipdv_us"`
		AboveLeast  *float64           `json:"p95_above_least_us,omitempty"`
		Late        int                `json:"late"`
		Unreachable int                `json:"unreachable"`
		NotSent     int                `json:"not_sent"`
		Duplicates  int                `json:"duplicates"`
	} `json:"summary"`
}

// Ping writes the probes of one run as they end, and its summaries.
type Ping struct {
	W      io.Writer
	Format string // text, json or csv
	Many   bool   // several targets: lines for people name theirs
}

// outcome gives the contract's word for what became of a probe.
func outcome(r watch.Result) string {
	switch {
	case r.Again:
		return "duplicate"
	case r.Fate == series.Replied:
		return "reply"
	case r.Fate == series.NotSent:
		return "local-error"
	case r.Fate == series.Silent:
		return "timeout"
	}
	return r.Fate.String()
}

// Reason says in words why there was no reply.
func Reason(r evidence.Reply) string {
	switch r.Outcome {
	case evidence.LocalError, evidence.Malformed:
		return r.Reason
	case evidence.Expired:
		return "hop limit ran out on the way"
	}
	if r.Outcome == evidence.Refused && r.Why == evidence.NoReason { // a reset (RFC 9293 §3.5.2)
		return "connection refused"
	}
	if r.Why == evidence.TooBig && r.MTU > 0 {
		return fmt.Sprintf("%v, which takes %d octets", r.Why, r.MTU)
	}
	return r.Why.String()
}

func micros(d time.Duration) float64 { return float64(d.Nanoseconds()/100) / 10 }

// Head writes what comes before the first probe.
func (o Ping) Head() error {
	if o.Format != "csv" {
		return nil
	}
	return csvRow(o.W, "target", "address", "method", "seq", "sent_at", "outcome", "from", "rtt_us", "hop_limit_left", "icmp_type",
		"icmp_code", "reason", "payload_bytes")
}

// Probe writes the end of one probe.
func (o Ping) Probe(s *watch.Subject, r watch.Result) error {
	word := outcome(r)
	if o.Format == "text" {
		return o.line(s, r, word)
	}
	out := probeJSON{Schema: PingSchema, Target: s.Target.Host(), Address: s.Address.String(), Method: r.Method, Seq: r.Number,
		SentAt: r.SentAt.UTC().Truncate(time.Microsecond), Outcome: word, HopLimitLeft: r.HopLimitLeft, Payload: s.Octets()}
	if r.Came() {
		out.From = r.From.String()
		t := micros(r.RTT)
		out.RTT = &t
	}
	if word == "unreachable" {
		if out.Reason = Reason(r.Reply); r.ICMPType > 0 { // a connection is refused without one
			out.ICMPType, out.ICMPCode = &r.ICMPType, &r.ICMPCode
		}
	}
	if word == "local-error" || word == "timeout" {
		out.Reason = r.Reply.Reason
	}
	if o.Format == "json" {
		return json.NewEncoder(o.W).Encode(out)
	}
	return csvRow(o.W, out.Target, out.Address, out.Method, out.Seq, out.SentAt.Format(time.RFC3339Nano), out.Outcome, out.From, out.RTT,
		out.HopLimitLeft, out.ICMPType, out.ICMPCode, out.Reason, out.Payload)
}

func (o Ping) line(s *watch.Subject, r watch.Result, word string) error {
	shape, rest := "━━", wording.Millis(r.RTT)
	switch word {
	case "timeout":
		shape, word, rest = "┈┈", "no answer", "after "+wording.Millis(r.Waited)
		if r.Reply.Reason != "" {
			rest = r.Reply.Reason
		}
	case "unreachable":
		shape, rest = "━╳", fmt.Sprintf("%v says: %s", r.From, Reason(r.Reply))
	case "local-error":
		shape, word, rest = "━╳", "not sent", r.Reply.Reason
	case "late", "duplicate":
		shape = "╍╍"
	}
	name := ""
	if o.Many {
		name = fmt.Sprintf("%-28s ", s.Name())
	}
	_, err := fmt.Fprintf(o.W, "%4d  %s%s %-12s %s\n", r.Number, name, shape, word, rest)
	return err
}

// Summary writes what the probes to one target come to.
func (o Ping) Summary(name string, address netip.Addr, s series.Summary) error {
	runs := []int{}
	for _, r := range s.LossRuns {
		runs = append(runs, r.Length)
	}
	switch o.Format {
	case "csv":
		return nil // the rows are the result; whoever reads them sums up
	case "json":
		out := summaryJSON{Schema: PingSchema}
		x := &out.Summary
		x.Target, x.Received, x.Sent, x.LossRuns, x.Late, x.Unreachable, x.NotSent, x.Duplicates = name, s.Received, s.Sent()+s.NotSent,
			runs, s.Late, s.Unreachable, s.NotSent, s.Again
		if address.IsValid() {
			x.Address = address.String()
		}
		x.RTT, x.IPDV = map[string]float64{}, map[string]float64{}
		if s.Times.Known {
			x.RTT = map[string]float64{"p05": micros(s.Times.P05), "p50": micros(s.Times.Median), "p95": micros(s.Times.P95),
				"p99": micros(s.Times.P99)}
			above := micros(s.Above)
			x.AboveLeast = &above
		}
		if s.Variation.Known {
			x.IPDV = map[string]float64{"p50": micros(s.Variation.Median), "p95": micros(s.Variation.P95)}
		}
		return json.NewEncoder(o.W).Encode(out)
	}
	_, err := fmt.Fprintln(o.W, SummaryLine(name, o.Many, s))
	return err
}

// SummaryLine is a summary for a person.
func SummaryLine(name string, named bool, s series.Summary) string {
	var parts []string
	if named {
		parts = append(parts, name)
	}
	parts = append(parts, fmt.Sprintf("%d of %d came back", s.Received, s.Sent()+s.NotSent))
	for _, n := range []struct {
		count int
		what  string
	}{{s.Late, "late"}, {s.Unreachable, "unreachable"}, {s.NotSent, "not sent"}, {s.Again, "twice"}} {
		if n.count > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n.count, n.what))
		}
	}
	if len(s.LossRuns) > 0 {
		var runs []string
		for _, r := range s.LossRuns {
			runs = append(runs, fmt.Sprint(r.Length))
		}
		const most = 20
		more := ""
		if len(runs) > most {
			more, runs = fmt.Sprintf(" … (%d runs)", len(runs)), runs[:most]
		}
		parts = append(parts, "lost in runs of "+strings.Join(runs, " ")+more)
	}
	if s.Times.Known {
		parts = append(parts, fmt.Sprintf("half within %s", wording.Millis(s.Times.Median)),
			fmt.Sprintf("most between %s and %s", wording.Millis(s.Times.P05), wording.Millis(s.Times.P95)))
	}
	if s.Variation.Known {
		parts = append(parts, "from one to the next mostly within "+wording.Millis(s.Variation.P95))
	}
	return strings.Join(parts, " · ")
}

// csvRow writes one row (RFC 4180). Nil pointers and empty values leave their field empty.
func csvRow(w io.Writer, values ...any) error {
	row := make([]string, len(values))
	for i, v := range values {
		switch v := v.(type) {
		case string:
			row[i] = cell(v)
		case *float64:
			if v != nil {
				row[i] = fmt.Sprint(*v)
			}
		case *uint8:
			if v != nil {
				row[i] = fmt.Sprint(*v)
			}
		default:
			row[i] = fmt.Sprint(v)
		}
	}
	out := csv.NewWriter(w)
	if err := out.Write(row); err != nil {
		return err
	}
	out.Flush()
	return out.Error()
}

// cell is text as a spreadsheet takes it for text: what begins as a formula does, and may come from the network, is quoted.
func cell(text string) string {
	if text != "" && strings.ContainsRune("=+-@", rune(text[0])) {
		return "'" + text
	}
	return text
}
