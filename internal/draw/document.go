package draw

import (
	"fmt"
	"io"
	"time"

	"codeberg.org/go-pdf/fpdf"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	vgdraw "gonum.org/v1/plot/vg/draw"
)

// Document is a text of some pages, upright, with a drawing at its head: what is asked of the reader, and what there is to know.
type Document struct {
	Title    string
	At       time.Time // it dates the file, so that the same document gives the same bytes
	Lead     string    // what the list is
	List     []string
	Figure   Figure // nil: none
	Sections []Section
}

// Section is a part of a document: rows of a name and a value.
type Section struct {
	Title string
	Rows  [][2]string
}

// The page: A4 upright.
const (
	sheetWidth  = 21 * vg.Centimeter
	sheetHeight = 29.7 * vg.Centimeter
	sheetMargin = 1.8 * vg.Centimeter
	nameWidth   = 4.2 * vg.Centimeter
)

// sheets lays lines out from the top of a page to its bottom, and goes on on the next.
type sheets struct {
	*pdf
	title string
	page  int
	y     vg.Length // of the last baseline, from the bottom
}

// WritePDF writes it.
func (p Document) WritePDF(w io.Writer) error {
	d := newPDF(&fpdf.InitType{UnitStr: "pt", SizeStr: "A4"}, p.Title, p.At)
	s := &sheets{pdf: newCanvas(d), title: p.Title}
	s.turn()
	s.lines(bold(titleSize), sheetMargin, titleSize*1.3, p.Title)
	if len(p.List) > 0 {
		s.space(lineHeight)
		s.lines(bold(textSize), sheetMargin, lineHeight, p.Lead)
		for _, one := range p.List {
			s.lines(plain(textSize), sheetMargin+10, lineHeight, "– "+one)
		}
	}
	if p.Figure != nil {
		s.figure(p.Figure)
	}
	for _, part := range p.Sections {
		s.need(4 * lineHeight)
		s.space(lineHeight * .9)
		s.lines(bold(textSize+1.5), sheetMargin, lineHeight, part.Title)
		s.space(3)
		for _, row := range part.Rows {
			s.row(row)
		}
	}
	d.TransformEnd()
	return d.Output(w)
}

// turn begins a page.
func (s *sheets) turn() {
	if s.page > 0 {
		s.d.TransformEnd()
	}
	s.page++
	s.d.AddPage()
	s.upwards(sheetHeight)
	if s.page > 1 {
		head := fmt.Sprintf("%s · page %d", s.title, s.page)
		put(s.canvas(sheetHeight, 0), faint(smallSize), sheetMargin, sheetHeight-sheetMargin*.6, head)
	}
	s.y = sheetHeight - sheetMargin
}

func (s *sheets) canvas(top, bottom vg.Length) vgdraw.Canvas {
	c := vgdraw.NewCanvas(s.pdf, sheetWidth, sheetHeight)
	c.Min.X, c.Max.X, c.Min.Y, c.Max.Y = sheetMargin, sheetWidth-sheetMargin, bottom, top
	return c
}

// need turns the page where less than that much of it is left.
func (s *sheets) need(h vg.Length) {
	if s.y-h < sheetMargin {
		s.turn()
	}
}

func (s *sheets) space(h vg.Length) { s.y -= h }

func (s *sheets) lines(style text.Style, x, height vg.Length, words string) {
	for _, line := range wrapHard(style, words, sheetWidth-sheetMargin-x) {
		s.need(height)
		s.y -= height
		put(s.canvas(s.y, 0), style, x, s.y, line)
	}
}

func (s *sheets) row(row [2]string) {
	names := wrapHard(faint(textSize), row[0], nameWidth-8)
	values := wrapHard(plain(textSize), row[1], sheetWidth-2*sheetMargin-nameWidth)
	for i := range max(len(names), len(values)) {
		s.need(lineHeight)
		s.y -= lineHeight
		c := s.canvas(s.y, 0)
		if i < len(names) {
			put(c, faint(textSize), sheetMargin, s.y, names[i])
		}
		if i < len(values) {
			put(c, plain(textSize), sheetMargin+nameWidth, s.y, values[i])
		}
	}
}

// figure draws a drawing that is made for a page across, smaller.
func (s *sheets) figure(f Figure) {
	const across = pageWidth - 2*margin
	small := float64((sheetWidth - 2*sheetMargin) / across)
	h := f.Height(across)
	s.need(h*vg.Length(small) + 2*lineHeight)
	s.space(lineHeight)
	s.Push()
	s.Translate(vg.Point{X: sheetMargin, Y: s.y - h*vg.Length(small)})
	s.Scale(small, small)
	c := vgdraw.NewCanvas(s.pdf, across, h)
	f.Draw(c)
	s.Pop()
	s.space(h * vg.Length(small))
}

// wrapHard is wrap, and breaks what is one word and wider than a line.
func wrapHard(s text.Style, words string, width vg.Length) (out []string) {
	for _, line := range wrap(s, words, width) {
		for s.Width(line) > width {
			n := 0
			runes := []rune(line)
			for n < len(runes)-1 && s.Width(string(runes[:n+1])) <= width {
				n++
			}
			n = max(n, 1)
			out, line = append(out, string(runes[:n])), string(runes[n:])
		}
		out = append(out, line)
	}
	return out
}
