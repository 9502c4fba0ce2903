package tui

import (
	"math"
	"path/filepath"
	"testing"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/adrg/xdg"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// luminance is a colour's relative luminance (WCAG 2.2).
func luminance(c string) float64 {
	r, g, b, _ := lipgloss.Color(c).RGBA()
	channel := func(x uint32) float64 {
		v := float64(x) / 0xffff
		if v <= .04045 {
			return v / 12.92
		}
		return math.Pow((v+.055)/1.055, 2.4)
	}
	return .2126*channel(r) + .7152*channel(g) + .0722*channel(b)
}

func contrast(a, b string) float64 {
	x, y := luminance(a), luminance(b)
	return (max(x, y) + .05) / (min(x, y) + .05)
}

// Each colour stands out from the backgrounds on which it is seen, by 4.5 to 1 (WCAG 2.2, 1.4.3); the rule is no text, and is seen.
func TestContrast(t *testing.T) {
	assert.InDelta(t, 21, contrast("#000000", "#ffffff"), .01)
	for on, backgrounds := range map[background][]string{
		unknownBackground: {"#000000", "#ffffff"},
		darkBackground:    {"#000000", "#101418", "#1e1e1e", "#282c34"},
		lightBackground:   {"#ffffff", "#fafafa", "#f0f0f0"},
	} {
		p := palettes[on]
		for _, back := range backgrounds {
			for name, c := range map[string]string{"ink": p.ink, "slate": p.slate, "brass": p.brass, "sea": p.sea, "amber": p.amber,
				"coral": p.coral, "water": p.water} {
				if c != "" {
					assert.GreaterOrEqual(t, contrast(c, back), 4.5, "%s %s on %s", name, c, back)
				}
			}
			assert.GreaterOrEqual(t, contrast(p.hair, back), 1.4, "the rule on %s", back)
		}
	}
}

// What the terminal says of itself chooses the colours, unless a person has.
func TestTheTerminalSaysWhatItIs(t *testing.T) {
	white := tea.BackgroundColorMsg{Color: lipgloss.Color("#ffffff")}
	for theme, want := range map[string]background{"": lightBackground, "auto": lightBackground, "dark": darkBackground} {
		m := newModel(t.Context(), Config{Ground: Ground{Machine: still{}}, Theme: theme})
		m.Update(white)
		assert.Equal(t, newTheme(want).text, m.theme.text, theme)
	}
	m := newModel(t.Context(), Config{Ground: Ground{Machine: still{}}})
	assert.Equal(t, newTheme(unknownBackground).text, m.theme.text, "it may never say")
}

// A theme that was asked for once is remembered.
func TestThemeIsRemembered(t *testing.T) {
	was := xdg.StateHome
	xdg.StateHome = filepath.Join(t.TempDir(), "state")
	defer func() { xdg.StateHome = was }()
	for _, c := range [][2]string{{"", "auto"}, {"light", "light"}, {"", "light"}, {"auto", "auto"}, {"", "auto"}} {
		got, err := Theme(c[0])
		require.NoError(t, err)
		assert.Equal(t, c[1], got)
	}
	_, err := Theme("sepia")
	require.ErrorContains(t, err, "auto, light, dark")
}
