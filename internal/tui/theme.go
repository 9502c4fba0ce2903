package tui

import (
	"image/color"

	"charm.land/lipgloss/v2"

	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

// styleOf is how a piece of a row looks.
type styleOf = lipgloss.Style

// theme holds every colour. A state is always a word and a shape as well: nothing is told by colour alone.
type theme struct {
	text, faint, accent, rule lipgloss.Style
	state                     map[verdict.State]lipgloss.Style
	zone                      map[zone.Zone]lipgloss.Style
	key                       lipgloss.Style
	loud                      lipgloss.Style // the headline
}

func newTheme(dark bool) theme {
	pick := lipgloss.LightDark(dark)
	c := func(light, onDark string) color.Color { return pick(lipgloss.Color(light), lipgloss.Color(onDark)) }
	fg := func(c color.Color) lipgloss.Style { return lipgloss.NewStyle().Foreground(c) }
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
		zone: map[zone.Zone]lipgloss.Style{zone.Host: fg(brass), zone.LocalSubnet: fg(coral), zone.Beyond: fg(water)},
		loud: fg(ink).Bold(true),
		state: map[verdict.State]lipgloss.Style{
			verdict.StateUnknown: fg(slate), verdict.Holds: fg(sea), verdict.Strained: fg(amber), verdict.Broken: fg(coral).Bold(true),
			verdict.Skipped: fg(slate),
		},
	}
}

// strands are the shapes of the states.
var strands = map[verdict.State]string{
	verdict.StateUnknown: "┈┈", verdict.Holds: "━━", verdict.Strained: "╍╍", verdict.Broken: "━╳", verdict.Skipped: "··",
}
