package tui

import (
	"context"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/machine"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/scenario"
)

const doomed = "PASSEPARTOUT_TEST_PANICS"

// faulty is a machine with a mistake in it, which shows when the tests have begun.
type faulty struct{ machine.Machine }

func (faulty) Route(context.Context, netip.Addr, string) (endpoint.RouteAnswer, error) {
	panic("a mistake in a goroutine of ours")
}

// A panic in a goroutine ends the program: the trace is read on a terminal as it was, and the status is not 0.
func TestAPanicBesideTheScreen(t *testing.T) {
	if os.Getenv(doomed) != "" { // this is the program that comes to grief, below
		s, err := scenario.Load("healthy")
		require.NoError(t, err)
		site, err := simulated.Build(s, simulated.Options{})
		require.NoError(t, err)
		fmt.Println(Run(t.Context(), Config{Ground: Ground{Machine: faulty{site.Machine()}, Close: site.Close}, Asked: true, Target: s.Target}))
		return
	}
	if _, err := exec.LookPath("tmux"); err != nil {
		t.Skip("tmux is not installed")
	}
	program, err := os.Executable()
	require.NoError(t, err)
	name := fmt.Sprintf("panic-%d", os.Getpid())
	tmux := func(args ...string) string {
		out, err := exec.Command("tmux", append([]string{"-L", name}, args...)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	t.Cleanup(func() { _ = exec.Command("tmux", "-L", name, "kill-server").Run() })
	tmux("-f", "/dev/null", "new-session", "-d", "-x", "142", "-y", "60",
		doomed+"=1 "+program+" -test.run '^TestAPanicBesideTheScreen$'; echo left with status $?; stty -a; sleep 60")
	var seen string
	require.Eventually(t, func() bool {
		seen = tmux("capture-pane", "-p", "-S", "-")
		return strings.Contains(seen, "icanon")
	}, time.Minute, 50*time.Millisecond, "%s", seen)
	assert.Contains(t, seen, "a mistake in a goroutine of ours")
	assert.Contains(t, seen, "faulty.Route")
	assert.NotContains(t, seen, "left with status 0")
	assert.Equal(t, "0", strings.TrimSpace(tmux("display-message", "-p", "#{alternate_on}")), "the alternate screen is left")
	assert.NotContains(t, seen, "-echo ")
	assert.NotContains(t, seen, "-icanon")
}
