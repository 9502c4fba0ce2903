package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"
)

// typedList is a list that is narrowed by what is typed, and scrolls with what is picked.
type typedList struct {
	typed  string
	picked int
	pane   pane
}

// mostTyped is as long as anything need be that is typed to narrow a list.
const mostTyped = 60

// words are those that were typed.
func (l *typedList) words() []string { return strings.Fields(strings.ToLower(l.typed)) }

// retype has something else stand there than did.
func (l *typedList) retype(text string) { l.typed, l.picked = text, 0 }

// clamp keeps the choice among n.
func (l *typedList) clamp(n int) { l.picked = min(max(l.picked, 0), max(n-1, 0)) }

// press handles the keys that choose one of n, and letters, which are typed.
func (l *typedList) press(k tea.KeyPressMsg, n int) {
	step, steps := stepOf(k)
	switch {
	case steps && k.Text == "":
		l.picked += step
		l.clamp(n)
	case k.String() == "backspace":
		if r := []rune(l.typed); len(r) > 0 {
			l.retype(string(r[:len(r)-1]))
		}
	case k.Text != "" && len(l.typed) < mostTyped:
		l.retype(l.typed + k.Text)
	}
}

// head is the list's title, with what was typed.
func (l *typedList) head(t theme, title string, width int) string {
	r := &row{}
	r.put(t.loud, "  "+title).put(t.text, "   ").put(t.accent, "▸ ")
	if l.typed == "" {
		r.put(t.faint, "type a word of it")
	} else {
		r.put(t.text, l.typed).put(t.accent, "▏")
	}
	return r.cut(width)
}

// show gives as many of its rows as there is room for, the one at which the picked one begins among them.
func (l *typedList) show(t theme, rows []string, at, width, room int) []string {
	l.pane.follow(min(at+2, max(len(rows)-1, 0)), room)
	l.pane.follow(max(at-1, 0), room)
	return l.pane.show(t, rows, width, room, "")
}
