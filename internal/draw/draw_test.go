package draw_test

import (
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/series"
	"passepartout/internal/core/topology"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
	"passepartout/internal/draw"
)

var at = time.Date(2026, 11, 23, 9, 14, 3, 0, time.UTC)

// page has a part of every kind, with names that a wire could bring.
func page() draw.Page {
	var points []series.Point
	for i := range 60 {
		p := series.Point{Number: i, At: time.Duration(i) * time.Second, RTT: time.Duration(20+i%7) * time.Millisecond,
			Fate: series.Replied}
		switch i {
		case 10, 11:
			p.Fate = series.Silent
		case 20:
			p.Fate = series.Late
		case 30:
			p.Fate = series.Unreachable
		case 40:
			p.Fate = series.NotSent
		case 50:
			p.Again = 1
		}
		points = append(points, p)
	}
	rtts := []time.Duration{19 * time.Millisecond, 20 * time.Millisecond, 26 * time.Millisecond}
	return draw.Page{Title: "Round trips <over> time", At: at, Lines: []string{"from ticket-03"}, Parts: []draw.Figure{
		draw.Times{Start: at, To: time.Minute, Blame: true,
			Bands: []draw.Band{{From: 10 * time.Second, To: 12 * time.Second, Zone: zone.Beyond}},
			Lanes: []draw.Lane{{Name: "bookings & \x1b[31mred\u202e", Zone: zone.Beyond, Note: "typical 22 ms, ± 3 ms", Points: points},
				{Name: "nothing yet", Zone: zone.Host}}},
		draw.Spread{
			Curves: []draw.Curve{{Name: "bookings", RTTs: rtts, Sent: 4},
				{Name: "near", RTTs: []time.Duration{40 * time.Microsecond}, Sent: 1}}},
		draw.Spread{},
		draw.Path{Ending: "ends here: nothing behind it answers", Stops: []draw.Stop{
			{HopLimit: 1, Name: "pier-gw", Address: "172.27.40.1", Segment: "this subnet", Answers: true, Low: 400e3, Median: 500e3,
				High: 700e3, Sent: 4, Received: 4},
			{HopLimit: 2, Segment: "provider", Sent: 4, Remark: "keeps silent: harmless"},
			{HopLimit: 3, Address: "198.51.100.9", Segment: "provider", Answers: true, Low: 9e6, Median: 9e6, High: 12e6, Sent: 4,
				Received: 2, Remark: "the last that answers", Bad: true}}},
		draw.Path{Reached: true},
		draw.Line{Line: topology.Line{Segment: "172.27.40.0/24",
			Host: []topology.Station{{Label: "loopback", State: verdict.Holds}, {Label: "eth0", State: verdict.Strained}},
			Local: []topology.Station{{Label: "5 neighbours", State: verdict.Holds},
				{Label: "pier-gw .1", Note: "silent", State: verdict.Broken}},
			Names:  []topology.Station{{Label: "ns", State: verdict.StateUnknown}},
			Beyond: []topology.Station{{Label: "sound-edge"}, {Label: "bookings", Note: ":443"}}}},
		draw.Words{Head: "The fault lies in the LOCAL SUBNET.", Text: strings.Repeat("The gateway does not answer. ", 20)},
	}}
}

func TestSVG(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, page().Write(&b, "svg"))
	d := xml.NewDecoder(bytes.NewReader(b.Bytes()))
	words := ""
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err, "well formed")
		if text, ok := token.(xml.CharData); ok {
			words += string(text) + "\n"
		}
	}
	for _, want := range []string{"Round trips <over> time", "bookings & ?[31mred?", "whose loss", "beyond", "no answer", "share of probes",
		"round trip, ms", "pier-gw", "keeps silent", "ends here", "LOCAL SUBNET", "09:14:13", "± 3 ms"} {
		assert.Contains(t, words, want)
	}
	assert.NotContains(t, b.String(), "\x1b", "nothing that a terminal would obey")
	var again bytes.Buffer
	require.NoError(t, page().Write(&again, "svg"))
	assert.Equal(t, b.String(), again.String(), "the same page gives the same bytes")
}

func TestPDF(t *testing.T) {
	var b, again bytes.Buffer
	require.NoError(t, page().Write(&b, "pdf"))
	require.NoError(t, page().Write(&again, "pdf"))
	assert.Equal(t, b.Len(), again.Len())
	assert.True(t, bytes.Equal(b.Bytes(), again.Bytes()), "the same page gives the same bytes")
	assert.True(t, bytes.HasPrefix(b.Bytes(), []byte("%PDF-")))
	if _, err := exec.LookPath("pdftotext"); err != nil {
		t.Skip("pdftotext is not installed: the words in the PDF are not read")
	}
	cmd := exec.Command("pdftotext", "-", "-")
	cmd.Stdin = &b
	out, err := cmd.Output()
	require.NoError(t, err)
	for _, want := range []string{"Round trips <over> time", "± 3 ms", "share of probes answered within", "LOCAL SUBNET", "keeps silent"} {
		assert.Contains(t, string(out), want, "searchable, also beyond ASCII")
	}
}

// A file is written whole or not at all, and what was there before stays.
func TestFiles(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"a.svg", "b.PDF"} {
		require.NoError(t, page().WriteFile(filepath.Join(dir, name)))
	}
	for path, want := range map[string]string{"x.png": "ends in .svg or .pdf", filepath.Join(dir, "none", "a.svg"): "no such file"} {
		err := page().WriteFile(path)
		require.Error(t, err)
		assert.Contains(t, err.Error(), want)
		assert.NotContains(t, err.Error(), "\n")
	}
	left, _ := os.ReadDir(dir)
	assert.Len(t, left, 2, "nothing half written stays behind")
}
