package draw

import (
	"image/color"
	"strings"

	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
)

type nrgba = color.NRGBA

func rgb(c uint32) nrgba { return nrgba{R: byte(c >> 16), G: byte(c >> 8), B: byte(c), A: 255} }

// wrap breaks text into lines of at most a width.
func wrap(s text.Style, words string, width vg.Length) (out []string) {
	current := ""
	for _, w := range strings.Fields(clean(words)) {
		switch {
		case current == "":
			current = w
		case s.Width(current+" "+w) <= width:
			current += " " + w
		default:
			out, current = append(out, current), w
		}
	}
	if current != "" {
		out = append(out, current)
	}
	return out
}
