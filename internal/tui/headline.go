package tui

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"passepartout/internal/core/fault"
	"passepartout/internal/core/state"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

var headlines = map[zone.Zone][2]string{
	zone.None:        {"No fault stands in the way", ""},
	zone.Host:        {"The fault lies in this ", "HOST"},
	zone.LocalSubnet: {"The fault lies in the ", "LOCAL SUBNET"},
	zone.Beyond:      {"The fault lies ", "BEYOND the gateway"},
}

// standing says in a word, with its shape, how the verdict stands.
func (m *model) standing() (string, paint) {
	t := m.theme.state
	switch m.state.Verdict.Standing {
	case state.Current:
		return strands[verdict.Holds] + " current", t[verdict.Holds]
	case state.Doubtful:
		return strands[verdict.Strained] + " doubtful", t[verdict.Strained]
	case state.Outdated:
		return strands[verdict.Broken] + " outdated", t[verdict.Broken]
	}
	if m.case_ == nil {
		return "", t[verdict.StateUnknown]
	}
	return strands[verdict.StateUnknown] + " asking", t[verdict.StateUnknown]
}

// headline is the verdict in one row: what is so, how sure that is, and of when. Of one that does not stand, what it was.
func (m *model) headline() string {
	t, v := m.theme, &m.state.Verdict
	head := &row{}
	head.put(t.text, " ")
	switch {
	case m.state.Round.Failed != "":
		head.put(t.state[verdict.Broken], "The tests could not be run")
		return head.cut(m.width)
	case !m.settled():
		head.put(t.accent, fmt.Sprintf("Asking … %.1f s", m.elapsed().Seconds()))
		return head.cut(m.width)
	}
	words, known := headlines[v.Result.Zone]
	style := t.state[verdict.Broken]
	switch {
	case !known:
		words, style = [2]string{"Where the fault lies is not determined", ""}, t.state[verdict.Strained]
	case v.Result.Zone == zone.None:
		style = t.state[verdict.Holds].Bold(true)
	}
	if v.Standing != state.Current { // what it said is no longer held: it stands there struck, with what speaks against it
		mark := t.state[verdict.Strained]
		lead := "In doubt since "
		if v.Standing == state.Outdated {
			mark, lead = t.state[verdict.Broken], "Not so any more since "
		}
		head.put(mark, lead+wording.Clock(v.Doubted)+": "+v.Because+".")
		right := m.testing()
		return head.at(max(m.width-ansi.StringWidth(right)-1, 0)).put(t.accent, right).cut(m.width)
	}
	if words[1] == "" {
		head.put(style, words[0]+".")
	} else {
		head.put(t.loud, words[0]).put(style, words[1]).put(t.loud, ".")
	}
	right := m.certainty()
	if head.width+ansi.StringWidth(right)+3 > m.width {
		right = v.Certainty()
	}
	return head.at(max(m.width-ansi.StringWidth(right)-1, 0)).put(t.accent, right).cut(m.width)
}

// testing says what is being done about a verdict in doubt.
func (m *model) testing() string {
	if m.state.Testing() {
		return fmt.Sprintf("testing again … %.1f s", m.elapsed().Seconds())
	}
	return "is being tested again"
}

// certainty says how sure the verdict is, and of which moment it speaks. "Certain" is said of a current one alone.
func (m *model) certainty() string {
	v := &m.state.Verdict
	parts := []string{}
	if v.Amended != "" {
		parts = append(parts, "amended, was: "+strings.ToLower(v.Amended[:1])+v.Amended[1:])
	}
	parts = append(parts, v.Certainty())
	if m.state.Round.Number == v.Round && !m.state.Round.Over {
		parts = append(parts, "still asking")
	} else if ago := m.now.Sub(v.Checked); ago >= time.Second {
		parts = append(parts, "checked "+ago.Truncate(time.Second).String()+" ago")
	} else {
		parts = append(parts, "checked now")
	}
	return strings.Join(parts, " · ")
}

func (m *model) elapsed() time.Duration {
	if m.state.Round.Began.IsZero() {
		return 0
	}
	return max(m.now.Sub(m.state.Round.Began).Round(100*time.Millisecond), 0)
}

// mostNext is how many rows the next step may take.
const mostNext = 4

// verdictLines are the headline with its certainty, the sentence, and what to do next: as many rows as they need, and as there are.
func (m *model) verdictLines(most int) []string {
	t := m.theme
	width := m.width - 2
	lines := []string{m.headline()}
	if failed := m.state.Round.Failed; failed != "" {
		return append(lines, indent(wrap(failed, width, most-1), t.text)...)
	}
	if !m.settled() {
		return append(lines, indent(wrap(m.waitingFor(), width, max(most-1, 1)), t.faint)...)
	}
	v := &m.state.Verdict
	if v.Standing != state.Current {
		was := fmt.Sprintf("Was: %s, from %s until %s. %s", lower(v.Title()), wording.Clock(v.Since), wording.Clock(v.Doubted),
			v.Result.Sentence)
		lines = append(lines, indent(wrap(was, width, max(most-2, 1)), t.faint)...)
		r := &row{}
		r.put(t.accent, " Now   ").put(t.text, fit(m.waitingFor(), width-7))
		return append(lines, r.cut(m.width))
	}
	next := "Nothing needs mending. If the user still cannot work, ask for the exact name or URL that fails, and ask for it here: t."
	if len(m.result.Next) > 0 {
		next = m.result.Next[0]
	} else if m.result.Zone != zone.None {
		next = "r runs the tests again."
	}
	if m.notice != "" {
		next = m.notice
	}
	if m.busy != "" {
		next = "In the meantime: " + m.busy + " …"
	}
	key, does := "", ""
	if len(m.result.Mends) > 0 && m.notice == "" && m.busy == "" {
		key, does = "g", "goes and does it"
	}
	below := m.said("Next", next, key, does)
	if m.state.Round.Over && len(m.result.Questions) > 0 {
		below = append(below, m.said("You", m.result.Questions[0].Text, "w", "tells what you found")...)
	} else if len(m.result.Next) > 1 && m.notice == "" && m.height >= tall {
		below = append(below, m.said("", m.result.Next[1], "", "")...)
	}
	lines = append(lines, indent(wrap(m.story(), width, max(most-1-len(below), 1)), t.text)...)
	return append(lines, below...)
}

// tall is from which height on there is room for a second step.
const tall = 36

// said is a sentence with a word before it, and the key that answers it behind, where it has one.
func (m *model) said(word, sentence, key, does string) (lines []string) {
	const at = 7
	t := m.theme
	end := ""
	if key != "" {
		end = "   " + key + " " + does
	}
	texts := wrap(sentence, m.width-2-at, mostNext)
	if n := len(texts); n > 0 && ansi.StringWidth(texts[n-1]+end) > m.width-2-at {
		texts = wrap(sentence, m.width-2-at-len(end), mostNext)
	}
	for i, text := range texts {
		r := &row{}
		if i == 0 {
			r.put(t.accent, " "+word)
		}
		r.at(at).put(t.text, text)
		if i == len(texts)-1 && key != "" {
			r.put(t.key, "   "+key).put(t.faint, " "+does)
		}
		lines = append(lines, r.cut(m.width))
	}
	return lines
}

func lower(s string) string {
	if s == "" {
		return s
	}
	return strings.ToLower(s[:1]) + s[1:]
}

// story is the one paragraph that the verdict tells: what is so, what became of what was before, what else is wrong, what looks wrong and
// is not, and the outages that were seen. There is one zone in it.
func (m *model) story() string {
	text := m.result.Sentence
	if since := m.since(); since.Words != "" {
		text = since.Words + " " + text
	}
	for _, a := range m.result.Also {
		text += " Also: " + a.Sentence
	}
	for _, r := range m.result.Remarks {
		text += " " + r.Sentence
	}
	return text + m.wasBefore() + m.outagesSeen()
}

// wasBefore says what was true until when.
func (m *model) wasBefore() string {
	n := len(m.state.Past)
	if n == 0 {
		return ""
	}
	p := m.state.Past[n-1]
	if m.set != nil && p.Target != m.set.Target.String() { // in a recording: something else was asked for
		return ""
	}
	return fmt.Sprintf(" Before, %s to %s: %s.", wording.Clock(p.From), wording.Clock(p.To), lower(p.Title))
}

// since is what has changed between the verdict before and this one.
func (m *model) since() verdict.Since {
	if m.before == nil || !m.settled() || m.state.Testing() && m.state.Verdict.Standing == state.Current {
		return verdict.Since{}
	}
	return verdict.Compare(*m.before, m.result)
}

// outagesSeen is what watching has found: a fault that comes and goes is rarely there at the moment of a test. What the verdict tells of
// already is not told again.
func (m *model) outagesSeen() (words string) {
	all := slices.Clone(m.state.Outages)
	if m.result.Zone != zone.None {
		since := m.state.Verdict.Since.Add(-outageLead)
		for len(all) > 0 && (all[len(all)-1].To.IsZero() || all[len(all)-1].To.After(since)) {
			all = all[:len(all)-1]
		}
	}
	if len(all) == 0 {
		return ""
	}
	o := all[len(all)-1]
	lasted := "still going on"
	v := &m.state.Verdict
	switch {
	case !o.To.IsZero():
		lasted = "for " + wording.Lasting(o.To.Sub(o.From))
	case v.Standing == state.Current && v.Result.Zone == zone.None && v.Reached.After(o.From): // its end is being reckoned
		lasted = "for at most " + wording.Lasting(v.Reached.Sub(o.From))
	}
	return fmt.Sprintf(" Watched since %s: %s, the last at %s, %s, %s (6 shows them).", wording.Clock(m.state.Began),
		wording.Plural(len(all), "outage", "outages"),
		wording.Clock(o.From), lasted, o.Zone)
}

// outageLead is how long before a verdict's first sign an outage may have begun that it speaks of.
const outageLead = 5 * time.Second

// mostBetween is how many suspects are named that a test is to part.
const mostBetween = 4

// waitingFor says what is being waited for.
func (m *model) waitingFor() string {
	s := &m.state.Round.Set
	switch {
	case m.state.Round.Number == 0 || s.Endpoint == nil:
		return "reading this machine's settings"
	case !m.state.Testing():
		return "the tests are run again in a moment: " + m.state.Verdict.Because
	}
	if n := len(s.Chosen); n > 0 {
		last := s.Chosen[n-1]
		var titles []string
		for _, id := range last.Between[:min(len(last.Between), mostBetween)] {
			titles = append(titles, "“"+fault.TitleOf(fault.ID(id))+"”")
		}
		return fmt.Sprintf("%s It tells apart %s.", verdict.TestOf(last).Text, strings.Join(titles, " and "))
	}
	var parts []string
	for _, k := range s.Open {
		parts = append(parts, strings.ReplaceAll(k.String(), "-", " "))
	}
	return "waiting for: " + strings.Join(parts, ", ")
}
