package main_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each command has a manual page with its example.
func TestManuals(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "man")
	_, errs, status := run(t, "manuals", "--output", dir)
	require.Zero(t, status, errs)
	pages, err := filepath.Glob(filepath.Join(dir, "passepartout-*.1"))
	require.NoError(t, err)
	assert.Greater(t, len(pages), 40)
	for _, name := range []string{"", "-check", "-watch", "-set", "-names", "-completion"} {
		page, err := os.ReadFile(filepath.Join(dir, "passepartout"+name+".1"))
		require.NoError(t, err)
		assert.Contains(t, string(page), "EXAMPLE", name)
	}
}

// A word that was meant for a command is not asked for as a host.
func TestAMistypedCommand(t *testing.T) {
	for args, wants := range map[string][]string{
		"chekc":                   {`"chekc" is no command`, "did you mean check?", "passepartout check chekc"},
		"version":                 {"did you mean --version?"},
		"tarce pier.local":        {"did you mean trace?"},
		"172.27.40.1 172.27.40.2": {"there is one target at most", "passepartout ping 172.27.40.1 172.27.40.2"},
	} {
		_, errs, status := run(t, strings.Fields(args)...)
		assert.Equal(t, 3, status, args)
		for _, want := range wants {
			assert.Contains(t, errs, want, args)
		}
	}
	out, _, status := run(t, "--version")
	assert.Zero(t, status)
	assert.Regexp(t, `^passepartout \d`, out)
}

// What a shell completes: commands, and what a flag may be.
func TestCompletion(t *testing.T) {
	for args, want := range map[string]string{
		"che":                                "check",
		"check --format ":                    "json",
		"check --scenario gateway-not-s":     "gateway-not-set",
		"check --interface ":                 "lo",
		"neighbours --ask --interface eth0 ": ":",
	} {
		words := strings.Split(args, " ")
		out, _, status := run(t, append([]string{cobra.ShellCompRequestCmd}, words...)...)
		assert.Zero(t, status, args)
		assert.Contains(t, out, want, args)
	}
	out, _, status := run(t, "completion", "bash")
	assert.Zero(t, status)
	assert.Contains(t, out, "__start_passepartout")
}
