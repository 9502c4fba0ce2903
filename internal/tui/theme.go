package tui

import (
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

// palettes are the colours on each background. All of them but the rule's stand out by 4.5 to 1 at least, which a test holds them to. They
// are near enough to entries of the palette of 256 that they stay apart where a terminal has no more.
var palettes = map[background]palette{
	unknownBackground: {ink: "", slate: "#697786", brass: "#9f6b04", sea: "#00856a", amber: "#bd5800", coral: "#e62113", water: "#0a7cb6",
		hair: "#777777"},
	darkBackground: {ink: "#d9dfe6", slate: "#8a98a6", brass: "#d2ab5f", sea: "#5dba9b", amber: "#f5a623", coral: "#f2725e", water: "#6fb3d9",
		hair: "#3d4955"},
	lightBackground: {ink: "#1c1c1c", slate: "#5c5c5c", brass: "#7d5800", sea: "#00695c", amber: "#9c5200", coral: "#af0000", water: "#005f87",
		hair: "#9a9a9a"},
}

// palette names its colours; "" is the terminal's own.
type palette struct{ ink, slate, brass, sea, amber, coral, water, hair string }

func newTheme(on background) theme {
	p := palettes[on]
	fg := func(c string) paint {
		s := lipgloss.NewStyle()
		if c != "" {
			s = s.Foreground(lipgloss.Color(c))
		}
		return painted(s)
	}
	ink, slate, brass, sea, amber, coral, water, hair := p.ink, p.slate, p.brass, p.sea, p.amber, p.coral, p.water, p.hair
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
