package report

import (
	"bytes"
	"html/template"
	"io"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/ticket"
	"passepartout/internal/core/topology"
	"passepartout/internal/core/verdict"
	"passepartout/internal/draw"
)

// linePage is the line between the machine and what was asked for, alone on a page.
func linePage(s *evidence.Set, r verdict.Result, at time.Time) draw.Page {
	return draw.Page{Title: "The line", At: at, Parts: []draw.Figure{draw.Line{Line: topology.Of(s, r)}}}
}

// ticketHTML is one file that fetches nothing (CSP Level 3: what is not in it is refused), readable on a telephone and on paper. The
// template escapes whatever comes from outside by where it stands.
var ticketHTML = template.Must(template.New("report").Parse(`<!DOCTYPE html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; style-src 'unsafe-inline'">
<title>{{.Title}}</title>
<style>
body { font: 16px/1.45 system-ui, sans-serif; max-width: 60em; margin: 2em auto; padding: 0 1em; color: #14181c; background: #fff }
h1 { font-size: 1.5em; line-height: 1.2; overflow-wrap: anywhere }
h2 { font-size: 1.1em; margin: 1.6em 0 .4em; border-bottom: 1px solid #8a939c; padding-bottom: .15em }
dl { display: grid; grid-template-columns: 13em 1fr; gap: .15em 1em; margin: 0 }
dt { color: #4a535b }
dd { margin: 0; overflow-wrap: anywhere }
.asked { border-left: .3em solid #14181c; padding: .2em 0 .2em 1em }
.asked ul { margin: .2em 0; padding-left: 1.2em }
figure { margin: 1em 0; overflow-x: auto }
svg { width: 100%; min-width: 44em; height: auto }
@media (max-width: 40em) {
  dl { grid-template-columns: 1fr; gap: 0 }
  dt { margin-top: .5em; font-size: .85em }
  dt:empty { display: none }
}
@media print { body { margin: 0; max-width: none; font-size: 11pt } h2 { break-after: avoid } }
</style>
</head>
<body>
<h1>{{.Title}}</h1>
{{if .Asked}}<section class="asked"><strong>Asked of you</strong><ul>{{range .Asked}}<li>{{.}}</li>{{end}}</ul></section>{{end}}
{{if .Line}}<figure>{{.Line}}</figure>{{end}}
{{range .All}}<section><h2>{{.Title}}</h2><dl>{{range .Rows}}<dt>{{.Name}}</dt><dd>{{.Value}}</dd>{{end}}</dl></section>
{{end}}</body>
</html>
`))

// WriteHTML writes it as one page, with the line drawn where there is one.
func (t Ticket) WriteHTML(w io.Writer) error {
	line := template.HTML("")
	if t.Set != nil && t.Set.Endpoint != nil {
		var b bytes.Buffer
		if err := linePage(t.Set, t.Result, t.At).Write(&b, "svg"); err != nil {
			return err
		}
		if at := bytes.Index(b.Bytes(), []byte("<svg")); at >= 0 { // our own drawing, whose text is escaped as it is drawn
			line = template.HTML(b.Bytes()[at:])
		}
	}
	return ticketHTML.Execute(w, struct {
		Ticket
		Line template.HTML
		All  []ticket.Section
	}{t, line, t.whole()})
}

// WritePDF writes it as a document of some pages, with the line drawn where there is one.
func (t Ticket) WritePDF(w io.Writer) error {
	d := draw.Document{Title: t.Title, At: t.At, Lead: "Asked of you", List: t.Asked}
	if t.Set != nil && t.Set.Endpoint != nil {
		d.Figure = draw.Line{Line: topology.Of(t.Set, t.Result)}
	}
	for _, s := range t.whole() {
		part := draw.Section{Title: s.Title}
		for _, r := range s.Rows {
			part.Rows = append(part.Rows, [2]string{r.Name, r.Value})
		}
		d.Sections = append(d.Sections, part)
	}
	return d.WritePDF(w)
}
