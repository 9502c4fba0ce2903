//go:build linux

package namespaces_test

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/scenario/namespaces"
)

// loginTo starts an SSH server on the endpoint of a lab, and gives what a neighbour has to call to run a command there at a terminal.
func loginTo(t *testing.T, l *namespaces.Lab) func(command string) *exec.Cmd {
	server, err := exec.LookPath("sshd")
	if err != nil {
		t.Skip("needs openssh-server")
	}
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	for _, key := range []string{"host", "user"} {
		out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", at(key)).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	require.NoError(t, os.WriteFile(at("sshd_config"), fmt.Appendf(nil, "Port 2222\nHostKey %s\nAuthorizedKeysFile %s\nStrictModes no\n"+
		"PermitRootLogin yes\nUsePAM no\nPidFile none\n", at("host"), at("user.pub")), 0o600))
	require.NoError(t, os.MkdirAll("/run/sshd", 0o755)) // sshd(8)
	// Who runs tests beside a shell's other work has interrupts ignored, and so has a server that they start (sh(1), asynchronous lists).
	env, err := exec.LookPath("env")
	require.NoError(t, err)
	_, stop, err := l.Start(namespaces.Root, env, "--default-signal=INT", server, "-D", "-f", at("sshd_config"))
	require.NoError(t, err)
	t.Cleanup(func() { _ = stop() })
	return func(command string) *exec.Cmd {
		return exec.Command("ssh", "-tt", "-i", at("user"), "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null",
			"-o", "LogLevel=ERROR", "-o", "ConnectionAttempts=10", "-p", "2222", "root@172.27.40.23", command)
	}
}

// A change that cuts the very session in which it is made is refused, and where it is insisted on, it is taken back by itself: by then
// nobody can be heard any more.
func TestASessionIsCut(t *testing.T) {
	t.Parallel()
	_, l, state := stateful(t, "healthy")
	login := loginTo(t, l)
	before := kernel(t, l)
	const trial = 5 * time.Second
	command := func(more string) string {
		return fmt.Sprintf("env XDG_STATE_HOME=%s %s set down -i eth0 --trial %v --target bookings.kittiwake.example:443 %s", state, binary,
			trial, more)
	}
	require.NoError(t, l.On("pier-core", func() error {
		out, _ := login(command("--yes")).CombinedOutput()
		assert.Contains(t, string(out), "you are logged in from 172.27.40.2 by eth0, which is switched off; add --force")
		return nil
	}))
	assert.Equal(t, before, kernel(t, l))

	session := login(command("--force"))
	in, err := session.StdinPipe()
	require.NoError(t, err)
	out, err := session.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, l.On("pier-core", session.Start))
	defer func() { _ = session.Process.Kill(); _ = session.Wait() }()
	says := bufio.NewReader(out)
	_, err = says.ReadString('?')
	require.NoError(t, err)
	go func() { _, _ = io.Copy(io.Discard, says) }()
	_, err = in.Write([]byte("y\n"))
	require.NoError(t, err)
	off := func() bool { return !strings.Contains(kernel(t, l), "default via 172.27.40.1") }
	require.Eventually(t, off, time.Minute, 20*time.Millisecond)
	assert.Eventually(t, func() bool { return kernel(t, l) == before }, trial+3*time.Second, 50*time.Millisecond)
	assert.Eventually(t, func() bool {
		journal, err := os.ReadFile(filepath.Join(state, "passepartout", "changes.jsonl"))
		lines := strings.Split(strings.TrimSpace(string(journal)), "\n")
		return err == nil && strings.Contains(lines[len(lines)-1], `"taken-back"`)
	}, 5*time.Second, 50*time.Millisecond)
}
