package tui

import (
	"image/color"
	"strings"

	"charm.land/lipgloss/v2"

	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

// paint is how a piece of a row looks. What a terminal is told before and after it is worked out once: rows are put together many times a
// second.
type paint struct {
	style         lipgloss.Style
	before, after string
}

func painted(s lipgloss.Style) paint {
	before, after, _ := strings.Cut(s.Render("x"), "x")
	return paint{s, before, after}
}

// Render gives a text of one line in its look.
func (p paint) Render(text string) string {
	if text == "" {
		return ""
	}
	return p.before + text + p.after
}

// Underline is the same, underlined.
func (p paint) Underline(on bool) paint { return painted(p.style.Underline(on)) }

// Reverse is the same, with its colours changed for each other.
func (p paint) Reverse(on bool) paint { return painted(p.style.Reverse(on)) }

// Bold is the same, in bold.
func (p paint) Bold(on bool) paint { return painted(p.style.Bold(on)) }

// theme holds every colour. A state is always a word and a shape as well: nothing is told by colour alone.
type theme struct {
	text, faint, accent, rule paint
	state                     map[verdict.State]paint
	zone                      map[zone.Zone]paint
	key                       paint
	loud                      paint // the headline
}

func newTheme(dark bool) theme {
	pick := lipgloss.LightDark(dark)
	c := func(light, onDark string) color.Color { return pick(lipgloss.Color(light), lipgloss.Color(onDark)) }
	fg := func(c color.Color) paint { return painted(lipgloss.NewStyle().Foreground(c)) }
	var (
		// Near enough to entries of the palette of 256 that they stay apart where a terminal has no more.
		ink   = c("#1c1c1c", "#d9dfe6")
		slate = c("#626262", "#7d8b99")
		brass = c("#875f00", "#d2ab5f")
		sea   = c("#00695c", "#5dba9b")
		amber = c("#af5f00", "#f5a623")
		coral = c("#af0000", "#f2725e")
		water = c("#005f87", "#6fb3d9")
		hair  = c("#c6c6c6", "#35404b")
	)
	return theme{
		text: fg(ink), faint: fg(slate), accent: fg(brass), rule: fg(hair),
		key:  fg(brass),
		zone: map[zone.Zone]paint{zone.Host: fg(brass), zone.LocalSubnet: fg(coral), zone.Beyond: fg(water)},
		loud: fg(ink).Bold(true),
		state: map[verdict.State]paint{
			verdict.StateUnknown: fg(slate), verdict.Holds: fg(sea), verdict.Strained: fg(amber), verdict.Broken: fg(coral).Bold(true),
			verdict.Skipped: fg(slate),
		},
	}
}

// strands are the shapes of the states.
var strands = map[verdict.State]string{
	verdict.StateUnknown: "┈┈", verdict.Holds: "━━", verdict.Strained: "╍╍", verdict.Broken: "━╳", verdict.Skipped: "··",
}
