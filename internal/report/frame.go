package report

import (
	"fmt"
	"io"
	"text/tabwriter"
	"time"

	"passepartout/internal/core/frame"
	"passepartout/internal/core/wording"
)

// FrameSchema names the shape of the JSON.
const FrameSchema = "passepartout.frame/1"

// Opened is a frame of a capture, layer by layer.
type Opened struct {
	File   string
	Number int // from 1
	At     time.Time
	Octets int
	Cut    bool // it was longer than what was kept
	Layers []frame.Layer
}

// WriteJSON writes it as one object. Octets are counted from 0.
func (o *Opened) WriteJSON(w io.Writer) error {
	type field struct {
		Name   string `json:"name"`
		Value  string `json:"value"`
		At     int    `json:"at"`
		Octets int    `json:"octets"`
	}
	type layer struct {
		Name   string  `json:"name"`
		Source string  `json:"source,omitempty"`
		At     int     `json:"at"`
		Octets int     `json:"octets"`
		Quoted bool    `json:"quoted,omitempty"`
		Wrong  string  `json:"wrong,omitempty"`
		Fields []field `json:"fields"`
	}
	out := struct {
		Schema string    `json:"schema"`
		File   string    `json:"file"`
		Frame  int       `json:"frame"`
		At     time.Time `json:"at"`
		Octets int       `json:"octets"`
		Cut    bool      `json:"cut,omitempty"`
		Layers []layer   `json:"layers"`
	}{FrameSchema, o.File, o.Number, o.At.UTC(), o.Octets, o.Cut, []layer{}}
	for _, l := range o.Layers {
		one := layer{l.Name, l.Source, l.At, l.Octets, l.Quoted, l.Wrong, []field{}}
		for _, f := range l.Fields {
			one.Fields = append(one.Fields, field{f.Name, f.Value, f.At, f.Octets})
		}
		out.Layers = append(out.Layers, one)
	}
	return writeJSON(w, out)
}

// WriteCSV writes one line a field (RFC 4180).
func (o *Opened) WriteCSV(w io.Writer) error {
	if err := csvRow(w, "layer", "at", "octets", "name", "value"); err != nil {
		return err
	}
	for _, l := range o.Layers {
		for _, f := range l.Fields {
			if err := csvRow(w, l.Name, f.At, f.Octets, f.Name, f.Value); err != nil {
				return err
			}
		}
	}
	return nil
}

// WriteText writes the layers below each other, each field with the octets that it stands in.
func (o *Opened) WriteText(w io.Writer) error {
	kept := ""
	if o.Cut {
		kept = ", not kept whole"
	}
	fmt.Fprintf(w, "Frame %d of %s, %s, %s%s\n", o.Number, o.File, o.At.Local().Format("2006-01-02 15:04:05.000000"),
		wording.Plural(o.Octets, "octet", "octets"), kept)
	t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	for _, l := range o.Layers {
		name := l.Name
		if l.Quoted {
			name += ", quoted"
		}
		if l.Source != "" {
			name += " (" + l.Source + ")"
		}
		fmt.Fprintf(t, "\n%s\n", name)
		if l.Wrong != "" {
			fmt.Fprintf(t, "  ! %s\n", l.Wrong)
		}
		for _, f := range l.Fields {
			fmt.Fprintf(t, "  %s\t%s\t%s\n", standsIn(f.At, f.Octets), f.Name, f.Value)
		}
	}
	return t.Flush()
}

// standsIn tells which octets of a frame a field stands in, counted from 0.
func standsIn(at, octets int) string {
	if octets == 1 {
		return fmt.Sprint(at)
	}
	return fmt.Sprintf("%d–%d", at, at+octets-1)
}
