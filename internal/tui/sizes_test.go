package tui

import (
	"slices"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
)

// flat is a page in one line, so that a sentence is found wherever it is broken.
func flat(page string) string {
	words := strings.FieldsFunc(page, func(r rune) bool { return r == ' ' || r == '\n' || r == '│' })
	return strings.Join(words, " ")
}

// At every size the verdict, what to do next and what is chosen are whole, and the foot speaks in words.
func TestNothingImportantIsCut(t *testing.T) {
	for name, change := range map[string]func(*evidence.Set){"healthy": nil, "gateway silent": GatewayGone, "no address": NoAddress,
		"cut off beyond": Cut, "isolated": Isolated, "no permission": WithoutFrames} {
		t.Run(name, func(t *testing.T) {
			for _, size := range sizes {
				m := showing(t, size[0], size[1], change)
				page := flat(text(m))
				v := m.state.Verdict
				assert.Contains(t, page, v.Certainty(), "%v", size)
				assert.Contains(t, page, flat(m.result.Sentence), "%v", size)
				if len(m.result.Next) > 0 {
					assert.Contains(t, page, flat(m.result.Next[0]), "%v", size)
				}
				for i, c := range m.result.Checks {
					m.selectCheck(i)
					assert.Contains(t, flat(rightOf(m)), flat(c.Fact), "%v", size)
				}
				for _, v := range views {
					m.show(v)
					m.open()
					whole(t, m, v.name)
					rows := strings.Split(text(m), "\n")
					foot := rows[len(rows)-1]
					assert.Contains(t, foot, "? all keys", v.name)
					all := slices.DeleteFunc(slices.Concat(v.deeds, m.general()), func(d deed) bool { return d.more })
					first := all[0]
					assert.Contains(t, foot, first.name, "%s at %v", v.name, size)
					assert.Contains(t, rows[len(rows)-2], v.key+" ", v.name)
				}
			}
		})
	}
}

// rightOf is what stands beside the list of an overview; all of the page where there is no room for that.
func rightOf(m *model) string {
	page := text(m)
	if m.narrow() {
		return page
	}
	var out []string
	for line := range strings.Lines(page) {
		if _, right, ok := strings.Cut(line, "│"); ok {
			out = append(out, right)
		}
	}
	return strings.Join(out, " ")
}

// In a narrow window what a check rests on stands under it, and follows the choice.
func TestANarrowOverviewUnfoldsTheChosenCheck(t *testing.T) {
	m := showing(t, 60, 20, GatewayGone)
	shows(t, m, "▸━╳ gateway", "who has 172.27.40.1?", "1 overview ─ ? lists the other views")
	row := func(what string) int {
		for i, line := range strings.Split(text(m), "\n") {
			if strings.Contains(line, what) {
				return i
			}
		}
		return -1
	}
	above := row("▸━╳ gateway")
	assert.Less(t, above, row("asked"), "below it")
	press(m, "home")
	shows(t, m, "▸━━ loopback")
	at := row("interface ")
	send(m, tea.MouseClickMsg{X: 50, Y: at, Button: tea.MouseLeft})
	shows(t, m, "▸━━ interface")
	send(m, tea.WindowSizeMsg{Width: 80, Height: 24})
	shows(t, m, "│ ")
}

func TestARowFoldsWhole(t *testing.T) {
	th := newTheme(darkBackground)
	for _, c := range []struct {
		name  string
		words []string
		width int
		want  []string
	}{
		{"fits", []string{"one ", "two"}, 10, []string{"one two"}},
		{"folds", []string{"one two ", "three four"}, 9, []string{"one two", "    three", "    four"}},
		{"a long word", []string{"a ", strings.Repeat("x", 12)}, 8, []string{"a", "    xxxx", "    xxxx", "    xxxx"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := &row{}
			for i, w := range c.words {
				r.put([]paint{th.text, th.loud}[i%2], w)
			}
			var got []string
			for _, line := range r.fold(c.width, 4) {
				assert.LessOrEqual(t, ansi.StringWidth(line), c.width)
				got = append(got, strings.TrimRight(ansi.Strip(line), " "))
			}
			assert.Equal(t, c.want, got)
		})
	}
}
