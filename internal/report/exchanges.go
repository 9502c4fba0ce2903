package report

import (
	"fmt"
	"io"
	"net/netip"
	"strings"
	"text/tabwriter"
	"time"

	"passepartout/internal/core/exchange"
	"passepartout/internal/core/wording"
)

// ExchangesSchema names the shape of the JSON.
const ExchangesSchema = "passepartout.exchanges/1"

// mostExchanges are listed: the first of a file. The others are counted.
const mostExchanges = 100_000

// Passing are the exchanges of a capture.
type Passing struct {
	File    string
	Frames  int
	Unknown int // frames of a link type that is not known here
	List    []exchange.Exchange
	More    int // that are not in the list
}

// Take adds one.
func (e *Passing) Take(x exchange.Exchange) {
	if len(e.List) >= mostExchanges {
		e.More++
		return
	}
	e.List = append(e.List, x)
}

// endOf gives an end of an exchange: without a port where there is none.
func endOf(a netip.AddrPort) string {
	switch {
	case !a.Addr().IsValid():
		return ""
	case a.Port() == 0:
		return a.Addr().String()
	}
	return a.String()
}

// WriteJSON writes them as one object.
func (e *Passing) WriteJSON(w io.Writer) error {
	type row struct {
		Kind     exchange.Kind    `json:"kind"`
		From     string           `json:"from"`
		To       string           `json:"to"`
		Asked    string           `json:"asked"`
		Answer   string           `json:"answer"`
		Outcome  exchange.Outcome `json:"outcome"`
		Began    time.Time        `json:"began"`
		Took     *float64         `json:"took_ms"`
		Asks     int              `json:"asks"`
		First    int              `json:"first_frame"`
		Last     int              `json:"last_frame"`
		Hardware []string         `json:"hardware_addresses,omitempty"`
	}
	out := struct {
		Schema    string `json:"schema"`
		File      string `json:"file"`
		Frames    int    `json:"frames"`
		Unknown   int    `json:"unknown_frames,omitempty"`
		Exchanges []row  `json:"exchanges"`
		More      int    `json:"more,omitempty"`
	}{ExchangesSchema, e.File, e.Frames, e.Unknown, []row{}, e.More}
	for _, x := range e.List {
		r := row{x.Kind, endOf(x.From), endOf(x.To), x.Asked, x.Answer, x.Outcome, x.Began.UTC(), nil, x.Asks, x.First, x.Last, nil}
		if x.Took > 0 {
			ms := float64(x.Took.Microseconds()) / 1000
			r.Took = &ms
		}
		for _, h := range x.Holders {
			r.Hardware = append(r.Hardware, h.String())
		}
		out.Exchanges = append(out.Exchanges, r)
	}
	return writeJSON(w, out)
}

// WriteCSV writes one line an exchange (RFC 4180).
func (e *Passing) WriteCSV(w io.Writer) error {
	if err := csvRow(w, "kind", "from", "to", "asked", "answer", "outcome", "began", "took_ms", "asks", "first_frame",
		"last_frame"); err != nil {
		return err
	}
	for _, x := range e.List {
		took := ""
		if x.Took > 0 {
			took = fmt.Sprint(float64(x.Took.Microseconds()) / 1000)
		}
		if err := csvRow(w, string(x.Kind), endOf(x.From), endOf(x.To), x.Asked, x.Answer, string(x.Outcome),
			x.Began.UTC().Format(time.RFC3339Nano), took,
			x.Asks, x.First, x.Last); err != nil {
			return err
		}
	}
	return nil
}

// outcomes are in the words of a person.
var outcomes = map[exchange.Outcome]string{exchange.Unanswered: "no answer",
	exchange.Free: "nobody has it", exchange.Taken: "somebody has it", exchange.Answered: "answered", exchange.Refused: "refused",
	exchange.Failed: "the server could not", exchange.NoSuch: "there is no such name", exchange.Reset: "broken off",
	exchange.Closed: "closed",
	exchange.Told:   "told", exchange.Said: "said", exchange.Waiting: "waiting"}

// PassingWords say who asked whom, what, and what became of it.
func PassingWords(x exchange.Exchange) (who, what, outcome string) {
	who = endOf(x.From)
	if to := endOf(x.To); to != "" && x.Kind != exchange.Address && x.Kind != exchange.Neighbour {
		who += " → " + to
	}
	what = x.Asked
	if x.Asks > 1 {
		what += ", asked " + wording.Times(x.Asks)
	}
	outcome = outcomes[x.Outcome]
	if x.Took > 0 {
		outcome += " after " + wording.Millis(x.Took)
	}
	if x.Answer != "" {
		outcome += ": " + x.Answer
	}
	if len(x.Holders) > 1 {
		outcome += " (several answer)"
	}
	return who, what, outcome
}

// WriteText writes them for people, in the order in which they began.
func (e *Passing) WriteText(w io.Writer) error {
	t := tabwriter.NewWriter(w, 0, 8, 2, ' ', 0)
	for i, x := range e.List {
		if i == 0 {
			fmt.Fprintln(t, "began\tframes\twho\twhat\toutcome")
		}
		who, what, outcome := PassingWords(x)
		frames := fmt.Sprint(x.First)
		if x.Last != x.First {
			frames += "–" + fmt.Sprint(x.Last)
		}
		fmt.Fprintf(t, "%s\t%s\t%s\t%s\t%s\n", x.Began.Local().Format("15:04:05.000"), frames, who, what, outcome)
	}
	if err := t.Flush(); err != nil {
		return err
	}
	parts := []string{wording.Plural(e.Frames, "frame", "frames"), wording.Plural(len(e.List)+e.More, "exchange", "exchanges")}
	if e.Unknown > 0 {
		parts = append(parts, fmt.Sprintf("%d frames of a link type that is not known here", e.Unknown))
	}
	_, err := fmt.Fprintln(w, strings.Join(parts, ", "))
	return err
}
