package casefile_test

import (
	"archive/zip"
	"bufio"
	"bytes"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/casefile"
	"passepartout/internal/conductor"
	"passepartout/internal/core/event"
	"passepartout/internal/core/redact"
	"passepartout/internal/core/state"
	"passepartout/internal/core/target"
	"passepartout/internal/core/ticket"
	"passepartout/internal/core/zone"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/scenario"
)

// writing names the file that a copy of this test program writes a case into, until it is killed or cannot.
const writing = "PASSEPARTOUT_TEST_CASE"

// every has all the moments and sizes tried that the bars ask for; CI tries some.
var every = flag.Bool("every", false, "kill at 200 moments, fill the disk at 50 sizes")

func TestMain(m *testing.M) {
	if path := os.Getenv(writing); path != "" { // before flags are read: a copy has none
		writeOn(path)
		return
	}
	os.Exit(m.Run())
}

// writeOn takes note of one event after the other, and says of each that it did.
func writeOn(path string) {
	r, err := casefile.Record(path, casefile.Manifest{Began: time.Now()})
	for n := 0; err == nil; n++ {
		r.Take(event.Event{At: time.Now(), Body: event.Changed{Of: event.Link, What: fmt.Sprintf("%d %x", n, rand.Uint64())}}, nil)
		fmt.Println(n)
		time.Sleep(time.Millisecond)
		err = r.Err()
	}
	fmt.Fprintln(os.Stderr, err)
	if r != nil {
		fmt.Fprintln(os.Stderr, r.Close(time.Now()))
	}
	os.Exit(3)
}

// tested runs the tests of a scenario once, one target after the other, all in one case.
func tested(t *testing.T, path, name string, targets ...string) (last state.State) {
	s, err := scenario.Load(name)
	require.NoError(t, err)
	site, err := simulated.Build(s, simulated.Options{})
	require.NoError(t, err)
	defer site.Close()
	r, err := casefile.Record(path, casefile.Manifest{Began: time.Now(), Complaint: s.Complaint, Simulated: true})
	require.NoError(t, err)
	for _, text := range targets {
		want, err := target.Parse(text)
		require.NoError(t, err)
		c := conductor.New(t.Context(), conductor.Config{Machine: site.Machine(), Target: want, Deadline: 10 * time.Second, Log: r.Take})
		last, err = c.Once()
		require.NoError(t, err)
		r.Take(event.Event{At: time.Now(), Body: event.Noted{Text: "Mrs Nobody of the counters says that " + text + " was there."}}, nil)
		c.Close()
	}
	require.NoError(t, r.Close(time.Now()))
	return last
}

func TestKeptAndOpened(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "counter.case")
	live := tested(t, path, "gateway-silent", "weather.kittiwake.example:443", "bookings.kittiwake.example:443")
	c, err := casefile.Open(path)
	require.NoError(t, err)
	assert.Empty(t, c.Flaws)
	assert.Equal(t, []string{"ticket-03", "weather.kittiwake.example:443"}, []string{c.Host, c.Target})
	assert.False(t, c.Closed.IsZero())
	assert.Equal(t, live.Round.Result.Sentence, c.State.Verdict.Result.Sentence)
	assert.Equal(t, zone.LocalSubnet, c.State.Verdict.Result.Zone)
	require.Len(t, c.State.Past, 1, "what was asked for before")
	assert.Equal(t, "weather.kittiwake.example:443", c.State.Past[0].Target)
	words := fmt.Sprint(ticket.Of(&c.State, ticket.About{Complaint: c.Complaint}))
	for _, has := range []string{"weather.kittiwake.example:443: The gateway does not answer", "gateway-silent",
		"Nobody at the ticket counters"} {
		assert.Contains(t, words, has)
	}

	assert.Contains(t, words, "Mrs Nobody of the counters says that weather.kittiwake.example:443 was there")
	hidden, err := casefile.OpenRedacted(path, redact.Key{3})
	require.NoError(t, err)
	require.Len(t, hidden.State.Notes, 2)
	assert.NotContains(t, fmt.Sprint(ticket.Of(&hidden.State, ticket.About{Complaint: hidden.Complaint})), "Nobody of the")

	_, err = casefile.Record(path, casefile.Manifest{})
	assert.ErrorContains(t, err, "is there already")
	_, err = casefile.Record(filepath.Join(t.TempDir(), "counter.zip"), casefile.Manifest{})
	assert.ErrorContains(t, err, "end in .case")
	_, err = casefile.Record(filepath.Join(t.TempDir(), "nosuch", "counter.case"), casefile.Manifest{})
	assert.ErrorContains(t, err, "the case counter.case: no such file or directory")
}

// A case that was not closed is opened as far as it was written, wherever it is cut; of a damaged one what can be saved is, or one line
// says why not.
func TestCutAndDamaged(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	whole := filepath.Join(dir, "whole.case")
	tested(t, whole, "healthy", "bookings.kittiwake.example:443")
	full, err := casefile.Open(whole)
	require.NoError(t, err)
	closed, err := os.ReadFile(whole)
	require.NoError(t, err)

	unfinished := filepath.Join(dir, "cut.case")
	r, err := casefile.Record(unfinished, casefile.Manifest{Began: time.Now()})
	require.NoError(t, err)
	z, err := zip.OpenReader(whole)
	require.NoError(t, err)
	log, err := z.Open("events.jsonl")
	require.NoError(t, err)
	require.NoError(t, event.Read(log, func(e event.Event) error { r.Take(e, nil); return nil }))
	require.Eventually(t, func() bool {
		c, err := casefile.Open(unfinished + casefile.Unfinished)
		return err == nil && c.Count == full.Count
	}, 5*time.Second, 50*time.Millisecond, "on the disk soon, though it is not closed")
	open, err := os.ReadFile(unfinished + casefile.Unfinished)
	require.NoError(t, err)
	require.NoError(t, r.Close(time.Now()))
	_, err = os.Stat(unfinished + casefile.Unfinished)
	assert.ErrorIs(t, err, os.ErrNotExist)

	at := filepath.Join(dir, "x.case")
	try := func(raw []byte) (*casefile.Case, error) {
		require.NoError(t, os.WriteFile(at, raw, 0o600))
		c, err := casefile.Open(at)
		if err != nil {
			assert.Equal(t, 0, strings.Count(err.Error(), "\n"))
			assert.True(t, strings.HasPrefix(err.Error(), "x.case: "), err.Error())
		}
		return c, err
	}
	last := 0
	for i := range 200 {
		c, err := try(open[:len(open)*i/200])
		if err == nil {
			assert.GreaterOrEqual(t, c.Count, last, "more is never less")
			assert.NotEmpty(t, c.Flaws)
			last = c.Count
		}
	}
	assert.Greater(t, last, full.Count/2)
	random := rand.New(rand.NewPCG(7, 7))
	for range 300 {
		bad := bytes.Clone(closed)
		for range 1 + random.IntN(8) {
			bad[random.IntN(len(bad))] ^= byte(1 + random.IntN(255))
		}
		_, _ = try(bad[:len(bad)-random.IntN(2)*random.IntN(200)])
	}
}

// made is a zip with such members.
func made(t *testing.T, members ...string) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := 0; i+1 < len(members); i += 2 {
		w, err := z.Create(members[i])
		require.NoError(t, err)
		_, err = io.WriteString(w, members[i+1])
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.Bytes()
}

func TestMadeByAnybody(t *testing.T) {
	t.Parallel()
	const head = `{"schema":"passepartout.case/1"}`
	const line = `{"at":"2026-11-23T09:14:03Z","event":"stopped","data":{"Because":"over"}}` + "\n"
	many := []string{"manifest.json", head}
	for i := range 1001 {
		many = append(many, fmt.Sprint("m", i), "")
	}
	bomb := strings.Repeat(strings.Repeat("0", 1<<20), 20)
	for _, c := range []struct {
		name  string
		raw   []byte
		says  string // the error
		flaws string
	}{
		{"nothing", nil, "it is no case", ""},
		{"another file", []byte("root:x:0:0"), "it is no case", ""},
		{"another zip", made(t, "a.txt", "a"), "it has no manifest.json", ""},
		{"another manifest", made(t, "manifest.json", `{"schema":"other/1"}`), "its manifest says so", ""},
		{"a manifest that is none", made(t, "manifest.json", "{"), "cannot be read", ""},
		{"no log", made(t, "manifest.json", head), "it has no events.jsonl", ""},
		{"an empty log", made(t, "manifest.json", head, "events.jsonl", ""), "nothing is written in it", ""},
		{"thousands of members", made(t, many...), "at most 1000", ""},
		{"a later version", made(t, "manifest.json", `{"schema":"passepartout.case/9"}`, "events.jsonl", line), "", "of a later version"},
		{"members that lead out", made(t, "../../etc/x", "x", "manifest.json", head, "events.jsonl", line), "", ""},
		{"an event of a later version", made(t, "manifest.json", head, "events.jsonl", `{"event":"dreamt"}`+"\n"+line), "",
			"1 of its lines could not be read"},
		{"a line without end", made(t, "manifest.json", head, "events.jsonl", line+bomb), "", "could not be read"},
		{"escape sequences", made(t, "manifest.json", head, "events.jsonl", "\x1b[31m\n"+line), "", "1 of its lines could not be read"},
	} {
		path := filepath.Join(t.TempDir(), "x.case")
		require.NoError(t, os.WriteFile(path, c.raw, 0o600))
		got, err := casefile.Open(path)
		if c.says != "" {
			assert.ErrorContains(t, err, c.says, c.name)
			continue
		}
		if assert.NoError(t, err, c.name) {
			assert.Equal(t, "over", got.State.Stopped, c.name)
			assert.Contains(t, strings.Join(got.Flaws, "; "), c.flaws, c.name)
		}
		here, err := os.ReadDir(filepath.Dir(path))
		require.NoError(t, err)
		assert.Len(t, here, 1, "nothing is written")
	}
	_, err := casefile.Open(t.TempDir())
	assert.ErrorContains(t, err, "a directory")
}

// A program that is killed leaves a case that can be opened, with all that was taken note of up to a second before.
func TestKilled(t *testing.T) {
	t.Parallel()
	runs := 6
	switch {
	case testing.Short():
		runs = 1
	case *every:
		runs = 200
	}
	var lost, kept atomic.Int32
	var wg sync.WaitGroup
	slots := make(chan struct{}, 8)
	for range runs {
		slots <- struct{}{}
		wg.Go(func() {
			defer func() { <-slots }()
			if killed(t) {
				kept.Add(1)
			} else {
				lost.Add(1)
			}
		})
	}
	wg.Wait()
	fmt.Printf("case, killed at %d moments: all of up to a second before is there in %d, not in %d\n", runs, kept.Load(), lost.Load())
}

// killed kills a program that writes a case, and reports whether all was there of up to a second before.
func killed(t *testing.T) bool {
	path := filepath.Join(t.TempDir(), fmt.Sprintf("killed-%x.case", rand.Uint64()))
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), writing+"="+path)
	out, err := cmd.StdoutPipe()
	if !assert.NoError(t, err) || !assert.NoError(t, cmd.Start()) {
		return false
	}
	type said struct {
		n  int
		at time.Time
	}
	var all []said
	kill := time.Now().Add(1200*time.Millisecond + rand.N(1500*time.Millisecond))
	for s := bufio.NewScanner(out); s.Scan(); {
		n := 0
		_, _ = fmt.Sscan(s.Text(), &n)
		all = append(all, said{n, time.Now()})
		if time.Now().After(kill) {
			_ = cmd.Process.Kill()
		}
	}
	_ = cmd.Wait()
	c, err := casefile.Open(path + casefile.Unfinished)
	if !assert.NoError(t, err) {
		return false
	}
	for i := len(all) - 1; i >= 0; i-- {
		if kill.Sub(all[i].at) > time.Second {
			return assert.Greater(t, c.Count, all[i].n, "of %d", len(all))
		}
	}
	return true
}

// Where the disk fills, that is told, and what was written before can be opened.
func TestDiskFull(t *testing.T) {
	t.Parallel()
	sizes := []int{1, 2, 9, 40} // in blocks of 512 octets (sh(1), ulimit)
	if *every {
		sizes = sizes[:0]
		for n := range 50 {
			sizes = append(sizes, n+1)
		}
	}
	defer func() { fmt.Printf("case, a disk that fills: %d sizes\n", len(sizes)) }()
	for _, blocks := range sizes {
		path := filepath.Join(t.TempDir(), "full.case")
		cmd := exec.Command("sh", "-c", fmt.Sprintf("ulimit -f %d; exec %q", blocks, os.Args[0]))
		cmd.Env = append(os.Environ(), writing+"="+path)
		var errs bytes.Buffer
		cmd.Stderr, cmd.Stdout = &errs, io.Discard
		require.Error(t, cmd.Run())
		assert.Contains(t, errs.String(), "the case full.case: file too large")
		c, err := casefile.Open(path + casefile.Unfinished)
		require.NoError(t, err, blocks)
		assert.Positive(t, c.Count)
	}
}
