package locale_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/locale"
)

func TestUTF8(t *testing.T) {
	for set, want := range map[string]bool{"": true, "LANG=en_GB.UTF-8": true, "LANG=C.utf8": true, "LANG=C": false, "LANG=POSIX": false,
		"LANG=en_GB": false, "LANG=de_DE.ISO-8859-15@euro": false, "LANG=C LC_ALL=C.UTF-8": true, "LANG=C.UTF-8 LC_ALL=C": false,
		"LANG=C.UTF-8 LC_CTYPE=C": false, "LANG=ca_ES.UTF-8@valencia": true} {
		env := func(name string) string {
			for _, pair := range strings.Fields(set) {
				if n, v, _ := strings.Cut(pair, "="); n == name {
					return v
				}
			}
			return ""
		}
		assert.Equal(t, want, locale.UTF8(env), set)
	}
}

// What is written in pieces is what is written at once, as wide as it was, and of ASCII alone.
func TestASCII(t *testing.T) {
	const text = "\x1b[31m▸━━ gateway\x1b[m │ 2.4 ms ± 1 · café 東 ⠂⠀⡀ …\n"
	const want = "\x1b[31m>== gateway\x1b[m | 2.4 ms ~ 1 . caf? ?? . . ~\n"
	assert.Equal(t, want, locale.ASCII(text))
	for size := 1; size < 9; size++ {
		var b strings.Builder
		w := locale.Writer(&b)
		for rest := []byte(text); len(rest) > 0; {
			n := min(size, len(rest))
			written, err := w.Write(rest[:n])
			require.NoError(t, err)
			assert.Equal(t, n, written)
			rest = rest[n:]
		}
		assert.Equal(t, want, b.String(), size)
	}
}
