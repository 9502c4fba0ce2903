package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
)

// viewsRow is the line above the foot: all views by name, each with its key; where they have no room, by short names.
func (m *model) viewsRow() (string, []spot) {
	t := m.theme
	line := t.rule.Render("─")
	full := func(v *view) string { return v.name }
	mixed := func(v *view) string {
		if v == m.view {
			return v.name
		}
		return v.short
	}
	short := func(v *view) string { return v.short }
	for _, way := range []struct {
		name  func(v *view) string
		apart int // columns between two
	}{{full, 3}, {full, 2}, {mixed, 3}, {mixed, 2}, {mixed, 1}, {short, 1}} {
		width := -way.apart
		for _, v := range views {
			width += ansi.StringWidth(strings.TrimSpace(v.key+" "+way.name(v))) + way.apart
		}
		if width > m.width {
			continue
		}
		between := map[int]string{3: " " + line + " ", 2: "  ", 1: " "}[way.apart]
		var b strings.Builder
		var spots []spot
		x := 0
		if width+2 <= m.width {
			b.WriteString(line + " ")
			x = 2
		}
		for i, v := range views {
			if i > 0 {
				b.WriteString(between)
				x += way.apart
			}
			words := strings.TrimSpace(v.key + " " + way.name(v))
			spots = append(spots, spot{x0: x, x1: x + ansi.StringWidth(words), y: m.height - 2, view: v})
			x += ansi.StringWidth(words)
			style := t.faint
			if v == m.view {
				style = t.loud
			}
			b.WriteString(t.key.Render(v.key) + style.Render(strings.TrimPrefix(words, v.key)))
		}
		if left := m.width - x - 1; left > 0 {
			b.WriteString(" " + t.rule.Render(strings.Repeat("─", left)))
		}
		return b.String(), spots
	}
	// No room for them all: the one that is shown, and where the others are.
	r := &row{}
	r.put(t.rule, "─ ").put(t.key, m.view.key).put(t.loud, " "+m.view.name).put(t.rule, " ─ ").put(t.key, m.keys.help.Help().Key).
		put(t.faint, " lists the other views ")
	r.put(t.rule, strings.Repeat("─", max(m.width-r.width, 0)))
	return r.cut(m.width), nil
}

// viewAt is the view whose name was pointed at; nil if there is none.
func (m *model) viewAt(at tea.Mouse) *view {
	_, spots := m.viewsRow()
	return pointedAt(spots, at)
}
