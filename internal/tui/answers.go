package tui

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
	"passepartout/internal/report"
)

// choice is one row of the list of answers: an answer to a question, or an answer to be taken back.
type choice struct {
	question verdict.Question
	reply    verdict.Choice
	takeBack bool
}

// choices are the answers to the questions that are put, and those given already.
func (m *model) choices() (out []choice) {
	if m.state.Testing() {
		return nil // the questions of the tests before may be none any more
	}
	for _, q := range m.result.Questions {
		for _, a := range q.Answers {
			out = append(out, choice{question: q, reply: a})
		}
	}
	for _, s := range m.given() {
		for _, q := range verdict.Questions {
			i := slices.IndexFunc(q.Answers, func(a verdict.Choice) bool { return q.ID == s.Question && a.ID == s.Answer })
			if i >= 0 {
				out = append(out, choice{q, q.Answers[i], true})
			}
		}
	}
	return out
}

// pressSaying handles a key while the questions are open.
func (m *model) pressAnswers(k tea.KeyPressMsg) tea.Cmd {
	all := m.choices()
	ids := make([]string, len(all))
	for i, c := range all {
		ids[i] = c.question.ID + "=" + c.reply.ID
	}
	return m.pressInList(k, &m.picked, ids, func(string) tea.Cmd {
		c, con := all[m.picked], m.case_
		m.close(answersLayer)
		return m.aside(func() {
			con.Say(evidence.Answer{Question: c.question.ID, Answer: map[bool]string{false: c.reply.ID}[c.takeBack]})
		})
	}, func() { m.close(answersLayer) })
}

// said is what the person has answered.
func (m *model) given() []evidence.Answer { return m.state.Round.Set.Answers }

// foundPage puts the questions that only a person can answer, each answer with what it would rule out.
func (m *model) answersPage() []string {
	t := m.theme
	lines := []string{m.title(), m.rule(), "", "  " + t.loud.Render("What have you found out?"),
		"  " + t.faint.Render("No program can look at this. Each answer counts as evidence, and says what it rules out."), ""}
	all := m.choices()
	if len(all) == 0 {
		lines = append(lines, "  "+t.text.Render(m.nothingToSay()))
	}
	for i, c := range all {
		if i == 0 || c.question.ID != all[i-1].question.ID || c.takeBack != all[i-1].takeBack {
			if i > 0 {
				lines = append(lines, "")
			}
			head := c.question.Text
			if c.takeBack {
				head = "You have said: " + head
			}
			for _, l := range wrap(head, m.width-6, 3) {
				lines = append(lines, "  "+t.text.Render(l))
			}
		}
		mark, style := "  ", t.text
		if i == m.picked {
			mark, style = "▸ ", t.loud
		}
		text := c.reply.Text
		if c.takeBack {
			text = "take back: " + text
		}
		lines = append(lines, "    "+t.accent.Render(mark)+style.Render(fit(text, m.width-10)))
		if !c.takeBack {
			for _, l := range wrap(report.Follows(c.reply), m.width-14, 2) {
				lines = append(lines, "        "+t.faint.Render(l))
			}
		}
	}
	for len(lines) < m.height-2 {
		lines = append(lines, "")
	}
	r := &row{}
	r.put(t.key, " enter").put(t.faint, " that is what I found   ").put(t.key, "↑↓").put(t.faint, " choose   ").put(t.key, "esc").
		put(t.faint, " back")
	return append(lines[:m.height-2], m.rule(), r.cut(m.width))
}

// nothingToSay says why no question is put.
func (m *model) nothingToSay() string {
	switch {
	case !m.state.Round.Over:
		return "The tests are still running: whatever they can find out by themselves is not asked of you."
	case m.result.Zone == zone.None:
		return "Nothing stands in the way, so there is nothing to find out by hand."
	}
	return "The evidence needs nothing from you: no answer would part what is still possible."
}
