package report

import (
	"strings"
	"unicode/utf8"
)

// columns is how wide a line of text is at most: as wide as the narrowest terminal, and as a ticket takes without breaking it anew.
const columns = 80

// fold breaks a line that is longer at spaces, and has what follows begin at a column. A word that is longer stays whole: it may be a path
// or a URL, to be copied.
func fold(line string, hang int) string {
	if utf8.RuneCountInString(line) <= columns {
		return line
	}
	var b strings.Builder
	at := 0
	for rest := line; rest != ""; {
		spaces := len(rest) - len(strings.TrimLeft(rest, " "))
		end := len(rest)
		if i := strings.IndexByte(rest[spaces:], ' '); i >= 0 {
			end = spaces + i
		}
		word := rest[:end] // with the spaces before it
		rest = rest[end:]
		width := utf8.RuneCountInString(word)
		if at > 0 && at+width > columns {
			word = strings.Repeat(" ", hang) + word[spaces:]
			width = utf8.RuneCountInString(word)
			b.WriteByte('\n')
			at = 0
		}
		b.WriteString(word)
		at += width
	}
	return b.String()
}
