package report_test

import (
	"bytes"
	"encoding/json"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"passepartout/internal/core/event"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/state"
	"passepartout/internal/core/ticket"
	"passepartout/internal/report"
)

// hostile is a name that means something to each of the formats.
const hostile = "</dd><script>alert(1)</script>|*[x](http://far.example)\x1b[31m&"

// handedOver is a case of a machine whose name is hostile: a gateway that keeps silent, an outage, and a change that was made.
func handedOver() *state.State {
	set := evidencetest.Healthy()
	set.Endpoint.Host = hostile
	set.Neighbours = set.Neighbours[1:]
	at := time.Date(2026, 11, 23, 9, 14, 3, 0, time.FixedZone("CET", 3600))
	var s state.State
	for _, b := range []event.Body{
		event.Began{Round: 1, Question: evidence.Subject{Target: set.Target, Interface: set.Interface}, Endpoint: set.Endpoint},
		event.Outage{From: at, To: at.Add(90 * time.Second), Evidence: "the gateway kept silent", Zone: 2},
		event.Acted{What: "Set eth0: gateway 172.27.40.1", Outcome: "taken-back", Says: "nobody kept it"},
	} {
		s = state.Fold(s, event.Event{At: at, Body: b})
	}
	return &s
}

func TestTicketInEachFormat(t *testing.T) {
	s := handedOver()
	tell := report.TicketOf(s, ticket.About{Complaint: hostile, Version: "1"})
	var text, md, js, page strings.Builder
	require.NoError(t, tell.WriteText(&text))
	require.NoError(t, tell.WriteMarkdown(&md))
	require.NoError(t, tell.WriteJSON(&js))
	require.NoError(t, tell.WriteHTML(&page))
	for _, has := range []string{"2026-11-23 09:14:03 +01:00", "172.27.40.23/24", "outage", "(1m30s)",
		"Set eth0: gateway 172.27.40.1, taken back",
		"Passepartout 1"} {
		assert.Contains(t, text.String(), has)
	}
	for name, out := range map[string]string{"text": text.String(), "md": md.String(), "json": js.String(), "html": page.String()} {
		assert.NotContains(t, out, "\x1b", name)
	}
	assert.NotContains(t, md.String(), "<script>")
	assert.NotContains(t, md.String(), "[x](")
	for line := range strings.Lines(md.String()) {
		if strings.HasPrefix(line, "| ") {
			assert.Equal(t, 3, strings.Count(line, "|")-strings.Count(line, `\|`), line)
		}
	}
	var parsed struct {
		Schema   string
		Sections []struct {
			Rows []struct{ Name, Value string }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(js.String()), &parsed))
	assert.Equal(t, report.TicketSchema, parsed.Schema)
	assert.NotEmpty(t, parsed.Sections)
}

// The page is one file: nothing in it is fetched, and what came from outside stands in it as text.
func TestThePageFetchesNothing(t *testing.T) {
	var b strings.Builder
	require.NoError(t, report.TicketOf(handedOver(), ticket.About{Complaint: hostile}).WriteHTML(&b))
	doc, err := html.Parse(strings.NewReader(b.String()))
	require.NoError(t, err)
	drawn, words := 0, ""
	for n := range doc.Descendants() {
		if n.Type == html.TextNode {
			words += n.Data
		}
		if n.Type != html.ElementNode {
			continue
		}
		assert.NotContains(t, []string{"script", "img", "iframe", "object", "link", "image", "use", "a", "form", "base"}, n.Data)
		if n.Data == "svg" {
			drawn++
		}
		for _, a := range n.Attr {
			assert.NotContains(t, []string{"src", "href", "onload", "onclick", "action"}, a.Key, n.Data)
		}
	}
	assert.Equal(t, 1, drawn, "the line")
	assert.Contains(t, words, "<script>alert(1)</script>", "shown, and not run")
}

// The document has a few pages whose text can be searched, also where one word is longer than a line, and is the same each time.
func TestTheDocumentIsSearchable(t *testing.T) {
	var b, again bytes.Buffer
	made := report.TicketOf(handedOver(), ticket.About{Complaint: hostile + strings.Repeat("wideword", 40)})
	require.NoError(t, made.WritePDF(&b))
	require.NoError(t, made.WritePDF(&again))
	assert.Equal(t, b.Bytes(), again.Bytes())
	pages := bytes.Count(b.Bytes(), []byte("/Type /Page\n")) + bytes.Count(b.Bytes(), []byte("/Type /Page "))
	assert.Contains(t, []int{1, 2, 3}, pages)
	if _, err := exec.LookPath("pdftotext"); err != nil {
		t.Skip("pdftotext is not installed: the words in the PDF are not read")
	}
	cmd := exec.Command("pdftotext", "-raw", "-", "-")
	cmd.Stdin = &b
	out, err := cmd.Output()
	require.NoError(t, err)
	bare := func(s string) string { return strings.Join(strings.Fields(s), "") }
	for _, section := range slices.Concat(made.Sections, made.Closer) {
		for _, row := range section.Rows {
			assert.Contains(t, bare(string(out)), bare(row.Value), row.Name)
		}
	}
}
