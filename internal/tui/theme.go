package tui

import (
	"image/color"

	"charm.land/lipgloss/v2"

	"passepartout/internal/core/verdict"
)

// theme holds every colour. A state is always a word and a shape as well: nothing is told by colour alone.
type theme struct {
	text, faint, accent, rule lipgloss.Style
	state                     map[verdict.State]lipgloss.Style
	key                       lipgloss.Style
	loud                      lipgloss.Style // the headline
	pick                      lipgloss.Style // what is selected
}

func newTheme(dark bool) theme {
	pick := lipgloss.LightDark(dark)
	c := func(light, onDark string) color.Color { return pick(lipgloss.Color(light), lipgloss.Color(onDark)) }
	fg := func(c color.Color) lipgloss.Style { return lipgloss.NewStyle().Foreground(c) }
	var (
		ink    = c("#1c2530", "#d9dfe6")
		slate  = c("#66727f", "#7d8b99")
		brass  = c("#83600f", "#d2ab5f")
		sea    = c("#157055", "#5dba9b")
		amber  = c("#925800", "#e2a63e")
		coral  = c("#b93522", "#f2725e")
		hair   = c("#c3cad2", "#35404b")
		chosen = c("#e9e2d2", "#2a2f33")
	)
	return theme{
		text: fg(ink), faint: fg(slate), accent: fg(brass), rule: fg(hair),
		key:  fg(brass),
		loud: fg(ink).Bold(true),
		pick: lipgloss.NewStyle().Background(chosen),
		state: map[verdict.State]lipgloss.Style{
			verdict.StateUnknown: fg(slate), verdict.Holds: fg(sea), verdict.Strained: fg(amber), verdict.Broken: fg(coral).Bold(true), verdict.Skipped: fg(slate),
		},
	}
}

// strands are the shapes of the states.
var strands = map[verdict.State]string{
	verdict.StateUnknown: "┈┈", verdict.Holds: "━━", verdict.Strained: "╍╍", verdict.Broken: "━╳", verdict.Skipped: "··",
}
