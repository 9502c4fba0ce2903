//go:build linux

package namespaces_test

import (
	"archive/zip"
	"bytes"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/casefile"
	"passepartout/internal/core/redact"
	"passepartout/internal/core/ticket"
	"passepartout/internal/core/verdict"
	"passepartout/internal/report"
)

var (
	fourParts = regexp.MustCompile(`\b\d{1,3}(?:\.\d{1,3}){3}\b`)
	sixParts  = regexp.MustCompile(`\b[0-9a-f]{0,4}(?::[0-9a-f]{0,4}){2,7}\b`)
	cardParts = regexp.MustCompile(`\b(?:[0-9a-f]{2}:){5}[0-9a-f]{2}\b`)
	nameParts = regexp.MustCompile(`\b[a-z0-9-]+(?:\.[a-z0-9-]+)*\.example\b|\bticket-03\b`)
	// What the program asks for itself, and what is the same everywhere.
	everywhere = []string{"192.0.2.1", "255.255.255.255", "0.0.0.0", "::", "::1", "128.0.0.0", "169.254.0.0", "192.168.0.0",
		"64:ff9b::c000:aa", "64:ff9b::c000:ab"}
	// Parts of names that are words of the program, or of nobody.
	itsWords = []string{"example", "guest", "mail", "printer", "printers", "time", "office", "store", "home", "welcome", "secure", "files",
		"tides", "internal", "service", "name", "arpa", "files"}
)

// originalsOf are what stands in a log and must not be found any more, found by other means than the program's own.
func originalsOf(log []byte) (out []string) {
	for _, text := range fourParts.FindAllString(string(log), -1) {
		if a, err := netip.ParseAddr(text); err == nil && !a.IsMulticast() && !a.IsLoopback() && a.As4()[0] < 240 && a.As4()[0] > 0 {
			out = append(out, text)
		}
	}
	for _, text := range sixParts.FindAllString(string(log), -1) {
		if a, err := netip.ParseAddr(text); err == nil && !a.IsMulticast() && !a.IsLoopback() {
			out = append(out, text)
		}
	}
	for _, text := range cardParts.FindAllString(string(log), -1) {
		if text[1]&1 == 0 { // for one alone
			out = append(out, text)
		}
	}
	for _, text := range nameParts.FindAllString(string(log), -1) {
		out = append(out, text)
		for _, part := range strings.FieldsFunc(text, func(r rune) bool { return r == '.' || r == '-' }) {
			if len(part) > 3 {
				out = append(out, part)
			}
		}
	}
	slices.Sort(out)
	return slices.DeleteFunc(slices.Compact(out), func(s string) bool {
		return slices.Contains(everywhere, s) || slices.Contains(itsWords, s)
	})
}

// standsIn gives where a word or an address stands in a text, as one and not as a part of another; -1: nowhere.
func standsIn(text, word string) int {
	outside := func(r byte, more string) bool {
		return !(r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || strings.IndexByte(more, r) >= 0)
	}
	for from := 0; ; {
		at := strings.Index(text[from:], word)
		if at < 0 {
			return -1
		}
		at += from
		from = at + 1
		if end := at + len(word); (at == 0 || outside(text[at-1], ".:-")) && (end == len(text) || outside(text[end], "-")) {
			return at
		}
	}
}

// redacted holds that no original of a case is found in anything that is made of it with stand-ins, and that it is judged as before.
func redacted(t *testing.T, path string, log []byte, was result) {
	r, err := casefile.OpenRedacted(path, redact.Key{1})
	require.NoError(t, err)
	assert.Empty(t, r.Flaws)
	var all bytes.Buffer
	text := report.TicketOf(&r.State, ticket.About{Complaint: r.Complaint, Version: r.Version, Simulated: r.Simulated})
	for _, write := range []func() error{
		func() error { return text.WriteText(&all) }, func() error { return text.WriteMarkdown(&all) },
		func() error { return text.WriteHTML(&all) }, func() error { return text.WriteJSON(&all) },
	} {
		require.NoError(t, write())
	}
	again := filepath.Join(t.TempDir(), "redacted.case")
	f, err := os.Create(again)
	require.NoError(t, err)
	require.NoError(t, r.Write(f))
	require.NoError(t, f.Close())
	z, err := zip.OpenReader(again)
	require.NoError(t, err)
	defer z.Close()
	for _, member := range z.File {
		from, err := member.Open()
		require.NoError(t, err)
		_, err = all.ReadFrom(from)
		require.NoError(t, err)
	}
	for _, original := range originalsOf(log) {
		if at := standsIn(all.String(), original); at >= 0 {
			assert.Fail(t, "an original is found", "%s in ...%s...", original, all.Bytes()[max(0, at-60):min(all.Len(), at+60)])
		}
	}
	set, _ := r.State.Shown()
	judged := verdict.Judge(set)
	assert.Equal(t, was.Verdict.Zone, strings.ReplaceAll(judged.Zone.String(), " ", "-"), judged.Sentence)
	assert.Equal(t, was.Verdict.Fault, string(judged.Fault), judged.Sentence)
}
