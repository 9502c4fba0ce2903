package report

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
)

func TestFold(t *testing.T) {
	long := strings.Repeat("word ", 30)
	for _, c := range []struct {
		name, line string
		hang, rows int
	}{
		{"short", "  · See that it has power.", 4, 1},
		{"a sentence", strings.TrimSpace(long), 0, 2},
		{"a point of a list", "  · " + strings.TrimSpace(long), 4, 2},
		{"a row of a table", "  ━━ holds     gateway set    " + strings.TrimSpace(long), 30, 3},
		{"a word that has no room", "  · run " + strings.Repeat("x", 100) + " again", 4, 3},
		{"a path alone", strings.Repeat("x", 100), 0, 1},
	} {
		t.Run(c.name, func(t *testing.T) {
			rows := strings.Split(fold(c.line, c.hang), "\n")
			assert.Len(t, rows, c.rows)
			for i, row := range rows {
				if !strings.Contains(row, "xxx") {
					assert.LessOrEqual(t, utf8.RuneCountInString(row), columns)
				}
				if i > 0 {
					assert.Equal(t, c.hang, len(row)-len(strings.TrimLeft(row, " ")), row)
				}
			}
			assert.Equal(t, strings.Fields(c.line), strings.Fields(strings.Join(rows, " ")), "nothing is lost")
		})
	}
}
