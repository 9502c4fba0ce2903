package main_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// terminal is a tmux session of its own in which the program runs.
type terminal struct {
	t    *testing.T
	name string
}

func open(t *testing.T, width, height int, env []string, args ...string) *terminal {
	if _, err := exec.LookPath("tmux"); err != nil {
		t.Skip("tmux is not installed")
	}
	term := &terminal{t, strings.NewReplacer("/", "-", " ", "-", "#", "-").Replace(t.Name())}
	t.Cleanup(func() { _ = exec.Command("tmux", "-L", term.name, "kill-server").Run() })
	line := strings.Join(append(append([]string{"env", "XDG_STATE_HOME=" + t.TempDir()}, env...), append([]string{binary}, args...)...),
		" ")
	term.tmux("-L", term.name, "-f", "/dev/null", "new-session", "-d", "-x", strconv.Itoa(width), "-y", strconv.Itoa(height),
		line+"; echo left with status $?; sleep 60", ";", "set-option", "-g", "status", "off")
	return term
}

func (x *terminal) tmux(args ...string) string {
	x.t.Helper()
	if args[0] != "-L" {
		args = append([]string{"-L", x.name}, args...)
	}
	out, err := exec.Command("tmux", args...).CombinedOutput()
	require.NoError(x.t, err, "tmux %v: %s", args, out)
	return string(out)
}

func (x *terminal) press(keys ...string) {
	x.t.Helper()
	for _, k := range keys {
		x.tmux("send-keys", k)
	}
}

func (x *terminal) text() string { x.t.Helper(); return x.tmux("capture-pane", "-p") }

// see waits until the screen shows all of these.
func (x *terminal) see(wants ...string) string {
	x.t.Helper()
	deadline := time.Now().Add(2 * time.Minute)
	for {
		text := x.text()
		missing := slices.DeleteFunc(slices.Clone(wants), func(w string) bool { return strings.Contains(text, w) })
		if len(missing) == 0 {
			return text
		}
		if time.Now().After(deadline) {
			require.Fail(x.t, "not on the screen", "%q, alternate screen %s%s", missing, x.tmux("list-panes", "-F", "#{alternate_on}"),
				text)
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// ended waits until the program has left without an error, and checks that it gave the terminal back.
func (x *terminal) ended() {
	x.t.Helper()
	x.see("left with status 0")
	assert.Equal(x.t, "0", strings.TrimSpace(x.tmux("list-panes", "-F", "#{alternate_on}")), "the alternate screen is left")
}

var screens = [][2]int{{80, 24}, {142, 44}}

func TestScreenAVerdictInEachZone(t *testing.T) {
	for _, size := range screens {
		for _, c := range []struct{ scenario, says, check string }{
			{"healthy", "No fault stands in the way.", "▸━━ service"},
			{"gateway-not-set", "The fault lies in this HOST.", "▸━╳ gateway set"},
			{"gateway-silent", "The fault lies in the LOCAL SUBNET.", "▸━╳ gateway"},
			{"service-refused", "The fault lies BEYOND the gateway.", "▸━╳ service"},
		} {
			t.Run(fmt.Sprintf("%s %dx%d", c.scenario, size[0], size[1]), func(t *testing.T) {
				t.Parallel()
				x := open(t, size[0], size[1], nil, "demo", c.scenario)
				x.see("The complaint", "What should be reachable?")
				x.press("Enter")
				text := x.see(c.says, c.check, "HOST", "LOCAL SUBNET", "BEYOND", "certain")
				for line := range strings.Lines(text) {
					assert.LessOrEqual(t, len([]rune(strings.TrimRight(line, "\n"))), size[0])
				}
				x.press("q")
				x.ended()
			})
		}
	}
}

func TestScreenKeysResizeAndTooSmall(t *testing.T) {
	t.Parallel()
	x := open(t, 142, 44, nil, "demo")
	x.see("Which complaint will you look into?", "▸ Nothing is wrong today.")
	x.press("Enter")
	x.see("What should be reachable?", "▸ bookings.kittiwake.example:443")
	x.press("9", "9", "9", "Enter")
	x.see("a port is a number from 1 to 65535")
	x.press("BSpace", "BSpace", "BSpace", "Enter")
	x.see("No fault stands in the way.", "LOCAL SUBNET", ".1 gateway", "bookings :443") // names come if this machine has its turns
	x.press("2")
	x.see("172.27.40.0 ├", ".23 this machine", "offered by", "Routes in force")
	x.press("?")
	x.see("What can be done here", "another way", "In every view")
	x.press("End")
	x.see("Marks of address", "strained: something is wrong here")
	x.press("Escape")
	x.see("Routes in force")
	x.press("1", "i")
	x.see("Which interface do you mean?", "eth0")
	x.press("Escape")
	x.see("No fault stands in the way.")
	x.tmux("resize-window", "-x", "80", "-y", "24")
	x.see("bookings :443", "? all keys")
	x.tmux("resize-window", "-x", "60", "-y", "20")
	x.see("lists the other views", "? all keys")
	x.tmux("resize-window", "-x", "50", "-y", "18")
	x.see("This window is 50 by 18")
	x.tmux("resize-window", "-x", "100", "-y", "30")
	x.see("No fault stands in the way.")
	x.press("r")
	x.see("No fault stands in the way.")
	x.press("t")
	x.see("What should be reachable?")
	x.press("Escape") // alone: with a key close behind it would be that key with alt
	x.see("No fault stands in the way.")
	x.press("s")
	x.see("Which complaint will you look into?")
	x.press("C-c")
	x.ended()
}

func TestScreenTypedTarget(t *testing.T) {
	t.Parallel()
	x := open(t, 142, 44, nil, "demo", "healthy")
	x.see("What should be reachable?")
	x.press("C-u")
	x.tmux("send-keys", "-l", "wintertable.kittiwake.example")
	x.press("Enter")
	x.see("The fault lies BEYOND the gateway.", "does not exist")
}

var colour = regexp.MustCompile("\x1b\\[[0-9;]*(3[0-8]|4[0-8]|9[0-7])[;m]")

func TestScreenNoColour(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		env  []string
		want bool
	}{{nil, true}, {[]string{"NO_COLOR=1"}, false}} {
		t.Run(fmt.Sprint(c.env), func(t *testing.T) {
			x := open(t, 80, 24, c.env, "demo", "gateway-not-set")
			x.see("What should be reachable?")
			x.press("Enter")
			x.see("━╳ gateway set", "The fault lies in this HOST.")
			assert.Equal(t, c.want, colour.MatchString(x.tmux("capture-pane", "-p", "-e")))
		})
	}
}

func TestScreenOnThisMachine(t *testing.T) {
	prefix := alone(t)
	t.Parallel()
	x := open(t, 100, 30, prefix, "203.0.113.80:443")
	x.see("The fault lies in this HOST.", "no network interface besides loopback")
	x.press("2")
	x.see("This machine has no network interface besides loopback")
	x.press("q")
	x.ended()
}

// TestScreenFirstFrame prints the time from the start of the program to the first frame on the terminal.
func TestScreenFirstFrame(t *testing.T) {
	if raced {
		t.Skip("the race detector slows it, and takes memory of its own")
	}
	if _, err := exec.LookPath("tmux"); err != nil {
		t.Skip("tmux is not installed")
	}
	var took []time.Duration
	for i := range 20 {
		out := filepath.Join(t.TempDir(), fmt.Sprint(i))
		name := fmt.Sprintf("first-frame-%d", i)
		// A reader beside the program notes when the first frame's words come out of the terminal.
		began := time.Now()
		require.NoError(t,
			exec.Command("tmux", "-L", name, "-f", "/dev/null", "new-session", "-d", "-x", "120", "-y", "40",
				"date +%s%N > "+out+"; exec "+binary+" demo healthy").Run())
		for !strings.Contains(capture(name), "What should be reachable?") && time.Since(began) < 5*time.Second {
			time.Sleep(time.Millisecond)
		}
		shown := time.Now()
		_ = exec.Command("tmux", "-L", name, "kill-server").Run()
		raw, err := os.ReadFile(out)
		require.NoError(t, err)
		started, err := strconv.ParseInt(strings.TrimSpace(string(raw)), 10, 64)
		require.NoError(t, err)
		took = append(took, shown.Sub(time.Unix(0, started)))
	}
	slices.Sort(took)
	fmt.Printf("first frame: median %v of 20 starts, worst %v, the looking itself included\n", took[10].Round(time.Millisecond),
		took[19].Round(time.Millisecond))
	assert.Less(t, took[10], 2*time.Second)
}

func capture(name string) string {
	out, _ := exec.Command("tmux", "-L", name, "capture-pane", "-p").Output()
	return string(out)
}

// TestScreenMemory prints the peak of memory after a demonstration in which the tests ran ten times.
func TestScreenMemory(t *testing.T) {
	if raced {
		t.Skip("the race detector slows it, and takes memory of its own")
	}
	if runtime.GOOS != "linux" {
		t.Skip("reads /proc")
	}
	t.Parallel()
	x := open(t, 142, 44, nil, "demo", "healthy")
	x.see("What should be reachable?")
	x.press("Enter")
	for range 10 {
		x.see("No fault stands in the way.", "pier-gw")
		x.press("r")
		time.Sleep(300 * time.Millisecond)
	}
	x.see("No fault stands in the way.")
	pid := strconv.Itoa(x.pid())
	status, err := os.ReadFile("/proc/" + pid + "/status")
	require.NoError(t, err)
	peak := regexp.MustCompile(`VmHWM:\s+(\d+) kB`).FindSubmatch(status)
	require.NotNil(t, peak)
	kb, err := strconv.Atoi(string(peak[1]))
	require.NoError(t, err)
	fmt.Printf("demo, ten runs: %.1f MB at the peak, the bar is 40 MB\n", float64(kb)/1024)
	assert.Less(t, kb, 100*1024)
}

// pid is the program's own.
func (x *terminal) pid() int {
	shell := strings.TrimSpace(x.tmux("list-panes", "-F", "#{pane_pid}"))
	children, err := os.ReadFile("/proc/" + shell + "/task/" + shell + "/children")
	require.NoError(x.t, err)
	pid, err := strconv.Atoi(strings.TrimSpace(string(children)))
	require.NoError(x.t, err)
	return pid
}

// stopped waits until the program is.
func (x *terminal) stopped() {
	x.t.Helper()
	require.Eventually(x.t, func() bool {
		status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", x.pid()))
		return err == nil && strings.Contains(string(status), "State:\tT")
	}, time.Minute, 20*time.Millisecond)
}

// A terminal that is said to show no UTF-8 is given none.
func TestScreenWithoutUTF8(t *testing.T) {
	x := open(t, 100, 30, []string{"LC_ALL=C"}, "demo", "gateway-silent")
	x.see("at this site")
	x.press("Enter")
	text := x.see("The fault lies in the LOCAL SUBNET.", "=X pier-gw .1 silent", ">=X gateway")
	for _, r := range text {
		require.Less(t, r, rune(128), text)
	}
	x.press("q")
	x.ended()
}

// A paste of which the end got lost swallows what was pasted, and no key that follows.
func TestScreenAPasteThatNeverEnds(t *testing.T) {
	x := open(t, 100, 30, nil, "demo", "healthy")
	x.see("at this site")
	x.tmux("send-keys", "-l", "\x1b[200~172.27.40")
	time.Sleep(1500 * time.Millisecond)
	x.press("q")
	x.see("172.27.40q")
	x.press("C-c")
	x.ended()
}

// A program that is stopped and goes on is drawn again; one whose terminal is gone, or that is asked to end, leaves it in order.
func TestScreenSignals(t *testing.T) {
	x := open(t, 100, 30, nil, "demo", "healthy")
	x.see("at this site")
	x.press("Enter")
	x.see("No fault stands in the way.")
	for _, s := range []syscall.Signal{syscall.SIGTSTP, syscall.SIGSTOP} {
		require.NoError(t, syscall.Kill(x.pid(), s))
		x.stopped()
		require.NoError(t, syscall.Kill(x.pid(), syscall.SIGCONT))
		time.Sleep(500 * time.Millisecond) // what stands there is drawn anew, and keys are heard again
		x.see("No fault stands in the way.")
		x.press("?")
		x.see("What can be done here")
		x.press("Escape")
		x.see("No fault stands in the way.")
	}
	require.NoError(t, syscall.Kill(x.pid(), syscall.SIGHUP))
	x.see("left with status")
	assert.Equal(t, "0", strings.TrimSpace(x.tmux("list-panes", "-F", "#{alternate_on}")), "the alternate screen is left")
}
