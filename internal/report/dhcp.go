package report

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"net/netip"
	"strings"
	"time"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/wiretext"
)

// DHCPSchema names the shape of the JSON of exchanges.
const DHCPSchema = "passepartout.dhcp/1"

type exchangeJSON struct {
	XID       string        `json:"xid"`
	Client    string        `json:"client"`
	ClientID  string        `json:"client_id,omitempty"`
	Hostname  string        `json:"hostname"`
	Relay     string        `json:"relay"`
	Outcome   dhcp.Outcome  `json:"outcome"`
	Address   string        `json:"address"`
	Prefix    int           `json:"prefix_length,omitempty"`
	Routers   []netip.Addr  `json:"routers"`
	Resolvers []netip.Addr  `json:"resolvers"`
	Domain    string        `json:"domain"`
	Search    []string      `json:"search,omitempty"`
	Server    string        `json:"server"`
	Lease     *int64        `json:"lease_s,omitempty"`
	T1        *int64        `json:"t1_s,omitempty"`
	T2        *int64        `json:"t2_s,omitempty"`
	Endless   bool          `json:"endless,omitempty"`
	Requested string        `json:"requested"`
	Messages  []messageJSON `json:"messages"`
	Unkept    int           `json:"messages_not_kept,omitempty"`
	Remarks   []string      `json:"remarks"`
}

type messageJSON struct {
	Frame        int              `json:"frame,omitempty"`
	At           time.Time        `json:"at"`
	Type         dhcp.Type        `json:"type"`
	From         string           `json:"from"`
	To           string           `json:"to"`
	Broadcast    bool             `json:"broadcast"`
	Server       string           `json:"server"`
	Relay        string           `json:"relay"`
	Requested    string           `json:"requested"`
	Offered      string           `json:"offered"`
	Acknowledged string           `json:"acknowledged"`
	XID          string           `json:"xid"`
	State        string           `json:"state,omitempty"`
	Again        int              `json:"again,omitempty"`
	Waited       float64          `json:"waited_s,omitempty"`
	Copy         bool             `json:"copy,omitempty"`
	Options      []dhcp.Described `json:"options"`
}

// known writes an address; none is the empty string.
func known(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}

func toExchangeJSON(e *dhcp.Exchange) exchangeJSON {
	t := e.Terms
	out := exchangeJSON{XID: fmt.Sprintf("0x%08x", e.XID), Client: e.Client.String(), ClientID: e.ClientID, Hostname: e.Hostname,
		Relay: known(e.Relay), Outcome: e.Outcome,
		Address: known(t.Address), Prefix: t.PrefixLength, Routers: orEmpty(t.Routers), Resolvers: orEmpty(t.Resolvers), Domain: t.Domain,
		Search: t.Search,
		Server: known(e.Server), Endless: t.IsEndless(), Requested: known(e.Requested), Unkept: e.Unkept, Remarks: orEmpty(e.Remarks),
		Messages: []messageJSON{}}
	if t.Lease > 0 {
		whole := func(d time.Duration) *int64 { s := int64(d / time.Second); return &s }
		out.Lease = whole(t.Lease)
		if !t.IsEndless() {
			out.T1, out.T2 = whole(t.T1), whole(t.T2)
		}
	}
	for i := range e.Steps {
		s := &e.Steps[i]
		m := &s.Message
		line := messageJSON{Frame: s.Frame, At: s.At.UTC(), Type: m.Type, From: s.From.String(), To: s.To.String(),
			Broadcast: s.Broadcast(), Server: known(m.Server()), Relay: known(m.Relay),
			Requested: known(m.Requested()), XID: fmt.Sprintf("0x%08x", m.XID), State: s.State.String(), Again: s.Again,
			Waited: s.Waited.Seconds(), Copy: s.Copy, Options: m.Described()}
		switch m.Type {
		case dhcp.Offer:
			line.Offered = known(m.Your)
		case dhcp.Ack:
			line.Acknowledged = known(m.Your)
		case dhcp.Request, dhcp.Inform, dhcp.Release:
			if line.Requested == "" {
				line.Requested = known(m.Own)
			}
		}
		out.Messages = append(out.Messages, line)
	}
	return out
}

func orEmpty[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// Skipped is a frame that could not be read.
type Skipped struct {
	Frame int    `json:"frame"`
	Why   string `json:"why"`
}

// mostSkipped is how many unreadable frames are named; the others are counted.
const mostSkipped = 1000

// Exchanges writes exchanges as they end. Begin, Write for each, and End, in this order, from one goroutine.
type Exchanges struct {
	W      io.Writer
	Format string // text or json
	File   string
	Filter dhcp.Filter

	w        *bufio.Writer
	err      error
	written  int
	left     int // that the filter left out
	outcomes map[dhcp.Outcome]int
	skipped  []Skipped
	unnamed  int
}

// Begin writes what stands at the top.
func (x *Exchanges) Begin() {
	x.w, x.outcomes = bufio.NewWriterSize(x.W, 1<<16), map[dhcp.Outcome]int{}
	if x.Format == "json" {
		name, _ := json.Marshal(x.File)
		x.printf("{\"schema\":%q,\"file\":%s,\"exchanges\":[", DHCPSchema, name)
	}
}

func (x *Exchanges) printf(format string, args ...any) {
	if x.err == nil {
		_, x.err = fmt.Fprintf(x.w, format, args...)
	}
}

// Skip notes a frame that could not be read.
func (x *Exchanges) Skip(frame int, why string) {
	if len(x.skipped) < mostSkipped {
		x.skipped = append(x.skipped, Skipped{frame, wiretext.Clean(why)})
	} else {
		x.unnamed++
	}
}

// Write writes one exchange, if the filter lets it pass.
func (x *Exchanges) Write(e *dhcp.Exchange) {
	if !x.Filter.Matches(e) {
		x.left++
		return
	}
	x.outcomes[e.Outcome]++
	if x.Format == "json" {
		raw, err := json.Marshal(toExchangeJSON(e))
		if err != nil && x.err == nil {
			x.err = err
		}
		if x.written > 0 {
			x.printf(",")
		}
		x.printf("\n%s", raw)
	} else {
		x.text(e)
	}
	x.written++
}

// End writes the counts and what could not be read.
func (x *Exchanges) End(frames int, t *dhcp.Tracker) error {
	if x.Format == "json" {
		end := struct {
			Skipped  []Skipped      `json:"skipped"`
			Unnamed  int            `json:"skipped_further,omitempty"`
			Frames   int            `json:"frames"`
			Filtered int            `json:"exchanges_filtered,omitempty"`
			Evicted  int            `json:"exchanges_closed_early,omitempty"`
			Outcomes map[string]int `json:"outcomes"`
			Counts   map[string]int `json:"counts"`
		}{orEmpty(x.skipped), x.unnamed, frames, x.left, t.Evicted, map[string]int{}, map[string]int{}}
		for o, n := range x.outcomes {
			end.Outcomes[o.String()] = n
		}
		for _, k := range dhcp.Types() {
			end.Counts[k.String()] = t.Counts[k]
		}
		raw, err := json.Marshal(end)
		if err != nil {
			return err
		}
		x.printf("\n],%s\n", raw[1:])
	} else {
		x.summary(frames, t)
	}
	if x.err != nil {
		return x.err
	}
	return x.w.Flush()
}

func (x *Exchanges) summary(frames int, t *dhcp.Tracker) {
	var counts, outcomes []string
	for _, k := range dhcp.Types() {
		if n := t.Counts[k]; n > 0 {
			counts = append(counts, fmt.Sprintf("%d %s", n, k))
		}
	}
	for _, o := range dhcp.Outcomes() {
		if n := x.outcomes[o]; n > 0 {
			outcomes = append(outcomes, fmt.Sprintf("%d %s", n, o))
		}
	}
	x.printf("%s: %d frames, %d DHCP messages", wiretext.Clean(x.File), frames, t.Messages)
	if len(counts) > 0 {
		x.printf(": %s", strings.Join(counts, ", "))
	}
	x.printf("\n%d exchanges", x.written)
	if len(outcomes) > 0 {
		x.printf(": %s", strings.Join(outcomes, ", "))
	}
	if x.left > 0 {
		x.printf("; %d more do not match the filter", x.left)
	}
	x.printf("\n")
	if t.Evicted > 0 {
		x.printf("%d exchanges were closed early: more than %d clients were open at once\n", t.Evicted, dhcp.MostClients)
	}
	for i, s := range x.skipped {
		if i == 20 {
			x.printf("  … and %d further frames; the JSON names them\n", len(x.skipped)-i+x.unnamed)
			break
		}
		x.printf("frame %d was not read: %s\n", s.Frame, s.Why)
	}
}

// text writes one exchange for people.
func (x *Exchanges) text(e *dhcp.Exchange) {
	who := e.Client.String()
	if e.Hostname != "" {
		who = e.Hostname + "  " + who
	}
	x.printf("%s   %s\n", who, ExchangeWords(e))
	l := e.Ladder()
	widths := LadderWidths(l, 38)
	x.printf("  %s\n", LadderHead(l, widths, 24))
	for _, r := range l.Rungs {
		x.printf("  %s  %-40s  %s\n", RungTime(r), RungLine(l, r, widths), r.Words)
	}
	for _, line := range e.Remarks {
		x.printf("  ! %s\n", line)
	}
	x.printf("\n")
}

// ExchangeWords say in a line how an exchange ended.
func ExchangeWords(e *dhcp.Exchange) string {
	t := e.Terms
	by := ""
	if e.Server.IsValid() {
		by = fmt.Sprintf(" by %v", e.Server)
	}
	through := ""
	if e.Relay.IsValid() {
		through = fmt.Sprintf(", through the relay %v", e.Relay)
	}
	lasting := ""
	if t.Lease > 0 {
		lasting = " for " + LeaseTime(t.Lease)
	}
	switch e.Outcome {
	case dhcp.BoundTo, dhcp.Renewed, dhcp.Rebound:
		return fmt.Sprintf("%s: %v%s%s%s", e.Outcome, t.Prefix(), by, lasting, through)
	case dhcp.Informed:
		return fmt.Sprintf("informed%s, no lease asked for%s", by, through)
	case dhcp.Offered:
		return fmt.Sprintf("offered %v%s, and the client asked for nothing%s", t.Prefix(), by, through)
	case dhcp.Refused:
		if e.Requested.IsValid() {
			return fmt.Sprintf("refused%s: %v%s", by, e.Requested, through)
		}
		return "refused" + by + through
	case dhcp.Declined:
		return fmt.Sprintf("declined by the client: %v, given%s%s", t.Address, by, through)
	case dhcp.Released:
		return fmt.Sprintf("released: %v, given back%s", t.Address, strings.Replace(by, " by ", " to ", 1))
	}
	return "unanswered" + through
}

// LeaseTime writes a lease time with the largest units that say it exactly enough.
func LeaseTime(d time.Duration) string {
	switch {
	case d == dhcp.Endless:
		return "ever"
	case d < time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < time.Hour:
		return unit(d, time.Minute, "min", time.Second, "s")
	case d < 48*time.Hour:
		return unit(d, time.Hour, "h", time.Minute, "min")
	}
	return unit(d, 24*time.Hour, "days", time.Hour, "h")
}

func unit(d, large time.Duration, name string, small time.Duration, rest string) string {
	out := fmt.Sprintf("%d %s", d/large, name)
	if left := d % large / small; left > 0 {
		out += fmt.Sprintf(" %d %s", left, rest)
	}
	return out
}
