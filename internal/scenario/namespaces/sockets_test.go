//go:build linux

package namespaces_test

import (
	"encoding/json"
	"fmt"
	"os/exec"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/scenario"
	"passepartout/internal/scenario/namespaces"
)

// socketsOf gives what a run of sockets tells of the endpoint's programs, each as one line.
func socketsOf(t *testing.T, raw string) (out []string) {
	var told struct {
		Sockets []struct {
			Local, Remote, State, Program string
			Stuck                         *struct{ Why string }
		}
		Withheld string
	}
	require.NoError(t, json.Unmarshal([]byte(raw), &told), raw)
	for _, s := range told.Sockets {
		line := fmt.Sprintf("%s %s to %s", s.Program, s.State, s.Remote)
		if s.Remote == "" {
			line = fmt.Sprintf("%s %s at %s", s.Program, s.State, s.Local)
		}
		if s.Stuck != nil {
			line += ": " + s.Stuck.Why
		}
		out = append(out, line)
	}
	slices.Sort(out)
	return out
}

// The same programs, and what they wait for, on both grounds; and what a program wants is asked about.
func TestSocketsOnBothGrounds(t *testing.T) {
	t.Parallel()
	if why := namespaces.Unavailable(); why != "" {
		t.Skip(why)
	}
	s, err := scenario.Load("destination-silent")
	require.NoError(t, err)
	s.Site.Nodes["ticket-03"].Programs[1].Connects = nil // the service that it asks hangs up soon, and it asks again
	l, err := namespaces.Build(s)
	require.NoError(t, err)
	defer l.Close()
	stop, err := l.Act()
	require.NoError(t, err)
	defer stop()
	want := []string{"counter-share LISTEN at 0.0.0.0:445", "label-spooler LISTEN at 127.0.0.1:631",
		"till-client SYN-SENT to 203.0.113.80:443: no-answer"}
	var got []string
	require.Eventually(t, func() bool { // once they have begun
		out, errs, status, err := l.Run(namespaces.Root, binary, "sockets", "--format", "json")
		require.NoError(t, err)
		require.Zero(t, status, errs)
		got = socketsOf(t, out)
		return len(got) == len(want)
	}, time.Minute, 100*time.Millisecond)
	assert.Equal(t, want, got, "kernel")
	out, err := exec.Command(binary, "sockets", "--scenario", "destination-silent", "--format", "json").Output()
	require.NoError(t, err)
	assert.Subset(t, socketsOf(t, string(out)), want, "simulated")

	out2, errs, status, err := l.Run(namespaces.Root, binary, "check", "--program", "till-client", "--format", "json")
	require.NoError(t, err)
	assert.Equal(t, 1, status, errs)
	var r result
	require.NoError(t, json.Unmarshal([]byte(out2), &r))
	assert.Equal(t, "beyond", r.Verdict.Zone)
	assert.Contains(t, r.Verdict.Sentence, "203.0.113.80")
	for program, want := range map[string]struct {
		says   string
		status int
	}{"label-spooler": {"connects to nobody at present",
		2}, "no-such": {"no program no-such has a socket here; passepartout sockets lists those that have", 3}} {
		_, errs, status, err = l.Run(namespaces.Root, binary, "check", "--program", program)
		require.NoError(t, err)
		assert.Equal(t, want.status, status)
		assert.Contains(t, errs, want.says)
	}

	out3, errs, status, err := l.Run(namespaces.EchoAllowed, binary, "sockets")
	require.NoError(t, err)
	assert.Zero(t, status, errs)
	assert.Contains(t, out3, "a program that is not known to 203.0.113.80:443")
	assert.Contains(t, out3, "not known: whose 3 of the sockets are: the files of ")
	_, errs, status, err = l.Run(namespaces.EchoAllowed, binary, "check", "--program", "till-client")
	require.NoError(t, err)
	assert.Equal(t, 3, status)
	assert.Contains(t, errs, "(not known: whose 3 of the sockets are")
}
