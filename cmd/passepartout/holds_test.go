package main_test

import (
	"bytes"
	"errors"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What cannot be written is said, and is no success: nobody has been told what was found.
func TestOutputThatCannotBeWritten(t *testing.T) {
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	if err != nil {
		t.Skip("this system has no /dev/full")
	}
	defer full.Close()
	for _, args := range []string{"check --scenario healthy", "check --scenario healthy --format json", "check --scenario service-refused",
		"trace --scenario healthy bookings.kittiwake.example:443 --format csv", "ping --scenario healthy --count 1 172.27.40.1",
		"names --scenario healthy bookings.kittiwake.example", "neighbours --scenario healthy --for 0s", "dhcp --scenario healthy",
		"lease --scenario healthy", "free --scenario healthy 172.27.40.90", "site learn --scenario healthy", "demo --list",
		"watch --scenario healthy --for 3s"} {
		var errs bytes.Buffer
		cmd := exec.Command(binary, strings.Fields(args)...)
		cmd.Stdout, cmd.Stderr = full, &errs
		cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+t.TempDir())
		var exit *exec.ExitError
		require.True(t, errors.As(cmd.Run(), &exit), args)
		assert.Equal(t, 3, exit.ExitCode(), args)
		assert.Contains(t, errs.String(), "no space left on device", args)
		assert.Equal(t, 1, strings.Count(errs.String(), "\n"), "%s: %q", args, errs.String())
	}
}

// What was not sent was not asked: an interface that is off, or has no signal, is no answer to any question.
func TestNobodyIsAskedOutOfADeadInterface(t *testing.T) {
	for scenario, says := range map[string]string{"interface-down": "switched off", "no-carrier": "no signal"} {
		for _, args := range []string{"free --scenario " + scenario + " 172.27.40.90", "free --scenario " + scenario,
			"neighbours --ask --for 0s --scenario " + scenario, "dhcp --scenario " + scenario} {
			out, errs, status := run(t, strings.Fields(args)...)
			assert.Equal(t, 3, status, args)
			assert.Empty(t, out, args)
			assert.Contains(t, errs, says, args)
		}
	}
}
