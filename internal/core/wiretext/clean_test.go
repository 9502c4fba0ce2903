package wiretext_test

import (
	"strings"
	"testing"
	"unicode"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/wiretext"
)

func TestClean(t *testing.T) {
	for in, want := range map[string]string{
		"":                       "",
		"pier-gw":                "pier-gw",
		"Fähre 3":                "Fähre 3",
		"a\x1b[31mred":           `a\x1b[31mred`,
		"tab\there":              `tab\x09here`,
		"over\rwritten":          `over\x0dwritten`,
		"c1 \u009b31m":           `c1 \u009b31m`,
		"right \u202eto left":    `right \u202eto left`,
		"line\u2028separator":    `line\u2028separator`,
		"no \xff utf-8":          `no \xff utf-8`,
		"zero\u200bwidth":        `zero\u200bwidth`,
		strings.Repeat("x", 300): strings.Repeat("x", 256) + "…",
	} {
		assert.Equal(t, want, wiretext.Clean(in), "%q", in)
	}
}

func FuzzClean(f *testing.F) {
	f.Add("a\x1b]0;title\x07\u009b\u202e\xff")
	f.Fuzz(func(t *testing.T, in string) {
		out := wiretext.Clean(in)
		if !utf8.ValidString(out) {
			t.Fatalf("%q: not UTF-8", in)
		}
		for _, r := range out {
			if !unicode.IsPrint(r) {
				t.Fatalf("%q: %q reaches the terminal", in, r)
			}
		}
	})
}
