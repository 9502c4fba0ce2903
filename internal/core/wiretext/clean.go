// Package wiretext makes strings that came from outside (names, options, files) safe to show.
package wiretext

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// Longest is how many runes of a foreign string are shown; a DNS name has at most 253 octets (RFC 1035 §2.3.4).
const Longest = 256

// Clean returns s as data: control characters, the C1 range (U+009B begins an escape sequence on some terminals), direction overrides
// (U+202E and its kin), line separators and bytes that are no UTF-8 come back as visible escapes, and what is longer than Longest is cut.
func Clean(s string) string {
	plain := len(s) <= Longest
	for i := 0; plain && i < len(s); i++ {
		plain = s[i] >= 0x20 && s[i] < 0x7f
	}
	if plain {
		return s
	}
	var b strings.Builder
	runes := 0
	for len(s) > 0 {
		if runes == Longest {
			b.WriteRune('…')
			break
		}
		r, size := utf8.DecodeRuneInString(s)
		switch {
		case r == utf8.RuneError && size == 1:
			b.WriteString(hex(rune(s[0]), 2, `\x`))
		case r < 0x20 || r == 0x7f:
			b.WriteString(hex(r, 2, `\x`))
		case !unicode.IsPrint(r):
			b.WriteString(hex(r, 4, `\u`))
		default:
			b.WriteRune(r)
		}
		s = s[size:]
		runes++
	}
	return b.String()
}

func hex(r rune, digits int, lead string) string {
	const set = "0123456789abcdef"
	out := make([]byte, digits)
	for i := digits - 1; i >= 0; i-- {
		out[i] = set[r&15]
		r >>= 4
	}
	return lead + string(out)
}

// Clip cuts what a person has typed to what a line that refuses it has room for; %q makes the rest of it safe to show.
func Clip(s string) string {
	const most = 60
	if len(s) > most {
		return s[:most-3] + "..."
	}
	return s
}
