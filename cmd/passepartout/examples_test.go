package main

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each command's help has a call as an example, with flags that there are.
func TestEachCommandHasAnExample(t *testing.T) {
	root := rootCommand()
	commands := 0
	for _, cmd := range append(root.Commands(), root) {
		if cmd.Hidden {
			continue
		}
		commands++
		require.NotEmpty(t, cmd.Example, cmd.Name())
		for line := range strings.Lines(cmd.Example) {
			words := strings.Fields(strings.ReplaceAll(line, `"`, ""))
			require.Equal(t, "passepartout", words[0], line)
			found, rest, err := rootCommand().Find(words[1:])
			require.NoError(t, err, line)
			if cmd != root {
				assert.Contains(t, found.CommandPath(), " "+cmd.Name(), line)
			}
			assert.NoError(t, found.ParseFlags(rest), line)
		}
	}
	assert.Greater(t, commands, 25)
}

// Whoever has a name like a command is still a host.
func TestAHostLikeACommand(t *testing.T) {
	for _, host := range []string{"bookings", "nas", "ticket-03", "check1", "www"} {
		assert.NoError(t, oneTarget(rootCommand(), []string{host}), host)
	}
}
