//go:build linux

package namespaces_test

import (
	"context"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/neighbours"
	"passepartout/internal/machine/linux"
	"passepartout/internal/probe/neighbourwatch"
	"passepartout/internal/scenario"
	"passepartout/internal/scenario/namespaces"
)

// daemon starts a program of the system in a namespace of a lab, for the time of a test.
func daemon(t *testing.T, in func(func() error) error, program string, args ...string) {
	path, err := exec.LookPath(program)
	if err != nil {
		t.Skip(program + " is not installed")
	}
	// A /run of its own: what another run of it left there, its process number above all, is not there to be taken for one that runs.
	cmd := exec.Command("unshare", append([]string{"--mount", "sh", "-c", `mount -t tmpfs tmpfs /run && exec "$0" "$@"`, path}, args...)...)
	said := &strings.Builder{}
	cmd.Stdout, cmd.Stderr = said, said
	require.NoError(t, in(cmd.Start))
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		if t.Failed() {
			t.Logf("%s said:\n%s", program, said)
		}
	})
}

// A real multicast DNS responder and a real LLDP speaker are understood.
func TestRealResponders(t *testing.T) {
	if why := namespaces.Unavailable(); why != "" {
		t.Skip(why)
	}
	s, err := scenario.Load("healthy")
	require.NoError(t, err)
	s.Site.Segments["pier"].Switch = ""
	lab, err := namespaces.Build(s)
	require.NoError(t, err)
	defer lab.Close()
	dir, err := os.MkdirTemp("", "passepartout-programs-")
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	require.NoError(t, os.Chmod(dir, 0o755)) // they give up their rights, and must come back to their files
	config := filepath.Join(dir, "avahi.conf")
	require.NoError(t,
		os.WriteFile(config,
			[]byte("[server]\nhost-name=gate-scanner-9\nuse-ipv6=no\nenable-dbus=no\nallow-interfaces=eth0\nratelimit-burst=1000\n[publish]\npublish-workstation=no\n"), 0o644))
	daemon(t, func(f func() error) error { return lab.On("gate-scanner-1", f) }, "avahi-daemon", "--no-drop-root", "--no-chroot",
		"--no-rlimits", "-f", config)
	live, err := linux.New()
	require.NoError(t, err)
	m := lab.Inside(live)
	e, err := m.Read(t.Context())
	require.NoError(t, err)
	e.Resolvers = nil
	ctx, cancel := context.WithCancel(t.Context())
	ear, err := neighbourwatch.Start(ctx, neighbourwatch.Config{Machine: m, Interface: "eth0", Endpoint: e, Quiet: true})
	require.NoError(t, err)
	defer func() { cancel(); ear.Wait() }()
	if _, err := exec.LookPath("lldpd"); err != nil {
		t.Skip("lldpd is not installed")
	}
	// It finds out about ports from /sys, which shows those of the namespace in which it was mounted.
	daemon(t, lab.AtSwitches, "sh", "-c", `mount -t sysfs sysfs /sys && exec lldpd -d -u "$0" -S "a switch of the pier" -I "s*"`,
		filepath.Join(dir, "lldpd.socket"))
	require.Eventually(t, func() bool { // the responder tests its name for a moment before it answers for it (RFC 6762 §8)
		ctx, cancel := context.WithCancel(t.Context())
		p, err := neighbourwatch.Start(ctx, neighbourwatch.Config{Machine: m, Interface: "eth0", Endpoint: e})
		require.NoError(t, err)
		defer func() { cancel(); p.Wait() }()
		require.NoError(t, p.Ask(ctx, 0))
		for range 20 {
			time.Sleep(100 * time.Millisecond)
			for _, r := range p.See().Rows {
				if r.Address == netip.MustParseAddr("172.27.40.31") && len(r.Names) > 0 {
					return assert.Equal(t, neighbours.Name{Text: "gate-scanner-9.local", Source: neighbours.ByMulticastDNS}, r.Names[0])
				}
			}
		}
		return false
	}, time.Minute, 100*time.Millisecond)
	require.Eventually(t, func() bool { return ear.See().Switch != nil }, 35*time.Second, 100*time.Millisecond)
	got := *ear.See().Switch
	assert.NotEmpty(t, got.Name)
	assert.NotEmpty(t, got.Chassis)
	assert.NotEmpty(t, got.Port)
	t.Logf("%+v", got)
}
