package tui

import (
	"fmt"
	"strings"
)

// pane is a part of the screen that scrolls: what is longer than its place goes on below, and its last row says how much there is.
type pane struct {
	from int // the first row that is shown
	most int // the last one that can be first; 0: all is shown
	page int // how many rows are shown at once
}

// show gives as many of the lines as there is room for. hint names the keys that go on.
func (p *pane) show(t theme, lines []string, width, height int, hint string) []string {
	p.page = max(height-1, 1)
	p.most = max(len(lines)-p.page, 0)
	if len(lines) <= height {
		p.from, p.most = 0, 0
		return lines
	}
	p.from = min(max(p.from, 0), p.most)
	where := fmt.Sprintf(" rows %d to %d of %d", p.from+1, p.from+p.page, len(lines))
	r := &row{}
	r.put(t.faint, where)
	if hint != "" {
		r.put(t.rule, " · ").put(t.key, hint).put(t.faint, " goes on")
	}
	r.put(t.rule, " "+strings.Repeat("─", max(width-r.width-2, 0)))
	return append(lines[p.from:p.from+p.page:p.from+p.page], r.cut(width))
}

// follow scrolls as far as a row has to be seen.
func (p *pane) follow(at, height int) {
	p.from = min(p.from, at)
	p.from = max(p.from, at-max(height-2, 0))
}

// move scrolls by so many rows.
func (p *pane) move(step int) { p.from = min(max(p.from+step, 0), p.most) }

// press handles the keys that scroll; false where there is nothing to scroll, or the key does not.
func (p *pane) press(key string) bool {
	if p.most == 0 {
		return false
	}
	switch key {
	case "up", "k":
		p.move(-1)
	case "down", "j":
		p.move(1)
	case "pgup":
		p.move(-p.page)
	case "pgdown":
		p.move(p.page)
	case "home":
		p.from = 0
	case "end":
		p.from = p.most
	case "space":
		p.further()
	default:
		return false
	}
	return true
}

// further goes on by a page, and from the end back to the beginning.
func (p *pane) further() {
	if p.from >= p.most {
		p.from = 0
		return
	}
	p.move(p.page)
}
