package draw

import (
	"cmp"
	"image/color"
	"passepartout/internal/core/zone"

	xfont "golang.org/x/image/font"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	vgdraw "gonum.org/v1/plot/vg/draw"
)

const (
	titleSize  = 16 * vg.Length(1)
	textSize   = 9.5 * vg.Length(1)
	smallSize  = 8 * vg.Length(1)
	lineHeight = textSize * 1.45
)

// The colours of the screen, darkened for paper. Each is also told by shape, dash or hatching.
var (
	paper = color.White
	ink   = rgb(0x1c1c1c)
	slate = rgb(0x626a72)
	hair  = rgb(0xc6cbd0)
	brass = rgb(0x875f00)
	sea   = rgb(0x00695c)
	amber = rgb(0xaf5f00)
	coral = rgb(0xaf1a1a)
)

// zoneName names a zone, also one that is not known.
func zoneName(z zone.Zone) string { return cmp.Or(z.String(), "unknown") }

func plain(size vg.Length) text.Style { return style("", size, ink) }
func bold(size vg.Length) text.Style  { return style("bold", size, ink) }
func faint(size vg.Length) text.Style { return style("", size, slate) }

func style(weight string, size vg.Length, c color.Color) text.Style {
	f := font.Font{Typeface: "Liberation", Variant: "Sans", Size: size}
	if weight == "bold" {
		f.Weight = xfont.WeightBold
	}
	return text.Style{Color: c, Font: f, Handler: plot.DefaultTextHandler}
}

// put writes text with its baseline's left end at a place. Control characters and what the fonts lack do not reach it: see clean.
func put(dc vgdraw.Canvas, s text.Style, x, y vg.Length, words string) {
	if words != "" {
		dc.FillText(s, vg.Point{X: x, Y: y}, clean(words))
	}
}

// right writes text that ends at a place.
func right(dc vgdraw.Canvas, s text.Style, x, y vg.Length, words string) {
	put(dc, s, x-s.Width(clean(words)), y, words)
}

// clean leaves out what no drawing may carry. The fonts' own lack of a glyph shows as an empty box.
func clean(s string) string {
	out := make([]rune, 0, len(s))
	for _, r := range s {
		switch {
		case r < ' ' || r == 0x7f || r >= 0x80 && r < 0xa0 || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 || r == 0xfffe ||
			r == 0xffff:
			r = '?'
		}
		out = append(out, r)
	}
	return string(out)
}

// cut shortens text to a width.
func cut(s text.Style, words string, width vg.Length) string {
	words = clean(words)
	if s.Width(words) <= width {
		return words
	}
	runes := []rune(words)
	for len(runes) > 1 && s.Width(string(runes)+"…") > width {
		runes = runes[:len(runes)-1]
	}
	return string(runes) + "…"
}

func stroke(c color.Color, width vg.Length, dashes ...vg.Length) vgdraw.LineStyle {
	return vgdraw.LineStyle{Color: c, Width: width, Dashes: dashes}
}

func line(dc vgdraw.Canvas, s vgdraw.LineStyle, x1, y1, x2, y2 vg.Length) {
	dc.StrokeLine2(s, x1, y1, x2, y2)
}

func box(dc vgdraw.Canvas, c color.Color, x1, y1, x2, y2 vg.Length) {
	dc.FillPolygon(c, []vg.Point{{X: x1, Y: y1}, {X: x2, Y: y1}, {X: x2, Y: y2}, {X: x1, Y: y2}})
}

// cross is the mark of what is lost or broken.
func cross(dc vgdraw.Canvas, s vgdraw.LineStyle, x, y, r vg.Length) {
	line(dc, s, x-r, y-r, x+r, y+r)
	line(dc, s, x-r, y+r, x+r, y-r)
}
