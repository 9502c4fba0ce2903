package tui

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"passepartout/internal/core/ticket"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wording"
	"passepartout/internal/report"
)

// The card to read out from: what is always asked for on the telephone, each value copied by a key, and the whole case as ticket text.

// handed is the card as it was when it was opened: it does not move under the eyes of who reads from it.
type handed struct {
	report.Ticket
	at     time.Time
	rows   []ticket.Row
	heads  map[int]string // the title of the section that begins with a row
	picked int
	says   string
	flawed bool // says is what went wrong
}

// ticketNow is the case as it stands, to hand over.
func (m *model) ticketNow() report.Ticket {
	about := ticket.About{Complaint: m.complaint, Version: m.Version, Simulated: len(m.Cases) > 0}
	if m.recorded != nil {
		about.Simulated = m.recorded.Simulated
	}
	for _, d := range m.acts.done {
		about.Acts = append(about.Acts, d.act())
	}
	s := m.state
	s.At = m.now
	return report.TicketOf(&s, about)
}

// openValues lays the card over the view.
func (m *model) openValues() tea.Cmd {
	if m.set == nil || m.set.Endpoint == nil {
		return nil
	}
	c := &handed{Ticket: m.ticketNow(), at: m.now, heads: map[int]string{}}
	for _, title := range ticket.ReadOut { // on the telephone the machine comes first
		for _, s := range c.Sections {
			if s.Title == title {
				c.heads[len(c.rows)] = s.Title
				c.rows = append(c.rows, s.Rows...)
			}
		}
	}
	if len(c.rows) == 0 {
		return nil
	}
	m.card = c
	m.lay(valuesLayer)
	return nil
}

func (m *model) pressValues(k tea.KeyPressMsg) tea.Cmd {
	c := m.card
	last := len(c.rows) - 1
	switch k.String() {
	case "up", "k":
		c.picked = max(c.picked-1, 0)
	case "down", "j":
		c.picked = min(c.picked+1, last)
	case "pgup":
		c.picked = max(c.picked-10, 0)
	case "pgdown":
		c.picked = min(c.picked+10, last)
	case "home":
		c.picked = 0
	case "end":
		c.picked = last
	case "enter", "c":
		return m.copyOut(c.rows[c.picked].Value, nameOf(c.rows, c.picked))
	case "a":
		return m.copyOut(c.Text(), "the whole case")
	case "n":
		return m.writeNote()
	case "esc", "v":
		m.close(valuesLayer)
	case "q":
		return tea.Quit
	case "?":
		m.openDeeds()
	}
	return nil
}

// longestNote bounds what is written down at once, in octets.
const longestNote = 2000

// writeNote asks for something to write down: it is kept in the case with its time, and handed over with it.
func (m *model) writeNote() tea.Cmd {
	if m.case_ == nil {
		m.card.says, m.card.flawed = "this is a recording: nothing more is written down in it", true
		return nil
	}
	return m.openEntry("note", "", func(text string) (tea.Cmd, error) {
		switch {
		case text == "":
			return nil, errors.New("write something down first")
		case len(text) > longestNote:
			return nil, fmt.Errorf("%d octets are too much for one note; the most are %d", len(text), longestNote)
		}
		m.case_.Note(text)
		m.card.says, m.card.flawed = "noted at "+wording.Clock(m.now)+": it is kept with the case", false
		return nil, nil
	})
}

// nameOf is the name of a row: where several values share one, it stands on the first.
func nameOf(rows []ticket.Row, i int) string {
	for ; i > 0 && rows[i].Name == ""; i-- {
	}
	return rows[i].Name
}

// copyOut gives a text to the terminal's clipboard (OSC 52), which not every terminal takes: it is kept in a file too.
func (m *model) copyOut(text, what string) tea.Cmd {
	c := m.card
	c.says, c.flawed = what+": given to the terminal's clipboard", false
	keep := m.Handed
	if keep == nil {
		return tea.SetClipboard(text)
	}
	return tea.Batch(tea.SetClipboard(text), m.inBackground("", func() func(*model) tea.Cmd {
		path, err := keep(text)
		return func(m *model) tea.Cmd {
			if err != nil {
				c.says, c.flawed = c.says+"; not kept in a file: "+err.Error(), true
			} else {
				c.says += "; where it takes none: " + path
			}
			return nil
		}
	}))
}

// valuesPage draws the card: the value that is picked large and letter by letter, and all of them below.
func (m *model) valuesPage() []string {
	t, c := m.theme, m.card
	lines := []string{m.title(), m.rule(), ""}
	head := &row{}
	head.put(t.loud, "  "+fit(c.Title, m.width-24)).put(t.faint, "   as of "+wording.Clock(c.at))
	lines = append(lines, head.cut(m.width), "")
	lines = append(lines, (&row{}).put(t.faint, "  "+nameOf(c.rows, c.picked)).cut(m.width))
	for _, line := range spelled(c.rows[c.picked].Value, m.width-4) {
		lines = append(lines, (&row{}).put(t.accent, "  "+line).cut(m.width))
	}
	lines = append(lines, m.rule())
	room := max(m.height-2-len(lines)-2, 1)
	var all []string
	at := 0
	for i, r := range c.rows {
		if title, ok := c.heads[i]; ok {
			if i > 0 {
				all = append(all, "")
			}
			all = append(all, "  "+t.loud.Render(title))
		}
		mark, style := "  ", t.text
		if i == c.picked {
			mark, style, at = "▸ ", t.loud, len(all)
		}
		x := &row{}
		x.put(t.accent, "  "+mark).put(t.faint, fit(r.Name, 22)).at(27).put(style, fit(r.Value, m.width-28))
		all = append(all, x.cut(m.width))
	}
	first := min(max(at-room/2, 0), max(len(all)-room, 0))
	lines = append(lines, all[first:min(first+room, len(all))]...)
	for len(lines) < m.height-3 {
		lines = append(lines, "")
	}
	says := t.faint
	if c.flawed {
		says = t.state[verdict.Strained]
	}
	r := &row{}
	r.put(t.key, " enter").put(t.faint, " copies it   ").put(t.key, "a").put(t.faint, " copies all, for a ticket   ").put(t.key, "n").put(t.faint, " note   ").
		put(t.key, "↑↓").put(t.faint, " choose   ").put(t.key, "esc").put(t.faint, " back")
	return append(slices.Clone(lines[:m.height-3]), says.Render(fit("  "+c.says, m.width-1)), m.rule(), r.cut(m.width))
}

// spelled is a value as it is read out: short ones letter by letter.
func spelled(value string, width int) []string {
	const longest = 44
	if ansi.StringWidth(value) > longest || 2*ansi.StringWidth(value) > width {
		lines := wrap(value, width, 2)
		return append(lines, make([]string, 2-min(len(lines), 2))...)
	}
	var b strings.Builder
	for _, r := range value {
		fmt.Fprintf(&b, "%c ", r)
	}
	return []string{strings.TrimRight(b.String(), " "), ""}
}
