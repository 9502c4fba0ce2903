package tui

import (
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// All views stand above the foot, whole, and a click on one opens it.
func TestViewsStandAboveTheFoot(t *testing.T) {
	m := logged()
	for _, width := range []int{80, 100, 142, 200} {
		send(m, tea.WindowSizeMsg{Width: width, Height: 30})
		for _, v := range views {
			line, spots := m.viewsRow()
			require.Len(t, spots, len(views), "%d", width)
			assert.LessOrEqual(t, ansi.StringWidth(line), width)
			for _, s := range spots {
				if s.view == v {
					send(m, tea.MouseClickMsg{X: s.x0, Y: s.y, Button: tea.MouseLeft})
				}
			}
			assert.Equal(t, v.name, m.view.name, "%d", width)
		}
	}
}
