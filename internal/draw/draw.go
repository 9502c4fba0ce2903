// Package draw makes drawings for paper and for another team: SVG and PDF, legible in black and white. It draws what it is given and
// computes nothing.
package draw

import (
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"time"

	"gonum.org/v1/plot/vg"
	vgdraw "gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgsvg"

	"passepartout/internal/plainfile"
)

// Figure is something that can be drawn.
type Figure interface {
	// Height is how much it needs at a given width.
	Height(width vg.Length) vg.Length
	// Draw fills the canvas from the top.
	Draw(vgdraw.Canvas)
}

// Page is figures one under the other, under a head that says what, of whom, to whom and when.
type Page struct {
	Title string
	Lines []string  // under the title
	At    time.Time // of what is shown; it also dates the file, so that the same page gives the same bytes
	Parts []Figure
}

// The page: A4 across, so that it prints without a thought.
const (
	pageWidth = 29.7 * vg.Centimeter
	margin    = 1.5 * vg.Centimeter
	gap       = 0.7 * vg.Centimeter
)

func (p Page) height() vg.Length {
	h := 2*margin + titleSize*1.6 + vg.Length(len(p.Lines))*lineHeight
	for _, f := range p.Parts {
		h += gap + f.Height(pageWidth-2*margin)
	}
	return h
}

func (p Page) draw(c vg.Canvas) {
	height := p.height()
	dc := vgdraw.NewCanvas(c, pageWidth, height)
	dc.FillPolygon(paper, []vg.Point{{}, {X: pageWidth}, {X: pageWidth, Y: height}, {Y: height}})
	dc = vgdraw.Crop(dc, margin, -margin, margin, -margin)
	y := dc.Max.Y - titleSize
	put(dc, bold(titleSize), dc.Min.X, y, p.Title)
	y -= titleSize * .6
	for _, l := range p.Lines {
		y -= lineHeight
		put(dc, plain(textSize), dc.Min.X, y, l)
	}
	for _, f := range p.Parts {
		y -= gap
		h := f.Height(dc.Max.X - dc.Min.X)
		part := dc
		part.Max.Y, part.Min.Y = y, y-h
		f.Draw(part)
		y -= h
	}
}

// Format tells a drawing's format from a file's name.
func Format(path string) (string, error) {
	switch ext := strings.ToLower(filepath.Ext(path)); ext {
	case ".svg", ".pdf":
		return ext[1:], nil
	}
	return "", fmt.Errorf("%q: a drawing's name ends in .svg or .pdf", path)
}

// Write writes a page in a format that Format gave.
func (p Page) Write(w io.Writer, format string) error {
	if format == "pdf" {
		return p.writePDF(w)
	}
	c := vgsvg.New(pageWidth, p.height())
	p.draw(c)
	_, err := c.WriteTo(w)
	return err
}

// WriteFile writes a page to a file, whole or not at all.
func (p Page) WriteFile(path string) error {
	format, err := Format(path)
	if err != nil {
		return err
	}
	return plainfile.Write(path, func(w io.Writer) error { return p.Write(w, format) })
}
