package draw

import (
	"fmt"
	"image"
	"image/color"
	"io"
	"math"
	"time"

	"codeberg.org/go-fonts/liberation/liberationsansbold"
	"codeberg.org/go-fonts/liberation/liberationsansregular"
	"codeberg.org/go-pdf/fpdf"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/vg"
)

// pdf is a canvas on a PDF page. The plotting library's own garbles text beyond ASCII and mixes typefaces up; this one embeds the fonts, so
// that a page looks the same everywhere and can be searched, and gives the same bytes for the same drawing.
type pdf struct {
	d     *fpdf.Fpdf
	state pdfState
	stack []pdfState
}

type pdfState struct {
	color color.Color
	width vg.Length
}

var _ vg.Canvas = (*pdf)(nil)

func (p Page) writePDF(w io.Writer) error {
	height := p.height()
	d := newPDF(&fpdf.InitType{UnitStr: "pt", Size: fpdf.SizeType{Wd: pageWidth.Points(), Ht: height.Points()}}, p.Title, p.At)
	d.AddPage()
	c := newCanvas(d)
	c.upwards(height)
	p.draw(c)
	d.TransformEnd()
	return d.Output(w)
}

func newPDF(init *fpdf.InitType, title string, at time.Time) *fpdf.Fpdf {
	d := fpdf.NewCustom(init)
	d.SetCreationDate(at)
	d.SetModificationDate(at)
	d.SetCatalogSort(true)
	d.SetAutoPageBreak(false, 0)
	d.SetTitle(clean(title), true)
	d.SetCreator("Passepartout", true)
	d.AddUTF8FontFromBytes("sans", "", liberationsansregular.TTF)
	d.AddUTF8FontFromBytes("sans", "B", liberationsansbold.TTF)
	return d
}

func newCanvas(d *fpdf.Fpdf) *pdf { return &pdf{d: d, state: pdfState{color: color.Black, width: 1}} }

// upwards puts the origin of a page of that height at the bottom, from where y grows upwards, until the transformation ends.
func (c *pdf) upwards(height vg.Length) {
	c.d.TransformBegin()
	c.d.TransformTranslate(0, height.Points())
	c.d.TransformScale(100, -100, 0, 0)
}

func (c *pdf) SetLineWidth(w vg.Length) { c.state.width = w; c.d.SetLineWidth(w.Points()) }

func (c *pdf) SetLineDash(pattern []vg.Length, offset vg.Length) {
	dashes := make([]float64, len(pattern))
	for i, l := range pattern {
		dashes[i] = l.Points()
	}
	c.d.SetDashPattern(dashes, offset.Points())
}

func (c *pdf) SetColor(col color.Color) {
	if col == nil {
		col = color.Black
	}
	c.state.color = col
	r, g, b, _ := col.RGBA()
	c.d.SetFillColor(int(r>>8), int(g>>8), int(b>>8))
	c.d.SetDrawColor(int(r>>8), int(g>>8), int(b>>8))
	c.d.SetTextColor(int(r>>8), int(g>>8), int(b>>8))
}

func (c *pdf) Rotate(rad float64)    { c.d.TransformRotate(-rad*180/math.Pi, 0, 0) }
func (c *pdf) Translate(pt vg.Point) { c.d.TransformTranslate(pt.X.Points(), pt.Y.Points()) }
func (c *pdf) Scale(x, y float64)    { c.d.TransformScale(x*100, y*100, 0, 0) }
func (c *pdf) Push()                 { c.stack = append(c.stack, c.state); c.d.TransformBegin() }
func (c *pdf) Stroke(p vg.Path) {
	if c.state.width > 0 {
		c.path(p)
		c.d.DrawPath("D")
	}
}
func (c *pdf) Fill(p vg.Path)                      { c.path(p); c.d.DrawPath("F") }
func (c *pdf) DrawImage(vg.Rectangle, image.Image) { panic("draw: no pictures are drawn") }

func (c *pdf) Pop() {
	c.state, c.stack = c.stack[len(c.stack)-1], c.stack[:len(c.stack)-1]
	c.d.TransformEnd()
	c.SetColor(c.state.color)
	c.d.SetLineWidth(c.state.width.Points())
}

func (c *pdf) path(p vg.Path) {
	for _, s := range p {
		x, y := s.Pos.X.Points(), s.Pos.Y.Points()
		switch s.Type {
		case vg.MoveComp:
			c.d.MoveTo(x, y)
		case vg.LineComp:
			c.d.LineTo(x, y)
		case vg.ArcComp:
			// In pieces small enough to be straight.
			const pieces = 24
			for i := range pieces + 1 {
				a := s.Start + s.Angle*float64(i)/pieces
				px, py := x+s.Radius.Points()*math.Cos(a), y+s.Radius.Points()*math.Sin(a)
				c.d.LineTo(px, py)
			}
		case vg.CurveComp:
			switch len(s.Control) {
			case 1:
				c.d.CurveTo(s.Control[0].X.Points(), s.Control[0].Y.Points(), x, y)
			case 2:
				c.d.CurveBezierCubicTo(s.Control[0].X.Points(), s.Control[0].Y.Points(), s.Control[1].X.Points(), s.Control[1].Y.Points(),
					x, y)
			}
		case vg.CloseComp:
			c.d.ClosePath()
		default:
			panic(fmt.Sprintf("draw: path component %d", s.Type))
		}
	}
}

func (c *pdf) FillString(f font.Face, pt vg.Point, words string) {
	if f.Font.Size == 0 {
		return
	}
	weight := ""
	if f.Font.Weight > 0 {
		weight = "B"
	}
	c.d.SetFont("sans", weight, f.Font.Size.Points())
	c.d.TransformBegin()
	c.d.TransformTranslate(pt.X.Points(), pt.Y.Points())
	c.d.TransformScale(100, -100, 0, 0)
	c.d.Text(0, 0, words)
	c.d.TransformEnd()
}
