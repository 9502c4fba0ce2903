package tui

import (
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"
)

// row is one line of the screen, put together from pieces at given columns. A piece that would overlap an earlier one moves right of it.
type row struct {
	b     strings.Builder
	width int // columns written so far
}

// at moves to a column; what is already written stays.
func (r *row) at(column int) *row {
	if column > r.width {
		r.b.WriteString(strings.Repeat(" ", column-r.width))
		r.width = column
	}
	return r
}

// columns is how many columns a text takes.
func columns(text string) int {
	for i := range len(text) {
		if text[i] < ' ' || text[i] > '~' {
			return ansi.StringWidth(text)
		}
	}
	return len(text) // plain ASCII: nearly all of it
}

// put writes text in a style.
func (r *row) put(style paint, text string) *row {
	if text == "" {
		return r
	}
	r.b.WriteString(style.Render(text))
	r.width += columns(text)
	return r
}

// fill repeats a one-column shape up to a column.
func (r *row) fill(style paint, shape string, column int) *row {
	if n := column - r.width; n > 0 {
		r.put(style, strings.Repeat(shape, n))
	}
	return r
}

// cut gives the row, no wider than the screen.
func (r *row) cut(width int) string {
	if r.width <= width {
		return r.b.String()
	}
	return ansi.Truncate(r.b.String(), width, "…")
}

// fold gives the row whole: what has no room goes on in rows below, from a column on.
func (r *row) fold(width, at int) []string {
	if r.width <= width {
		return []string{r.b.String()}
	}
	lines := strings.Split(lipgloss.Wrap(r.b.String(), width, " "), "\n")
	rest := strings.Split(lipgloss.Wrap(strings.TrimLeft(strings.Join(lines[1:], " "), " "), max(width-at, 1), " "), "\n")
	for i, line := range rest {
		rest[i] = strings.Repeat(" ", at) + strings.TrimLeft(line, " ")
	}
	return append(lines[:1:1], rest...)
}

// wrap breaks plain text into lines of at most width columns, at most most of them; the last says with an ellipsis that there was more.
func wrap(text string, width, most int) []string {
	if width < 1 || most < 1 {
		return nil
	}
	lines := strings.Split(ansi.Wrap(text, width, " "), "\n")
	for i := range lines {
		lines[i] = strings.TrimSpace(lines[i])
	}
	if len(lines) > most {
		lines = lines[:most]
		lines[most-1] = ansi.Truncate(lines[most-1]+" …", width, "…")
	}
	return lines
}

// fit cuts plain text to a width.
func fit(text string, width int) string {
	if width < 1 {
		return ""
	}
	return ansi.Truncate(text, width, "…")
}
