package report

import (
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/state"
	"passepartout/internal/core/ticket"
	"passepartout/internal/core/verdict"
)

// TicketSchema names the shape of a report's JSON.
const TicketSchema = "passepartout.report/1"

// Ticket writes a case to hand over.
type Ticket struct {
	ticket.Ticket
	// What the line is drawn from; nil: it is not.
	Set    *evidence.Set
	Result verdict.Result
	At     time.Time
	Closer []ticket.Section // the evidence in full, which plain text leaves out: it is for tickets
}

// whole are all sections, with the evidence in full.
func (t Ticket) whole() []ticket.Section { return slices.Concat(t.Sections, t.Closer) }

// TicketOf is the ticket of a case.
func TicketOf(s *state.State, about ticket.About) Ticket {
	set, r := s.Shown()
	return Ticket{ticket.Of(s, about), set, r, s.At, ticket.Closer(r)}
}

// WriteText writes it as plain text, fit for a ticket: no line is wider than what it holds.
func (t Ticket) WriteText(w io.Writer) error {
	var b strings.Builder
	b.WriteString(t.Title + "\n")
	if len(t.Asked) > 0 {
		b.WriteString("\nAsked of you\n")
		for _, line := range t.Asked {
			b.WriteString("  - " + line + "\n")
		}
	}
	for _, s := range t.Sections {
		width := 0
		for _, r := range s.Rows {
			width = max(width, len([]rune(r.Name)))
		}
		b.WriteString("\n" + s.Title + "\n")
		for _, r := range s.Rows {
			fmt.Fprintf(&b, "  %-*s  %s\n", width, r.Name, r.Value)
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// marked are the characters that mean something to Markdown (CommonMark 0.31, §2.4).
var marked = strings.NewReplacer(`\`, `\\`, "`", "\\`", "*", `\*`, "_", `\_`, "[", `\[`, "]", `\]`, "<", `\<`, ">", `\>`, "|", `\|`,
	"#", `\#`, "&", `\&`, "!", `\!`, "~", `\~`)

// WriteMarkdown writes it as Markdown, with a table a section.
func (t Ticket) WriteMarkdown(w io.Writer) error {
	var b strings.Builder
	b.WriteString("# " + marked.Replace(t.Title) + "\n")
	if len(t.Asked) > 0 {
		b.WriteString("\n## Asked of you\n\n")
		for _, line := range t.Asked {
			b.WriteString("- " + marked.Replace(line) + "\n")
		}
	}
	for _, s := range t.whole() {
		b.WriteString("\n## " + s.Title + "\n\n| | |\n|---|---|\n")
		for _, r := range s.Rows {
			fmt.Fprintf(&b, "| %s | %s |\n", marked.Replace(r.Name), marked.Replace(r.Value))
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}

type ticketJSON struct {
	Schema   string        `json:"schema"`
	Title    string        `json:"title"`
	Asked    []string      `json:"asked"`
	Sections []sectionJSON `json:"sections"`
}

type sectionJSON struct {
	Title string    `json:"title"`
	Rows  []rowJSON `json:"rows"`
}

type rowJSON struct {
	Name  string `json:"name"` // "": another value of the one above
	Value string `json:"value"`
}

// WriteJSON writes it as one JSON object.
func (t Ticket) WriteJSON(w io.Writer) error {
	out := ticketJSON{Schema: TicketSchema, Title: t.Title, Asked: some(t.Asked), Sections: []sectionJSON{}}
	for _, s := range t.whole() {
		section := sectionJSON{s.Title, []rowJSON{}}
		for _, r := range s.Rows {
			section.Rows = append(section.Rows, rowJSON{r.Name, r.Value})
		}
		out.Sections = append(out.Sections, section)
	}
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(out)
}

// Text is the ticket as plain text.
func (t Ticket) Text() string {
	var b strings.Builder
	_ = t.WriteText(&b) // a builder takes all
	return b.String()
}
