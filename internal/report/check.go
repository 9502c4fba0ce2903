// Package report writes results: for scripts as JSON by the contract, for people as text.
package report

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

// CheckSchema names the shape of check's JSON.
const CheckSchema = "passepartout.check/1"

type checkJSON struct {
	Schema    string              `json:"schema"`
	At        time.Time           `json:"at"`
	TookMS    int64               `json:"took_ms"`
	Target    string              `json:"target"`
	Interface string              `json:"interface"`
	Verdict   verdictJSON         `json:"verdict"`
	Checks    []oneCheckJSON      `json:"checks"`
	Suspects  []suspectJSON       `json:"suspects"`
	Remarks   []remarkJSON        `json:"remarks"`
	Withheld  []evidence.Withheld `json:"withheld"`
	Questions []questionJSON      `json:"questions"`
	Tests     []testJSON          `json:"tests"`
}

type testJSON struct {
	ID      string   `json:"id"`
	Text    string   `json:"text"`
	Found   string   `json:"found"`
	Between []string `json:"between"`
}

type questionJSON struct {
	ID      string      `json:"id"`
	Text    string      `json:"text"`
	Answers []replyJSON `json:"answers"`
}

type replyJSON struct {
	ID     string     `json:"id"`
	Text   string     `json:"text"`
	Clears []fault.ID `json:"clears"`
	Points []fault.ID `json:"points_to"`
}

type verdictJSON struct {
	Zone       zone.Zone          `json:"zone"`
	Fault      fault.ID           `json:"fault"`
	Confidence verdict.Confidence `json:"confidence"`
	Sentence   string             `json:"sentence"`
	Also       []otherJSON        `json:"also"`
	Candidates []fault.ID         `json:"candidates"`
	Next       []string           `json:"next"`
	Mends      []mendJSON         `json:"mends"`
}

// mendJSON is a change of this machine that would mend it, as the commands that make it.
type mendJSON struct {
	Title    string   `json:"title"`
	Commands []string `json:"commands"`
}

type otherJSON struct {
	Zone     zone.Zone `json:"zone"`
	Fault    fault.ID  `json:"fault"`
	Sentence string    `json:"sentence"`
}

type oneCheckJSON struct {
	ID     string        `json:"id"`
	Zone   zone.Zone     `json:"zone"`
	State  verdict.State `json:"state"`
	Fact   string        `json:"fact"`
	TookMS float64       `json:"took_ms"`
	Asked  string        `json:"asked"`
	Heard  []string      `json:"heard"`
	Clears []fault.ID    `json:"clears"`
}

type suspectJSON struct {
	Fault    fault.ID       `json:"fault"`
	Zone     zone.Zone      `json:"zone"`
	Standing fault.Standing `json:"standing"`
	For      []string       `json:"for"`
	Against  []string       `json:"against"`
}

type remarkJSON struct {
	ID       fault.ID `json:"id"`
	Sentence string   `json:"sentence"`
}

func verdictOf(r verdict.Result) verdictJSON {
	v := verdictJSON{Zone: r.Zone, Fault: r.Fault, Confidence: r.Confidence, Sentence: r.Sentence, Also: []otherJSON{},
		Candidates: some(r.Candidates), Next: some(r.Next), Mends: []mendJSON{}}
	for _, x := range r.Mends {
		v.Mends = append(v.Mends, mendJSON{x.Title, x.Change.Commands()})
	}
	for _, o := range r.Also {
		v.Also = append(v.Also, otherJSON{o.Zone, o.Fault, o.Sentence})
	}
	return v
}

// CheckJSON writes one check as one JSON object. No array in it is null.
func CheckJSON(w io.Writer, at time.Time, s *evidence.Set, r verdict.Result) error {
	out := checkJSON{
		Schema: CheckSchema, At: at.UTC().Truncate(time.Millisecond), TookMS: s.Elapsed.Milliseconds(), Target: s.Target.String(),
		Interface: s.Interface,
		Verdict:   verdictOf(r),
		Checks:    []oneCheckJSON{}, Suspects: []suspectJSON{}, Remarks: []remarkJSON{}, Withheld: some(r.Withheld),
		Questions: []questionJSON{}, Tests: []testJSON{},
	}
	for _, c := range r.Checks {
		out.Checks = append(out.Checks,
			oneCheckJSON{c.ID, c.Zone, c.State, c.Fact, float64(c.Took.Microseconds()) / 1000, c.Asked, some(c.Heard), some(c.Clears)})
	}
	for _, x := range r.Suspects {
		out.Suspects = append(out.Suspects, suspectJSON{x.Fault.ID, x.Zone, x.Standing, some(x.For), some(x.Against)})
	}
	for _, q := range r.Questions {
		asked := questionJSON{q.ID, q.Text, []replyJSON{}}
		for _, a := range q.Answers {
			asked.Answers = append(asked.Answers, replyJSON{a.ID, a.Text, some(a.Clears), some(a.Points)})
		}
		out.Questions = append(out.Questions, asked)
	}
	for _, c := range s.Chosen {
		out.Tests = append(out.Tests, testJSON{c.Test, verdict.TestOf(c).Text, verdict.TestOf(c).Found(s), some(c.Between)})
	}
	for _, m := range r.Remarks {
		out.Remarks = append(out.Remarks, remarkJSON{m.Fault.ID, m.Sentence})
	}
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(out)
}

// some is an empty list in place of none.
func some[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// marks are the shapes of the states; the words stand beside them.
var marks = map[verdict.State]string{verdict.StateUnknown: "┈┈", verdict.Holds: "━━", verdict.Strained: "╍╍", verdict.Broken: "━╳",
	verdict.Skipped: "  "}

// Headline says where the fault lies, in one sentence.
func Headline(r verdict.Result) string {
	switch r.Zone {
	case zone.None:
		return "No fault stands in the way."
	case zone.Host:
		return "The fault lies in this HOST."
	case zone.LocalSubnet:
		return "The fault lies in the LOCAL SUBNET."
	case zone.Beyond:
		return "The fault lies BEYOND the gateway."
	}
	return "Where the fault lies is not determined."
}

// CheckText writes one check for a person.
func CheckText(w io.Writer, s *evidence.Set, r verdict.Result) error {
	var b strings.Builder
	say := func(hang int, form string, args ...any) { b.WriteString(fold(fmt.Sprintf(form, args...), hang) + "\n") }
	say(0, "%s  (%s)", Headline(r), r.Confidence)
	say(0, "%s", r.Sentence)
	for _, o := range r.Also {
		say(6, "Also: %s (%s)", o.Sentence, o.Zone.Token())
	}
	for _, m := range r.Remarks {
		say(6, "Seen: %s", m.Sentence)
	}
	if len(r.Candidates) > 0 {
		say(2, "Still possible: %s", strings.Join(fault.Titles(r.Candidates), "; "))
	}
	z := zone.Unknown
	for _, c := range r.Checks {
		if c.Zone != z {
			z = c.Zone
			fmt.Fprintf(&b, "\n%s\n", z)
		}
		say(30, "  %s %-8s  %-14s %s", marks[c.State], c.State, c.Label, c.Fact)
	}
	if len(r.Next) > 0 {
		b.WriteString("\nNext\n")
		for _, n := range r.Next {
			say(4, "  · %s", n)
		}
	}
	for _, x := range r.Mends {
		fmt.Fprintf(&b, "\n%s, from here:\n", x.Title)
		for _, line := range x.Change.Commands() {
			fmt.Fprintf(&b, "  passepartout %s\n", line)
		}
	}
	for _, q := range r.Questions {
		b.WriteByte('\n')
		say(2, "For a person to find out: %s", q.Text)
		for _, a := range q.Answers {
			say(4, "  · %s: %s; then run again with --said %s=%s", a.Text, Follows(a), q.ID, a.ID)
		}
	}
	if len(s.Chosen) > 0 {
		b.WriteString("\nAsked besides, to part what was in question\n")
		for _, c := range s.Chosen {
			say(4, "  · %s", verdict.TestOf(c).Words(s))
		}
	}
	if len(r.Withheld) > 0 {
		b.WriteString("\nNot asked\n")
		for _, h := range r.Withheld {
			say(4, "  · %v: %s", h.Kind, h.Why)
		}
	}
	b.WriteByte('\n')
	say(2, "%s, %s, in %s", orWord(s.Target.String(), "no target"), orWord(s.Interface, "no interface"),
		wording.Millis(s.Elapsed))
	_, err := io.WriteString(w, b.String())
	return err
}

// Follows says what an answer would do to the suspects that are left.
func Follows(a verdict.Choice) string {
	var parts []string
	if len(a.Clears) > 0 {
		parts = append(parts, "rules out "+quoted(a.Clears))
	}
	if len(a.Points) > 0 {
		parts = append(parts, "points to "+quoted(a.Points))
	}
	if len(parts) == 0 {
		return "changes nothing"
	}
	return strings.Join(parts, "; ")
}

// quoted are the titles of faults, as they stand.
func quoted(ids []fault.ID) string {
	return "“" + strings.Join(fault.Titles(ids), "”, “") + "”"
}

func orWord(s, other string) string {
	if s == "" {
		return other
	}
	return s
}
