package main_test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The watch writes a line of JSON for each thing that it notices, and its status is the last verdict's.
func TestWatch(t *testing.T) {
	t.Parallel()
	out, errs, status := run(t, "watch", "--scenario", "gateway-silent", "--for", "12s", "--format", "json")
	assert.Empty(t, errs)
	assert.Equal(t, 1, status)
	kinds := map[string]int{}
	for line := range strings.Lines(out) {
		var l struct {
			Schema, Event, At, Standing string
			Verdict                     struct{ Zone, Fault string }
		}
		require.NoError(t, json.Unmarshal([]byte(line), &l), line)
		assert.Equal(t, "passepartout.event/1", l.Schema)
		_, err := time.Parse(time.RFC3339Nano, l.At)
		assert.NoError(t, err, line)
		if kinds[l.Event]++; l.Event == "verdict" {
			assert.Equal(t, [3]string{"current", "local-subnet", "gateway-silent"}, [3]string{l.Standing, l.Verdict.Zone, l.Verdict.Fault},
				line)
		}
	}
	assert.Equal(t, 1, kinds["verdict"], "nothing has changed: %v", kinds)
}

// While the demonstration comes and goes, the words do too; Ctrl-C ends it with what held last.
func TestWatchOfWhatComesAndGoes(t *testing.T) {
	t.Parallel()
	cmd := exec.Command(binary, "watch", "--scenario", "fault-comes-and-goes")
	var errs bytes.Buffer
	cmd.Stderr = &errs
	cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+t.TempDir())
	pipe, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	deadline := time.AfterFunc(100*time.Second, func() { _ = cmd.Process.Kill() })
	defer deadline.Stop()
	var all strings.Builder
	sound, broken, again := false, false, false
	for lines := bufio.NewScanner(pipe); lines.Scan(); {
		all.WriteString(lines.Text() + "\n")
		switch text := lines.Text(); {
		case strings.Contains(text, "o fault stands in the way"):
			sound, again = true, broken
		case sound && strings.Contains(text, "The fault lies"):
			broken = true
		}
		if again {
			require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
			break
		}
	}
	_ = cmd.Wait()
	assert.True(t, sound && broken && again, "%s%s", all.String(), errs.String())
	assert.Equal(t, 0, cmd.ProcessState.ExitCode(), errs.String())
}

func TestWatchRefusesBadInput(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"watch", "--for", "-3s"}, "--for -3s: give a time above zero"},
		{[]string{"watch", "--format", "csv"}, "csv"},
		{[]string{"watch", "one", "two"}, "at most 1"},
		{[]string{"watch", "--scenario", "no-such"}, "no-such"},
	} {
		out, errs, status := run(t, c.args...)
		assert.Empty(t, out)
		assert.Equal(t, 3, status, c.args)
		assert.Contains(t, errs, c.says)
		assert.Equal(t, 1, strings.Count(strings.TrimSpace(errs), "\n")+1, errs)
	}
}
