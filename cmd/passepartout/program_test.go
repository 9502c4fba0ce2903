package main_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/scenario"
)

var binary string // the program under test

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "passepartout-test-")
	if err != nil {
		panic(err)
	}
	binary = filepath.Join(dir, "passepartout")
	build := exec.Command("go", "build", "-o", binary, ".")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if raced {
		build = exec.Command("go", "build", "-race", "-o", binary, ".")
	}
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "building the program: %v\n%s", err, out)
		os.Exit(1)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// run runs the program without a terminal.
func run(t *testing.T, args ...string) (stdout, stderr string, status int) {
	return runAt(t, t.TempDir(), args...)
}

// runAt is run with a state folder that others have used, or will use.
func runAt(t *testing.T, state string, args ...string) (stdout, stderr string, status int) {
	var out, errs bytes.Buffer
	cmd := exec.Command(binary, args...)
	cmd.Stdout, cmd.Stderr = &out, &errs
	cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+state)
	err := cmd.Run()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return out.String(), errs.String(), exit.ExitCode()
	}
	require.NoError(t, err)
	return out.String(), errs.String(), 0
}

func TestBadInputGetsOneClearLine(t *testing.T) {
	for _, c := range []struct {
		args   string
		status int
		says   string
	}{
		{"check --scenario no-such-thing", 3, "demo --list` names them"},
		{"demo no-such-thing", 3, "demo --list` names them"},
		{"check --scenario healthy -i eth9", 3, "this machine has lo, eth0"},
		{"ping --scenario healthy -i eth9", 3, "no such interface"},
		{"ping --scenario healthy 172.27.40.255", 3, "means all hosts of 172.27.40.0/24"},
		{"check --scenario healthy 172.27.40.255:443", 3, "give one of them"},
		{"check --scenario healthy bookings:99999", 3, "a port is a number from 1 to 65535"},
		{"check --scenario healthy 172.27.40.300", 3, "looks like an IPv4 address and is none"},
		{"check --scenario healthy a b", 3, "at most 1 arg"},
		{"check --scenario healthy --format yaml", 3, "give text or json"},
		{"check --scenario healthy --deadline 0s", 3, "give 100ms at least"},
		{"check --scenario healthy --deadline 1us", 3, "nobody can answer in that"},
		{"check --scenario healthy 127.0.0.1 -6", 3, "127.0.0.1 is an IPv4 address, and -6 leaves that family out"},
		{"check --scenario healthy 2001:db8::1 -4", 3, "leave -4 away"},
		{"check --scenario healthy --deadline soon", 3, "--help"},
		{"check --scenario healthy -4 -6", 3, "exclude each other"},
		{"check --nonsense", 3, "unknown flag"},
		{"nonsense more", 3, ""},
		{"ping --scenario healthy --count 0", 3, "a number from 1"},
		{"ping --scenario healthy --interval 1us", 3, "the shortest is"},
		{"ping --scenario healthy --size 70000", 3, "65507"},
		{"ping", 3, "what should be reached?"},
		{"ping --scenario healthy nothing.kittiwake.example", 1, "NXDOMAIN"},
		{"trace --scenario healthy nothing.kittiwake.example", 1, "NXDOMAIN"},
		{"ping --scenario healthy -6 203.0.113.80", 3, "-6 leaves that family out"},
		{"capture --scenario healthy", 3, "--out is missing: give a file"},
		{"capture --scenario healthy --out x.pcap", 3, "let the name end in .pcapng"},
		{"capture --scenario healthy --out x.pcapng --keep hots", 3, `"hots" at character 1: there should be one of mine`},
		{"capture --scenario healthy --out x.pcapng --most 3", 3, "give a size such as 50MB"},
		{"capture --scenario healthy --out x.pcapng --most 1MB --files 900", 3, "less than 50 kB each"},
		{"capture --scenario healthy --out x.pcapng --files 0", 3, "give 1 to 1000"},
		{"capture --scenario healthy --out x.pcapng --snap 3", 3, "give 64 to 65535 octets"},
		{"capture --scenario healthy --out /nonexistent/x.pcapng --for 1s", 3,
			"/nonexistent/x.pcapng could not be written: no such file or directory"},
		{"capture --read main.go", 3, "neither pcap nor pcapng"},
		{"capture --read main.go --out x.pcapng", 3, "give one of the two"},
		{"capture --read main.go --keep mine", 3, "mine is not known of a file"},
		{"sockets --scenario healthy --state open", 3, "give one of CLOSED, LISTEN"},
		{"sockets --scenario healthy --for -1s", 3, "give 1s to 24h"},
		{"check --scenario healthy --program till-client bookings", 3, "give one of the two"},
		{"check --scenario healthy --program nobody", 3, "no program nobody has a socket here"},
		{"check --scenario healthy --program label-spooler", 2, "connects to nobody at present"},
		{"demo healthy", 3, "no terminal"},
		{"", 3, "no terminal"},
	} {
		t.Run(c.args, func(t *testing.T) {
			t.Parallel()
			out, errs, status := run(t, strings.Fields(c.args)...)
			assert.Equal(t, c.status, status, errs)
			assert.Empty(t, out, "standard output carries the result alone")
			assert.Equal(t, 1, strings.Count(errs, "\n"), "one line: %s", errs)
			assert.Contains(t, errs, c.says)
		})
	}
	_, errs, status := run(t, "check", "--scenario", "healthy", "esc\x1b[31m\x07.example")
	assert.Equal(t, 3, status)
	assert.NotContains(t, errs, "\x1b", "what was typed is quoted")
}

func TestExitStatusOfCheck(t *testing.T) {
	for _, c := range []struct {
		args   []string
		status int
		zone   string
	}{
		{[]string{"--scenario", "healthy"}, 0, "none"},
		{[]string{"--scenario", "no-address"}, 1, "host"},
		{[]string{"--scenario", "gateway-silent"}, 1, "local-subnet"},
		{[]string{"--scenario", "name-not-found"}, 1, "beyond"},
		{[]string{"--scenario", "gateway-silent", "--deadline", "300ms"}, 2, "undetermined"},
	} {
		t.Run(strings.Join(c.args, " "), func(t *testing.T) {
			t.Parallel()
			out, errs, status := run(t, append([]string{"check", "--format", "json"}, c.args...)...)
			assert.Equal(t, c.status, status)
			assert.Empty(t, errs)
			var r struct {
				Schema  string
				Verdict struct{ Zone string }
			}
			require.NoError(t, json.Unmarshal([]byte(out), &r), out)
			assert.Equal(t, c.zone, r.Verdict.Zone)
			assert.Equal(t, "passepartout.check/1", r.Schema)
		})
	}
}

func TestPingAndTrace(t *testing.T) {
	out, _, status := run(t, "ping", "--scenario", "healthy", "--count", "3", "--interval", "20ms", "--format", "json")
	assert.Zero(t, status)
	lines := strings.Split(strings.TrimSpace(out), "\n")
	require.Len(t, lines, 4, "one a probe, and a summary")
	for i, line := range lines {
		var p struct {
			Outcome string
			RTT     float64 `json:"rtt_us"`
			Summary *struct{ Sent, Received int }
		}
		require.NoError(t, json.Unmarshal([]byte(line), &p))
		if i < 3 {
			assert.Equal(t, "reply", p.Outcome)
			assert.Greater(t, p.RTT, 19_000.0, "the site's own delays")
			assert.Less(t, p.RTT, 2_000_000.0, "and what a busy machine adds")
		} else {
			assert.Equal(t, 3, p.Summary.Received)
		}
	}
	_, _, status = run(t, "ping", "--scenario", "uplink-down", "203.0.113.80", "--count", "2", "--interval", "20ms")
	assert.Equal(t, 1, status)

	out, _, status = run(t, "trace", "--scenario", "healthy", "--format", "json")
	assert.Zero(t, status)
	var trace struct {
		Reached bool
		Method  string
		Hops    []struct {
			Segment, State string
			Answers        []struct{ Name string }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(out), &trace))
	assert.True(t, trace.Reached)
	assert.Equal(t, "tcp", trace.Method, "the target has a port")
	require.Len(t, trace.Hops, 5)
	assert.Equal(t, "local-subnet", trace.Hops[0].Segment)
	assert.Equal(t, "pier-gw.kittiwake.example", trace.Hops[0].Answers[0].Name)
	assert.Equal(t, "destination", trace.Hops[4].State)
	_, _, status = run(t, "trace", "--scenario", "path-stops", "203.0.113.80")
	assert.Equal(t, 1, status)
}

// alone is how a command is run on the live machine without a way off it: in a network namespace of its own, which holds nothing but
// loopback.
func alone(t *testing.T) []string {
	if runtime.GOOS != "linux" {
		t.Skip("the live machine is Linux")
	}
	prefix := []string{"unshare", "--map-root-user", "--net"}
	if out, err := exec.Command(prefix[0], append(prefix[1:], "true")...).CombinedOutput(); err != nil {
		t.Skipf("a network namespace is not permitted here: %s", out)
	}
	return prefix
}

func TestThisMachineAlone(t *testing.T) {
	out, errs, status := run(t, "ping", "127.0.0.1", "--count", "2", "--interval", "10ms")
	assert.Zero(t, status, errs)
	assert.Contains(t, out, "2 of 2 came back")

	prefix := alone(t)
	cmd := exec.Command(prefix[0], append(prefix[1:], binary, "check", "203.0.113.80:443", "--format", "json")...)
	raw, err := cmd.Output()
	var exit *exec.ExitError
	require.ErrorAs(t, err, &exit)
	assert.Equal(t, 1, exit.ExitCode())
	var r struct {
		Verdict struct{ Zone, Fault, Sentence string }
	}
	require.NoError(t, json.Unmarshal(raw, &r), string(raw))
	assert.Equal(t, "host", r.Verdict.Zone)
	assert.Equal(t, "This machine has no network interface besides loopback.", r.Verdict.Sentence)
}

func TestListNamesTheScenarios(t *testing.T) {
	out, _, status := run(t, "demo", "--list")
	assert.Zero(t, status)
	assert.Equal(t, scenario.Names(), strings.Split(strings.TrimSpace(out), "\n"))
}

func TestHelpSpeaksOfEveryCommand(t *testing.T) {
	out, _, status := run(t, "--help")
	assert.Zero(t, status)
	for _, word := range []string{"check", "ping", "trace", "demo", "--interface", "--scenario", "--format", "--deadline"} {
		assert.Contains(t, out, word)
	}
}

// TestWholeProcess prints how long check of a healthy site takes from start to end of the process, beside the site's own delays.
func TestWholeProcess(t *testing.T) {
	if raced {
		t.Skip("the race detector slows it")
	}
	var took []time.Duration
	for range 10 {
		began := time.Now()
		_, _, status := run(t, "check", "--scenario", "healthy")
		took = append(took, time.Since(began))
		require.Zero(t, status)
	}
	slices.Sort(took)
	const site = 21 * time.Millisecond // look-up on the pier, then a round trip to the booking service
	fmt.Printf("check --scenario healthy, whole process: median %v, worst %v; the site's own delays are %v, the bar is 300 ms more\n",
		took[5].Round(time.Millisecond), took[9].Round(time.Millisecond), site)
	assert.Less(t, took[5], 3*time.Second)
}

// A target with a port is asked there, as check does; a flag says otherwise.
func TestPingAsksThePortThatIsNamed(t *testing.T) {
	for _, c := range []struct {
		scenario, args string
		status         int
		says           []string
	}{
		{"healthy", "bookings.kittiwake.example:443", 0, []string{"connections to port 443", "━━ reply"}},
		{"healthy", "bookings.kittiwake.example:443 --method icmp", 0, []string{"ICMP echo, 48 octets"}},
		{"healthy", "bookings.kittiwake.example", 0, []string{"ICMP echo, 48 octets"}},
		{"healthy", "bookings.kittiwake.example:443 172.27.40.1", 0, []string{"where a port is named, else ICMP echo"}},
		{"service-refused", "bookings.kittiwake.example:443", 1, []string{"says: connection refused"}},
		{"service-refused", "bookings.kittiwake.example:443 --method icmp", 0, []string{"━━ reply"}},
		{"healthy", "bookings.kittiwake.example --method udp", 3, []string{"give icmp or tcp"}},
		{"healthy", "bookings.kittiwake.example:443 --tcp --method icmp", 3, []string{"one or the other"}},
	} {
		out, errs, status := run(t, append([]string{"ping", "--scenario", c.scenario, "--count", "1"}, strings.Fields(c.args)...)...)
		assert.Equal(t, c.status, status, "%s: %s", c.args, errs)
		for _, says := range c.says {
			assert.Contains(t, out+errs, says, c.args)
		}
	}
}

func TestPingManyDrawAndRows(t *testing.T) {
	dir := t.TempDir()
	out, errs, status := run(t, "ping", "--scenario", "healthy", "172.27.40.1", "bookings.kittiwake.example", "nosuch.kittiwake.example",
		"--count", "4", "--interval", "50ms", "--format", "json", "--draw", filepath.Join(dir, "p.svg"))
	assert.Equal(t, 1, status, "one of them never answered")
	assert.Contains(t, errs, "nosuch.kittiwake.example: no address")
	assert.Equal(t, 8+3, strings.Count(out, "\n"), "a line a probe, and a summary for each target")
	got, err := os.ReadFile(filepath.Join(dir, "p.svg"))
	require.NoError(t, err)
	assert.Contains(t, string(got), "Round trips over time")

	out, _, status = run(t, "ping", "--scenario", "healthy", "bookings.kittiwake.example:443", "--tcp", "--duration", "2s", "--interval",
		"200ms", "--format", "csv")
	assert.Zero(t, status)
	assert.Contains(t, out, "target,address,method,seq")
	assert.GreaterOrEqual(t, strings.Count(out, ",tcp,"), 2)

	out, _, status = run(t, "ping", "--scenario", "mtu-black-hole", "203.0.113.80", "--count", "2", "--interval", "50ms", "--size", "1472",
		"--whole")
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "no answer")

	for range 3 { // eight flows by chance all take the same branch once in a hundred runs
		out, _, status = run(t, "trace", "--scenario", "balanced-middle", "--method", "udp", "--flows", "8", "--rounds", "2", "--format",
			"json", "--draw", filepath.Join(dir, "t.pdf"))
		assert.Zero(t, status)
		if strings.Contains(out, `"id": "branches"`) {
			break
		}
	}
	assert.Contains(t, out, `"id": "branches"`)
	got, err = os.ReadFile(filepath.Join(dir, "t.pdf"))
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(got), "%PDF"))
	out, _, _ = run(t, "trace", "--scenario", "healthy", "--format", "csv")
	assert.Contains(t, out, "198.51.100.9,sound-core.kittiwake.example")

	_, errs, status = run(t, "check", "--scenario", "gateway-silent", "--draw", filepath.Join(dir, "c.svg"))
	assert.Equal(t, 1, status, errs)
	got, _ = os.ReadFile(filepath.Join(dir, "c.svg"))
	assert.Contains(t, string(got), "The fault lies in the LOCAL SUBNET.")

	for args, want := range map[string]string{
		"ping --scenario healthy --draw p.png":               "ends in .svg or .pdf",
		"check --scenario healthy --draw /nonexistent/c.svg": "no such file",
		"ping --scenario healthy 203.0.113.80 --tcp":         "names no port",
		"ping --scenario healthy --interval 2m":              "the longest is 1m0s",
		"trace --scenario healthy --method smoke":            "icmp, udp or tcp",
		"trace --scenario healthy 203.0.113.80 --method tcp": "names no port",
		"trace --scenario healthy --flows 0":                 "1 to 16",
		"trace --scenario healthy --rounds 0":                "1 to 3600",
		"check --scenario healthy --format csv":              "text or json",
	} {
		_, errs, status := run(t, strings.Fields(args)...)
		assert.Equal(t, 3, status, args)
		assert.Contains(t, errs, want, args)
		assert.Equal(t, 1, strings.Count(errs, "\n"), args)
	}
}
