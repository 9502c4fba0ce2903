package main_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A case is kept by a command, reported in each format, and judged anew to the same verdict.
func TestCaseIsKeptAndReported(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "counter.case")
	check, errs, status := run(t, "check", "--scenario", "gateway-silent", "--case", file, "--format", "json")
	require.Equal(t, 1, status, errs)
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "nobody else's to read")

	again, errs, status := run(t, "report", file, "--rejudge")
	assert.Equal(t, 1, status, errs)
	var was, is map[string]any
	require.NoError(t, json.Unmarshal([]byte(check), &was))
	require.NoError(t, json.Unmarshal([]byte(again), &is))
	delete(was, "at")
	delete(is, "at")
	assert.Equal(t, was, is)
	for format, begins := range map[string]string{"text": "bookings.kittiwake.example:443: fault in the local subnet\n",
		"md": "# bookings.kittiwake.example:443: fault in the local subnet\n", "json": "{\n", "pdf": "%PDF-", "html": "<!DOCTYPE html>"} {
		out, errs, status := run(t, "report", file, "--format", format)
		assert.Equal(t, 0, status, errs)
		assert.True(t, strings.HasPrefix(out, begins), format)
		if format != "pdf" {
			assert.Contains(t, out, "gateway-silent", format)
		}
	}

	text, _, _ := run(t, "report", file)
	assert.Contains(t, text, "held 172.27.40.23/24 · 172.27.40.2 says 172.27.40.23/24")
	assert.NotContains(t, text, "check by check", "a ticket is short")
	page, _, _ := run(t, "report", file, "--format", "md")
	assert.Contains(t, page, "The evidence, check by check")

	watched := filepath.Join(t.TempDir(), "night.case")
	_, errs, status = run(t, "watch", "--scenario", "healthy", "--for", "2s", "--case", watched)
	require.Equal(t, 0, status, errs)
	out, _, _ := run(t, "report", watched)
	assert.Contains(t, out, "no fault found")

	for _, c := range []struct{ args, says string }{
		{"check --scenario healthy --case " + file, "is there already; give another name"},
		{"check --scenario healthy --case " + file + ".zip", "let the name of a case end in .case"},
		{"check --scenario healthy --case " + filepath.Join(t.TempDir(), "no", "a.case"), "the case a.case: no such file or directory"},
		{"report " + file + " --format doc", "give text, md, html, pdf, json or case"},
		{"report " + file + " --format case", "give --redact as well"},
		{"report " + file + " --key " + file, "it is for --redact"},
		{"report " + file + " --redact --key " + file, "it is no key: report --redact writes one"},
		{"translate", "--key FILE: give the key"},
		{"translate --key " + file, "it is no key"},
		{"report " + file + ".none", "no such file"},
		{"report ../../README.md", "it is no case"},
		{"open ../../README.md", "it is no case"},
		{"open " + file, "this is no terminal"},
	} {
		_, errs, status := run(t, strings.Fields(c.args)...)
		assert.Equal(t, 3, status, c.args)
		assert.Contains(t, errs, c.says, c.args)
		assert.Equal(t, 1, strings.Count(errs, "\n"), c.args)
	}
}

// What the screen was kept in is opened again on a screen, and gone through in time.
func TestScreenKeepsACaseAndOpensIt(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "counter.case")
	x := open(t, 142, 44, nil, "demo", "gateway-outside-subnet", "--case", file)
	x.see("What should be reachable?")
	x.press("Enter")
	x.see("HOST", "certain")
	x.press("g")
	x.see("as it will be", "enter does it")
	x.press("Enter")
	x.see("after    ━━", "k keeps it")
	x.press("k")
	x.see("Done in this session", "kept")
	x.press("q")
	x.see("left with status 0")

	x = open(t, 142, 44, nil, "open", file)
	x.see("recorded · counter.case", "No fault stands in the way", "the end:")
	x.press("<")
	x.see("1 of ", "the tests began")
	x.press(".")
	x.see("2 of ", "verdict: The gateway lies outside the subnet", "HOST")
	x.press("0")
	x.see("nothing can be changed here")
	x.press(">", "v")
	x.see("hardware address", "172.27.40.23/24")
	x.press("End")
	x.see("What was done", "Set eth0: gateway 172.27.40.1, kept")
	x.press("q")
	x.see("left with status 0")

	x = open(t, 142, 44, nil, "open", file, file)
	x.see("The two cases say the same of everything but times.")
	x.press("<")
	x.see("the tests began", "certain")
	x.press("q")
	x.see("left with status 0")
}

// A case is handed to people outside with stand-ins, which they use in their answer, and which are turned back here. They get the same
// verdict from it.
func TestACaseIsHandedOutWithStandIns(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	file, outside := filepath.Join(dir, "counter.case"), filepath.Join(dir, "outside.case")
	_, errs, status := run(t, "check", "--scenario", "gateway-silent", "--case", file)
	require.Equal(t, 1, status, errs)
	text, errs, status := run(t, "report", file, "--redact")
	require.Equal(t, 0, status, errs)
	assert.Contains(t, errs, "keep it here")
	for _, original := range []string{"172.27.40.", "kittiwake", "bookings", "ticket-03"} {
		assert.NotContains(t, text, original)
	}
	key := filepath.Join(dir, "counter.key")
	info, err := os.Stat(key)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	again, _, _ := run(t, "report", file, "--redact")
	assert.Equal(t, text, again, "the key is used again")

	answer := filepath.Join(dir, "answer.txt")
	require.NoError(t, os.WriteFile(answer, []byte(text), 0o600))
	back, errs, status := run(t, "translate", answer, "--key", key)
	require.Equal(t, 0, status, errs)
	plain, _, _ := run(t, "report", file)
	assert.Equal(t, plain, back)

	whole, errs, status := run(t, "report", file, "--redact", "--format", "case")
	require.Equal(t, 0, status, errs)
	require.NoError(t, os.WriteFile(outside, []byte(whole), 0o600))
	theirs, errs, status := run(t, "report", outside)
	require.Equal(t, 0, status, errs)
	assert.Equal(t, text, theirs)
	_, _, status = run(t, "report", outside, "--rejudge")
	assert.Equal(t, 1, status)
}

// What the screen keeps by itself is listed, closed where it was left, and thrown away.
func TestCasesAreListed(t *testing.T) {
	t.Parallel()
	state := t.TempDir()
	at := func(args ...string) (string, string, int) { return runAt(t, state, args...) }
	out, _, status := at("cases")
	assert.Equal(t, []any{"No case is kept here.\n", 0}, []any{out, status})
	shelf := filepath.Join(state, "passepartout", "cases")
	require.NoError(t, os.MkdirAll(shelf, 0o700))
	file := filepath.Join(shelf, "2026-11-23-091403.case")
	_, errs, status := at("check", "--scenario", "gateway-silent", "--case", file)
	require.Equal(t, 1, status, errs)
	out, _, _ = at("cases")
	for _, has := range []string{"closed", "ticket-03  bookings.kittiwake.example:443", file} {
		assert.Contains(t, out, has)
	}
	out, _, _ = at("cases", "--format", "json")
	var list struct {
		Schema string
		Cases  []struct{ Path, Standing, Host string }
	}
	require.NoError(t, json.Unmarshal([]byte(out), &list))
	require.Len(t, list.Cases, 1)
	assert.Equal(t, []string{"passepartout.cases/1", file, "closed", "ticket-03"},
		[]string{list.Schema, list.Cases[0].Path, list.Cases[0].Standing, list.Cases[0].Host})
	for _, c := range []struct {
		args, says string
		status     int
	}{{"cases --close 2026-11-23-091403", "is closed", 3}, {"cases --throw nosuch", "no case nosuch is kept here", 3},
		{"cases --throw 2026-11-23-091403", "thrown away", 0}} {
		out, errs, status := at(strings.Fields(c.args)...)
		assert.Equal(t, c.status, status)
		assert.Contains(t, out+errs, c.says)
	}
	assert.NoFileExists(t, file)
}
