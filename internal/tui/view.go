package tui

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"passepartout/internal/core/wiretext"
	"passepartout/internal/core/wording"
)

// View implements tea.Model.
func (m *model) View() tea.View {
	if !m.unseen || m.drawn.Content == "" {
		m.drawn = m.frame()
	}
	m.unseen = false
	return m.drawn
}

func (m *model) frame() tea.View {
	v := tea.NewView("")
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	v.WindowTitle = "Passepartout"
	switch {
	case m.width == 0:
		return v // the size is not known yet
	case m.width < leastWidth || m.height < leastHeight:
		v.SetContent(m.tooSmall())
		return v
	}
	top := m.top()
	if top != nil && top.draw != nil {
		if top == questionLayer {
			if c := m.input.Cursor(); c != nil {
				_, x, y := m.questionPage()
				c.X += x
				c.Y += y
				v.Cursor = c
			}
		}
		v.SetContent(m.screen(top.draw(m)))
		return v
	}
	if n := len(m.over); n > 1 && m.over[n-2].draw != nil { // the line lies over a page
		lines := m.over[n-2].draw(m)
		v.SetContent(m.screen(append(lines[:len(lines)-1:len(lines)-1], top.line(m))))
		return v
	}
	page := m.view.draw
	if m.recorded != nil && !m.view.kept {
		page = (*model).unrecorded
	}
	lines := m.fill(page(m))
	foot := m.foot()
	if top != nil && top.line != nil {
		foot = top.line(m)
	}
	names, _ := m.viewsRow()
	v.SetContent(m.screen(append(lines, names, foot)))
	return v
}

// fill makes of a view's rows as many as there is room for above the foot: what is longer scrolls under its head. The last row says what a
// key has done.
func (m *model) fill(lines []string) []string {
	room := m.height - 2
	note := ""
	if m.view.note != nil {
		note = m.view.note(m)
	}
	if note != "" {
		room--
	}
	if p := m.scroll(); len(lines) > room {
		head := min(len(m.head()), room-3)
		lines = append(lines[:head:head], p.show(m.theme, lines[head:], m.width, room-head, "pgdn")...)
	} else {
		*p = pane{}
	}
	for len(lines) < room {
		lines = append(lines, "")
	}
	if note != "" {
		lines = append(lines, "  "+m.theme.accent.Render(fit(note, m.width-3)))
	}
	return lines
}

// scroll is how far the view that is shown has been scrolled.
func (m *model) scroll() *pane {
	if m.scrolled[m.view] == nil {
		m.scrolled[m.view] = &pane{}
	}
	return m.scrolled[m.view]
}

// screen makes of lines exactly one screenful.
func (m *model) screen(lines []string) string {
	out := make([]string, m.height)
	for i := range out {
		if i < len(lines) {
			out[i] = lines[i]
			if len(lines[i]) > m.width { // of as many bytes it takes no more columns
				out[i] = ansi.Truncate(lines[i], m.width, "…")
			}
		}
	}
	return strings.Join(out, "\n")
}

func (m *model) tooSmall() string {
	words := fmt.Sprintf("This window is %d by %d. Passepartout needs %d by %d: make it larger, or the letters smaller. ctrl+c leaves.",
		m.width, m.height, leastWidth, leastHeight)
	return strings.Join(wrap(words, max(m.width, 1), max(m.height, 1)), "\n")
}

func (m *model) rule() string { return m.theme.rule.Render(strings.Repeat("─", m.width)) }

// title is the top line: who, where, what for, and the time now.
func (m *model) title() string {
	t, r := m.theme, &row{}
	r.put(t.text, " ").put(t.accent, "Passepartout")
	left := ""
	if m.set != nil && m.set.Endpoint != nil {
		left = wiretext.Clean(m.set.Endpoint.Host)
		if m.set.Interface != "" {
			left += " · " + m.set.Interface
		}
		left += " · " + m.permissions()
	}
	if m.recorded != nil {
		left += " · " + wiretext.Clean(m.recorded.Name)
	}
	if len(m.Cases) > 0 || m.recorded != nil && m.recorded.Simulated {
		if left != "" {
			left += " · "
		}
		left += "simulated"
	}
	right := ""
	narrow := m.width < 110
	if m.case_ != nil || m.recorded != nil {
		right = "no target was given"
		if !m.target.IsZero() {
			right = "asked for " + m.target.String()
		}
		if narrow {
			right = strings.TrimPrefix(right, "asked for ")
		}
	}
	now := wording.Clock(m.now)
	if m.recorded != nil {
		now = m.now.Format("2006-01-02 15:04:05")
	}
	room := m.width - r.width - 10 - ansi.StringWidth(right) - len(now)
	if room < 20 {
		right = fit(right, m.width-r.width-29-len(now))
		room = 20
	}
	right = strings.TrimPrefix(right+"   "+now, "   ")
	r.put(t.faint, "   "+fit(left, room)).at(m.width-ansi.StringWidth(right)-1).put(t.text, right)
	return r.cut(m.width)
}

func (m *model) permissions() string {
	if m.recorded != nil {
		return "recorded"
	}
	switch p := m.Ground.Machine.Permissions(); {
	case p.Frames.Granted && p.Echo.Granted:
		return "all permissions"
	case p.Echo.Granted:
		return "no raw frames"
	case p.Frames.Granted:
		return "no echo"
	}
	return "no echo, no raw frames"
}

// head is what stands at the top of every view but the overview: who and where, the line in a row, the verdict in one sentence.
func (m *model) head() []string {
	lines := []string{m.title(), m.rule()}
	if m.set == nil {
		return append(lines, m.headline(), m.rule())
	}
	r, _ := m.lineRow()
	lines = append(lines, r, m.headline())
	if m.notice != "" && m.view.say == nil { // a view that has no place of its own for what a key did
		lines = append(lines, (&row{}).put(m.theme.text, " "+m.notice).cut(m.width))
	}
	return append(lines, m.rule())
}

// foot is the bottom line: the keys that work here, in words, and how the verdict stands.
func (m *model) foot() string {
	if m.recorded != nil {
		return m.recordedFoot()
	}
	t, r := m.theme, &row{}
	r.put(t.text, " ")
	standing, style := m.standing()
	room := m.width - ansi.StringWidth(standing) - 2
	help := m.keys.help.Help()
	room -= ansi.StringWidth(help.Key+" "+help.Desc) + 2 // it lists all the others, and is never left out
	say := func(list []deed) {
		for _, d := range list {
			if !d.more && d.key != help.Key && r.width+ansi.StringWidth(d.key+" "+d.name+"  ") <= room {
				r.put(t.key, d.key).put(t.faint, " "+d.name+"  ")
			}
		}
	}
	say(m.view.deeds)
	say(m.general())
	r.put(t.key, help.Key).put(t.faint, " "+help.Desc)
	return r.at(m.width-ansi.StringWidth(standing)-1).put(style, standing).cut(m.width)
}

func indent(lines []string, style paint) []string {
	out := make([]string, len(lines))
	for i, l := range lines {
		out[i] = " " + style.Render(l)
	}
	return out
}
