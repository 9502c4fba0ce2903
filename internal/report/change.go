package report

import (
	"cmp"
	"fmt"
	"io"
	"strings"

	"passepartout/internal/core/change"
	"passepartout/internal/core/verdict"
)

// ChangeSchema names the shape of the JSON.
const ChangeSchema = "passepartout.change/1"

// Change is a change, planned or done.
type Change struct {
	ID                       int
	Interface, Manager, Last string
	Plan                     change.Plan
	Outcome                  string
	First                    string          // what comes before the steps; "": nothing
	Before, After            *verdict.Result // what the tests say; nil: not tested
	outcomes                 []string        // of the steps
}

// Ended notes what became of a step: why it was not done; "" if it was.
func (c *Change) Ended(i int, why string) {
	for len(c.outcomes) <= i {
		c.outcomes = append(c.outcomes, "")
	}
	c.outcomes[i] = cmp.Or(why, "done")
}

func (c *Change) outcome(i int) string {
	if i < len(c.outcomes) {
		return c.outcomes[i]
	}
	return ""
}

// StepLine says what became of one step.
func (c *Change) StepLine(i int) string {
	shape := "━━"
	if c.outcome(i) != "done" {
		shape = "━╳"
	}
	return fmt.Sprintf("  %s %d %v: %s", shape, i+1, c.Plan.Steps[i].Op, c.outcome(i))
}

// WritePlan says what would be done.
func (c *Change) WritePlan(w io.Writer) error {
	var b strings.Builder
	who := "nobody manages it"
	if c.Manager != "" {
		who = "managed by " + c.Manager
	}
	last := "until it is set otherwise or the machine restarts"
	if c.Last != "now" {
		last = c.Last
	}
	fmt.Fprintf(&b, "%s, %s; %s\n", c.Interface, who, last)
	if len(c.Plan.Steps) == 0 {
		b.WriteString("Nothing is to be done: it is so already.\n")
	}
	if c.First != "" {
		fmt.Fprintf(&b, "     %s\n", c.First)
	}
	for i, s := range c.Plan.Steps {
		fmt.Fprintf(&b, "  %d  %v\n", i+1, s.Op)
		if s.Before != "" && s.After != "" {
			fmt.Fprintf(&b, "     %s ━▸ %s\n", s.Before, s.After)
		}
	}
	for _, x := range c.Plan.Warnings {
		fmt.Fprintf(&b, "  ! %s\n", x.Text)
	}
	_, err := io.WriteString(w, b.String())
	return err
}

type changeStepJSON struct {
	Does    string `json:"does"`
	Before  string `json:"before"`
	After   string `json:"after"`
	By      string `json:"by"`
	Outcome string `json:"outcome,omitempty"`
}

type changeProofJSON struct {
	Zone       string `json:"zone"`
	Fault      string `json:"fault"`
	Confidence string `json:"confidence"`
	Sentence   string `json:"sentence"`
}

func proofOf(r *verdict.Result) *changeProofJSON {
	if r == nil {
		return nil
	}
	return &changeProofJSON{r.Zone.String(), string(r.Fault), string(r.Confidence), r.Sentence}
}

// WriteJSON writes it as the contract has it.
func (c *Change) WriteJSON(w io.Writer) error {
	out := struct {
		Schema    string           `json:"schema"`
		ID        int              `json:"id,omitempty"`
		Interface string           `json:"interface"`
		Manager   string           `json:"manager"`
		Last      string           `json:"last"`
		Steps     []changeStepJSON `json:"steps"`
		Warnings  []change.Warning `json:"warnings"`
		Outcome   string           `json:"outcome"`
		Proof     *struct {
			Before *changeProofJSON `json:"before"`
			After  *changeProofJSON `json:"after"`
		} `json:"proof,omitempty"`
	}{Schema: ChangeSchema, ID: c.ID, Interface: c.Interface, Manager: c.Manager, Last: c.Last, Steps: []changeStepJSON{},
		Warnings: c.Plan.Warnings,
		Outcome:  c.Outcome}
	if out.Warnings == nil {
		out.Warnings = []change.Warning{}
	}
	for i, s := range c.Plan.Steps {
		by := "kernel"
		switch {
		case s.Do == change.Store || change.ByClient([]change.Op{s.Op}):
			by = s.Op.Name
		case s.File() != "":
			by = "file"
		}
		out.Steps = append(out.Steps, changeStepJSON{s.String(), s.Before, s.After, by, c.outcome(i)})
	}
	if c.Before != nil {
		out.Proof = &struct {
			Before *changeProofJSON `json:"before"`
			After  *changeProofJSON `json:"after"`
		}{proofOf(c.Before), proofOf(c.After)}
	}
	return writeJSON(w, out)
}
