// Package locale says whether a terminal is said to show UTF-8, and writes for one that is not.
package locale

import (
	"cmp"
	"io"
	"os"
	"strings"
	"unicode/utf8"

	"github.com/charmbracelet/x/ansi"
)

// UTF8 reports whether text may be written as UTF-8. It may not where the locale says another character set, as "C" does (POSIX.1-2024
// §8.2, LC_ALL before LC_CTYPE before LANG); a system that says nothing is one of today.
func UTF8(env func(string) string) bool {
	name := cmp.Or(env("LC_ALL"), env("LC_CTYPE"), env("LANG"))
	if name == "" {
		return true
	}
	name, _, _ = strings.Cut(name, "@")
	_, set, _ := strings.Cut(name, ".")
	return strings.EqualFold(strings.ReplaceAll(set, "-", ""), "utf8")
}

// shapes are the characters in use, each with one of ASCII that is as wide.
var shapes = map[rune]string{
	'━': "=", '╍': "~", '┈': ".", '╳': "X", '─': "-", '╌': "-", '┄': "-", '│': "|", '┃': "|", '┊': ":",
	'├': "|", '┤': "|", '┣': "|", '┼': "+", '┳': "+", '┬': "+", '┻': "+", '┗': "`", '┏': "+",
	'▸': ">", '▹': ">", '◂': "<", '▴': "^", '▾': "v", '▿': "v", '▽': "v", '→': ">", '←': "<", '↑': "^", '↓': "v",
	'●': "o", '○': "o", '◦': "o", '◆': "*", '◇': "*", '•': "*", '▪': "*", '▫': "o", '■': "#", '▣': "#",
	'▁': "_", '▂': "_", '▃': "-", '▄': "-", '▅': "=", '▆': "=", '▇': "#", '█': "#",
	'·': ".", '…': "~", '−': "-", '–': "-", '±': "~", '≠': "!", '∷': ":", '“': `"`, '”': `"`, '’': "'", '§': "S",
}

// The dots of braille patterns, of which the lanes are drawn.
const noDots, allDots = 0x2800, 0x28ff

// ASCII writes text in ASCII alone, of the same width.
func ASCII(s string) string {
	var b strings.Builder
	for _, r := range s {
		switch shape, ok := shapes[r]; {
		case r < utf8.RuneSelf:
			b.WriteRune(r)
		case ok:
			b.WriteString(shape)
		case r == noDots:
			b.WriteByte(' ')
		case r > noDots && r <= allDots:
			b.WriteByte('.')
		default:
			b.WriteString(strings.Repeat("?", ansi.StringWidth(string(r))))
		}
	}
	return b.String()
}

// writer writes in ASCII what it is given, in whatever pieces.
type writer struct {
	to   io.Writer
	rest []byte // the beginning of a character
}

// Writer is a writer for a terminal of another character set.
func Writer(to io.Writer) io.Writer { return &writer{to: to} }

func (w *writer) Write(b []byte) (int, error) {
	text := append(w.rest, b...)
	whole := len(text)
	for back := 1; back < utf8.UTFMax && back <= len(text); back++ {
		if tail := text[len(text)-back:]; utf8.RuneStart(tail[0]) {
			if !utf8.FullRune(tail) {
				whole = len(text) - back
			}
			break
		}
	}
	_, err := io.WriteString(w.to, ASCII(string(text[:whole])))
	w.rest = append([]byte(nil), text[whole:]...)
	return len(b), err
}

// File is a terminal that is written to so.
type File struct {
	*os.File
	w io.Writer
}

// OfFile makes one.
func OfFile(f *os.File) *File { return &File{f, Writer(f)} }

func (f *File) Write(b []byte) (int, error) { return f.w.Write(b) }

// WriteString is Write.
func (f *File) WriteString(s string) (int, error) { return f.w.Write([]byte(s)) }
