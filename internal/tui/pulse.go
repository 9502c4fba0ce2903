package tui

import (
	"fmt"
)

// pulseView shows how the witnesses stand, in a row each.
var pulseView = &view{
	key: "0", name: "pulse", does: "each witness in a row: answering or silent, and since when", live: true,
	help: [][2]string{{"0", "the witnesses, the nearest to this machine first"}},
	draw: func(m *model) []string {
		lines := append(m.head(), "")
		for _, w := range m.state.Witness {
			r := &row{}
			r.at(2).put(m.theme.text, fit(w.Name, 30)).at(34).put(m.theme.faint, fmt.Sprintf("%v since %s", w.Health, w.Since.Format("15:04:05")))
			lines = append(lines, r.cut(m.width))
		}
		return lines
	},
}
