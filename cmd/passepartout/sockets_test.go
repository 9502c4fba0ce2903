package main_test

import (
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a program waits for stands first, in every format.
func TestSocketsCommand(t *testing.T) {
	t.Parallel()
	text, errs, status := run(t, "sockets", "--scenario", "destination-silent")
	assert.Zero(t, status, errs)
	assert.Regexp(t, `(?s)^What is stuck\n  till-client \(2114\) to 203\.0\.113\.80:443\n      asked \d times in .* s, nobody answers\n.*`+
		`Connections of .*trying, .*Listening .*label-spooler \(611\) +tcp 631 +this machine only`, text)
	text, errs, status = run(t, "sockets", "--scenario", "destination-silent", "--listening", "--program", "702", "--format", "json")
	assert.Zero(t, status, errs)
	var got struct {
		Schema  string
		Sockets []struct {
			Local, State, Program, User string
			PID                         int
		}
	}
	require.NoError(t, json.Unmarshal([]byte(text), &got))
	require.Len(t, got.Sockets, 1)
	assert.Equal(t, "passepartout.sockets/1", got.Schema)
	s := got.Sockets[0]
	assert.Equal(t, []any{"0.0.0.0:445", "LISTEN", "counter-share", "root", 702}, []any{s.Local, s.State, s.Program, s.User, s.PID})
	text, errs, status = run(t, "sockets", "--scenario", "destination-silent", "--state", "syn-sent", "--format", "csv", "--for", "3s")
	assert.Zero(t, status, errs)
	rows, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 2)
	assert.Equal(t, "no-answer", rows[1][15])
	_, errs, status = run(t, "check", "--scenario", "destination-silent", "--program", "till-client")
	assert.Equal(t, 1, status, errs)
}

// A capture of a simulated site holds what the site's programs send, and is read again.
func TestCaptureCommand(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "pier.pcapng")
	text, errs, status := run(t, "capture", "--scenario", "dhcp-rogue", "--out", path, "--keep", "everything", "--for", "1s", "--format",
		"json")
	assert.Zero(t, status, errs)
	var kept struct {
		Schema, Interface string
		Frames            int
		Octets            int64
		Files             []string
	}
	require.NoError(t, json.Unmarshal([]byte(text), &kept))
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, []any{"passepartout.capture/1", "eth0", info.Size(), []string{path}},
		[]any{kept.Schema, kept.Interface, kept.Octets, kept.Files})
	_, errs, status = run(t, "capture", "--scenario", "dhcp-rogue", "--out", path, "--for", "1s")
	assert.Equal(t, 3, status)
	assert.Contains(t, errs, "is there already: give another name")
	text, errs, status = run(t, "capture", "--read", path, "--format", "json")
	assert.Zero(t, status, errs)
	var read struct{ Frames int }
	require.NoError(t, json.Unmarshal([]byte(text), &read))
	assert.Equal(t, kept.Frames, read.Frames)
}

// What passes in a capture of a client and its server is told in every format.
func TestCaptureIsRead(t *testing.T) {
	t.Parallel()
	files, err := filepath.Glob("../../internal/capture/testdata/*.pcap*")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		for _, format := range []string{"text", "csv", "json"} {
			out, errs, status := run(t, "capture", "--read", file, "--format", format)
			assert.Zero(t, status, "%s %s: %s", file, format, errs)
			assert.NotEmpty(t, out)
		}
	}
}

// One frame of a capture is opened layer by layer, in every format; what cannot be opened is told in a line.
func TestFrameIsOpened(t *testing.T) {
	t.Parallel()
	const file = "../../internal/capture/testdata/relayed.pcap"
	text, errs, status := run(t, "capture", "--read", file, "--frame", "1")
	assert.Zero(t, status, errs)
	assert.Regexp(t, `(?s)^Frame 1 of .*relayed\.pcap, .* 90 octets\n.*IPv6 \(RFC 8200 §3\)\n.*  21 +Hop Limit +1\n.*holds`, text)
	text, errs, status = run(t, "capture", "--read", file, "--frame", "1", "--format", "json")
	assert.Zero(t, status, errs)
	var got struct {
		Schema        string
		Frame, Octets int
		Layers        []struct{ Name string }
	}
	require.NoError(t, json.Unmarshal([]byte(text), &got))
	assert.Equal(t, []any{"passepartout.frame/1", 1, 90, 5, "Ethernet"},
		[]any{got.Schema, got.Frame, got.Octets, len(got.Layers), got.Layers[0].Name})
	text, errs, status = run(t, "capture", "--read", file, "--frame", "1", "--format", "csv")
	assert.Zero(t, status, errs)
	rows, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, []string{"layer", "at", "octets", "name", "value"}, rows[0])
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"--read", file, "--frame", "61"}, "there is no frame 61: it has 60"},
		{[]string{"--read", file, "--frame", "0"}, "frames are counted from 1"},
		{[]string{"--frame", "1"}, "give the file as well"},
		{[]string{"--read", file, "--frame", "1", "--keep", "arp"}, "give one of the two"},
		{[]string{"--read", file, "--frame", "1", "--out", "x.pcapng"}, "give one of the two"},
	} {
		_, errs, status := run(t, append([]string{"capture"}, c.args...)...)
		assert.Equal(t, 3, status)
		assert.Contains(t, errs, c.says)
		assert.Equal(t, 1, strings.Count(errs, "\n"), errs)
	}
}
