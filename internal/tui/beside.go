package tui

import (
	"fmt"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"passepartout/internal/core/ticket"
)

// Two recordings side by side: the broken machine and the healthy one beside it, before and after, Monday and today.

// beside is where one stands in what two recordings have to say.
type beside struct {
	other *recorded // the one on the right
	all   bool      // what is the same, too
	first int       // the first line that is shown

	matters     []ticket.Matter // of the moments where both stand
	left, right time.Time       // of what is shown of each
}

// compare lays what was known at the two moments side by side.
func (m *model) compare() {
	here, there := m.recorded.here(), m.beside.other.here()
	m.beside.matters, m.beside.left, m.beside.right = ticket.Beside(&here, &there), here.At, there.At
}

// swap puts the recording on the right to the left, where the views and the keys of time are about it.
func (m *model) swap() {
	m.recorded, m.beside.other = m.beside.other, m.recorded
	m.complaint = m.recorded.Complaint
	m.seek(m.recorded.at)
}

func (m *model) pressBeside(k tea.KeyPressMsg) tea.Cmd {
	b := m.beside
	switch k.String() {
	case "up", "k":
		b.first--
	case "down", "j":
		b.first++
	case "pgup":
		b.first -= 10
	case "pgdown":
		b.first += 10
	case "home":
		b.first = 0
	case "d":
		b.all, b.first = !b.all, 0
	case "tab":
		m.swap()
		m.compare()
	case ",", ".", "<", ">":
		cmd := m.pressRecorded(k)
		m.compare()
		return cmd
	case "esc", "=":
		m.close(besideLayer)
		return m.open()
	case "?":
		m.openDeeds()
	case "q":
		return tea.Quit
	}
	return nil
}

// besidePage draws them: names, and what each has to say; what parts stands out, and what is the same is left out unless it is asked for.
func (m *model) besidePage() []string {
	t, b := m.theme, m.beside
	name := min(22, m.width/6)
	half := (m.width - name - 9) / 2
	left, right := name+3, name+3+half+3
	lines := []string{m.title(), m.rule()}
	lines = append(lines, m.besideHead("  left", m.recorded, b.left, left), m.besideHead("  right", b.other, b.right, left), m.rule())
	var all []string
	same := 0
	for _, matter := range b.matters {
		titled := false
		label := "" // several values may stand under one name
		for _, p := range matter.Pairs {
			if p.Name != "" {
				label = p.Name
			}
			if !p.Parts && !b.all {
				same++
				continue
			}
			if !titled {
				all = append(all, "", "  "+t.loud.Render(matter.Title))
				titled = true
			}
			style, mark := t.text, ""
			switch {
			case !p.Parts:
				style = t.faint
			case b.all: // else all that is shown parts
				mark = "≠"
			}
			a, c := wrap(orNone(p.Left), half, 4), wrap(orNone(p.Right), half, 4)
			for i := range max(len(a), len(c)) {
				r := &row{}
				if i == 0 {
					r.put(t.accent, mark).at(2).put(t.faint, fit(label, name-1))
					label = ""
				}
				all = append(all, r.at(left).put(style, nth(a, i)).at(right).put(style, nth(c, i)).cut(m.width))
			}
		}
	}
	if len(all) == 0 {
		all = []string{"", "  " + t.text.Render("The two cases say the same of everything but times.")}
	}
	room := max(m.height-len(lines)-3, 1)
	b.first = min(max(b.first, 0), max(len(all)-room, 0))
	lines = append(lines, all[b.first:min(b.first+room, len(all))]...)
	for len(lines) < m.height-3 {
		lines = append(lines, "")
	}
	note := fmt.Sprintf("  %d more that are the same, but for times", same)
	if b.all {
		note = "  what parts is marked ≠; times are not compared"
	}
	if below := len(all) - b.first - room; below > 0 {
		note += fmt.Sprintf("; %d more lines below", below)
	}
	r := &row{}
	r.put(t.key, " d").put(t.faint, map[bool]string{false: " all   ", true: " what parts   "}[b.all]).put(t.key, ", .").
		put(t.faint, " the left in time   ").put(t.key, "tab").put(t.faint, " changes sides   ").put(t.key, "↑↓").put(t.faint, " scroll   ").
		put(t.key, "esc").put(t.faint, " the views of the left")
	return append(slices.Clone(lines[:m.height-3]), t.faint.Render(fit(note, m.width-1)), m.rule(), r.cut(m.width))
}

// besideHead names one of the two, and the moment of it.
func (m *model) besideHead(side string, r *recorded, at time.Time, column int) string {
	where := "nothing is in it"
	if n := len(r.moments); n > 0 {
		where = fmt.Sprintf("%s, %d of %d: %s", at.Local().Format("2 January 2006, 15:04:05"), r.at+1, n, r.moments[r.at].What)
	}
	head := (&row{}).put(m.theme.faint, side).at(column).put(m.theme.accent, fit(r.Name, 40))
	return head.put(m.theme.faint, "   "+where).cut(m.width)
}

func nth(lines []string, i int) string {
	if i < len(lines) {
		return lines[i]
	}
	return ""
}

func orNone(s string) string {
	if s == "" {
		return "—"
	}
	return s
}
