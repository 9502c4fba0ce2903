package report

import (
	"encoding/json"
	"fmt"
	"io"
	"net/netip"
	"strings"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/rtt"
	"passepartout/internal/probe"
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
		Target   string             `json:"target"`
		Address  string             `json:"address"`
		Received int                `json:"received"`
		Sent     int                `json:"sent"`
		LossRuns []int              `json:"loss_runs"`
		RTT      map[string]float64 `json:"rtt_us"`
		IPDV     map[string]float64 `json:"ipdv_us"`
	} `json:"summary"`
}

// Ping writes the probes of one run as they end, and its summary.
type Ping struct {
	W       io.Writer
	JSON    bool
	Target  string
	Address netip.Addr
}

// outcome gives the contract's word for what became of a probe.
func outcome(p probe.Probe) string {
	switch {
	case p.Again:
		return "duplicate"
	case p.Late && p.Outcome == evidence.Answered:
		return "late"
	}
	switch p.Outcome {
	case evidence.Answered:
		return "reply"
	case evidence.Silent, evidence.NotKnown:
		return "timeout"
	case evidence.LocalError:
		return "local-error"
	}
	return "unreachable"
}

// reason says in words why there was no reply.
func reason(r evidence.Reply) string {
	switch r.Outcome {
	case evidence.LocalError, evidence.Nonsense:
		return r.Reason
	case evidence.Expired:
		return "hop limit ran out on the way"
	}
	return r.Why.String()
}

func micros(d time.Duration) float64 { return float64(d.Nanoseconds()/100) / 10 }

// Probe writes one probe.
func (o Ping) Probe(p probe.Probe) error {
	word := outcome(p)
	if o.JSON {
		out := probeJSON{Schema: PingSchema, Target: o.Target, Address: o.Address.String(), Method: p.Method, Seq: p.Seq, SentAt: p.SentAt.UTC().Truncate(time.Microsecond), Outcome: word, HopLimitLeft: p.HopLimitLeft, Payload: p.Size}
		if p.Came() {
			out.From = p.From.String()
			t := micros(p.RTT)
			out.RTT = &t
		}
		if word == "unreachable" {
			out.ICMPType, out.ICMPCode, out.Reason = &p.ICMPType, &p.ICMPCode, reason(p.Reply)
		}
		if word == "local-error" {
			out.Reason = p.Reason
		}
		return json.NewEncoder(o.W).Encode(out)
	}
	shape, rest := "━━", fault.Millis(p.RTT)
	switch word {
	case "timeout":
		shape, word, rest = "┈┈", "no answer", "after "+fault.Millis(p.Waited)
	case "unreachable":
		shape, rest = "━╳", fmt.Sprintf("%v says: %s", p.From, reason(p.Reply))
	case "local-error":
		shape, word, rest = "━╳", "not sent", p.Reason
	case "late", "duplicate":
		shape = "╍╍"
	}
	_, err := fmt.Fprintf(o.W, "%4d  %s %-12s %s\n", p.Seq, shape, word, rest)
	return err
}

// Summary writes what the run comes to.
func (o Ping) Summary(s rtt.Summary) error {
	at := func(list []time.Duration, q float64) float64 { d, _ := rtt.Quantile(list, q); return micros(d) }
	if o.JSON {
		out := summaryJSON{Schema: PingSchema}
		out.Summary.Target, out.Summary.Received, out.Summary.Sent, out.Summary.LossRuns = o.Target, s.Received, s.Sent, some(s.LossRuns)
		if o.Address.IsValid() {
			out.Summary.Address = o.Address.String()
		}
		out.Summary.RTT, out.Summary.IPDV = map[string]float64{}, map[string]float64{}
		if len(s.RTT) > 0 {
			out.Summary.RTT = map[string]float64{"p05": at(s.RTT, .05), "p50": at(s.RTT, .5), "p95": at(s.RTT, .95), "p99": at(s.RTT, .99)}
		}
		if len(s.Variation) > 0 {
			out.Summary.IPDV = map[string]float64{"p50": at(s.Variation, .5), "p95": at(s.Variation, .95)}
		}
		return json.NewEncoder(o.W).Encode(out)
	}
	parts := []string{fmt.Sprintf("%d of %d came back", s.Received, s.Sent)}
	if len(s.LossRuns) > 0 {
		parts = append(parts, "lost in runs of "+strings.Trim(fmt.Sprint(s.LossRuns), "[]"))
	}
	if len(s.RTT) > 0 {
		low, _ := rtt.Quantile(s.RTT, .05)
		mid, _ := rtt.Quantile(s.RTT, .5)
		high, _ := rtt.Quantile(s.RTT, .95)
		parts = append(parts, fmt.Sprintf("half within %s", fault.Millis(mid)), fmt.Sprintf("most between %s and %s", fault.Millis(low), fault.Millis(high)))
	}
	_, err := fmt.Fprintln(o.W, strings.Join(parts, " · "))
	return err
}
