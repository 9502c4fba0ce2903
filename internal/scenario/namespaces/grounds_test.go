//go:build linux

package namespaces_test

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/casefile"
	"passepartout/internal/conductor"
	"passepartout/internal/core/event"
	sitesheet "passepartout/internal/core/site"
	"passepartout/internal/core/state"
	"passepartout/internal/core/target"
	"passepartout/internal/core/ticket"
	"passepartout/internal/core/verdict"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/nap"
	"passepartout/internal/report"
	"passepartout/internal/scenario"
	"passepartout/internal/scenario/namespaces"
	"passepartout/internal/sheetfile"
)

var (
	runs  = flag.Int("runs", 1, "how often every scenario is run on every ground")
	every = flag.Bool("every", false, "every scenario also with fewer permissions; else one of each fault, to fit the time of CI")
)

// inUserNamespace marks the copy of this test that runs as root of an unprivileged user namespace.
const inUserNamespace = "PASSEPARTOUT_TEST_USERNS"

var binary string // the program under test

func TestMain(m *testing.M) {
	namespaces.MaybeEnter()
	flag.Parse()
	dir, err := os.MkdirTemp("", "passepartout-test-")
	if err != nil {
		panic(err)
	}
	_ = os.Chmod(dir, 0o755)
	if binary = os.Getenv(inUserNamespace); binary == "" {
		binary = filepath.Join(dir, "passepartout")
		build := exec.Command("go", "build", "-o", binary, "passepartout/cmd/passepartout")
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := build.CombinedOutput(); err != nil {
			fmt.Fprintf(os.Stderr, "building the program: %v\n%s", err, out)
			os.Exit(1)
		}
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// result is what a script reads of check's JSON.
type result struct {
	TookMS  int64 `json:"took_ms"`
	Verdict struct {
		Zone, Fault, Sentence, Confidence string
		Also                              []struct{ Fault string }
	}
	Checks []struct {
		ID     string
		TookMS float64 `json:"took_ms"`
	}
	Suspects []struct{ Fault, Standing string }
	Remarks  []struct{ ID string }
	Withheld []struct{ Why string }
}

// score collects the figures that are printed at the end of a run.
type score struct {
	mu    sync.Mutex
	right int

	judged, aside int // runs, and those of them that were set aside, since this machine had stood still
	took          map[string][]int64
	wrong         []string
	bound         float64 // the worst share of the time that a healthy verdict may take
	worst         string  // the scenario that took it
}

// healthy: nothing at all is wrong, and nobody rations echo replies: a ration is told from a loss by asking longer.
func healthy(s *scenario.Scenario) bool {
	for _, n := range s.Site.Nodes {
		if n.Echoes != nil {
			return false
		}
	}
	return s.Expect.Zone == "none" && len(s.Expect.Also) == 0
}

// healthyBound is how long a healthy verdict may take, in ms: 1.5 × look-up and connect, one after the other, plus the wait for silence,
// plus 100.
func (r result) healthyBound() float64 {
	took := map[string]float64{}
	for _, c := range r.Checks {
		took[c.ID] = c.TookMS
	}
	return 1.5*(took["names"]+took["service"]) + max(50, 4*took["gateway"]) + 100
}

// undisturbed judges a run. One that came out wrong while this machine itself stood still for longer than a packet of the site takes is set
// aside, and not repeated: probes that were not sent in time are no evidence of the program, for it or against it. There may be few of
// them, and they are printed.
func (s *score) undisturbed(t *testing.T, run func() (result, []string)) (r result, bad []string) {
	meter := nap.Measure(5 * time.Millisecond)
	defer meter.Stop()
	r, bad = run()
	stood := meter.Worst()
	s.mu.Lock()
	s.judged++
	aside := len(bad) > 0 && stood >= nap.Stood
	if aside {
		s.aside++
	}
	// One stand meets all of the two dozen that run beside each other, and there are machines that stand still every few seconds.
	most := max(24, s.judged/5)
	over := s.aside > most
	s.mu.Unlock()
	switch {
	case aside && over:
		assert.Fail(t, "too many runs were wrong while this machine stood still", "more than %d", most)
	case aside:
		fmt.Printf("   %s: set aside, this machine stood still for %v meanwhile: %s\n", t.Name(), stood.Round(time.Millisecond),
			strings.Join(bad, "; "))
		t.Skip("this machine stood still meanwhile")
	}
	return r, bad
}

func (s *score) add(sc *scenario.Scenario, r result, flaws []string) {
	name := sc.Name
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.took == nil {
		s.took = map[string][]int64{}
	}
	s.took[name] = append(s.took[name], r.TookMS)
	if healthy(sc) {
		if share := float64(r.TookMS) / r.healthyBound(); share > s.bound {
			s.bound, s.worst = share, name
		}
	}
	if len(flaws) == 0 {
		s.right++
	} else {
		s.wrong = append(s.wrong, fmt.Sprintf("%s: %s", name, strings.Join(flaws, "; ")))
	}
}

func (s *score) print(t *testing.T, ground string) {
	var good, faulty, medians []int64
	slowest, name := int64(0), ""
	total := 0
	for id, took := range s.took {
		total += len(took)
		sc, err := scenario.Load(id)
		require.NoError(t, err)
		if healthy(sc) {
			good = append(good, took...)
			continue
		}
		if sc.Expect.Zone == "none" {
			continue // a fault that is not in the way
		}
		slices.Sort(took)
		medians = append(medians, took[len(took)/2])
		if m := took[len(took)/2]; m > slowest {
			slowest, name = m, sc.Name
		}
		faulty = append(faulty, took...)
	}
	if len(good) == 0 || len(faulty) == 0 {
		return // nothing ran to its end, or a part was chosen
	}
	for _, list := range [][]int64{good, faulty, medians} {
		slices.Sort(list)
	}
	fmt.Printf("%-28s %d of %d right; healthy verdict: median %d ms, worst %d ms, worst %.2f of its bound (%s); fault's verdict: worst "+
		"median %d ms (%s), worst of all %d ms\n",
		ground, s.right, total, good[len(good)/2], good[len(good)-1], s.bound, s.worst, medians[len(medians)-1], name,
		faulty[len(faulty)-1])
	if s.aside > 0 {
		fmt.Printf("   %d of %d runs were set aside, since this machine had stood still meanwhile\n", s.aside, s.judged)
	}
	for _, w := range s.wrong {
		fmt.Println("   wrong:", w)
	}
}

// flaws compares a result with what the scenario expects; empty is right.
func flaws(s *scenario.Scenario, frames, echo bool, r result) (out []string) {
	zone, fault := s.Expect.For(frames, echo)
	// Who looks on for long hears it from the last router, which has then asked in vain for three seconds (RFC 1812 §3.3.2): as true.
	if fault == "destination-silent" && zone == "beyond" && r.Verdict.Fault == "destination-unreachable" &&
		strings.Contains(r.Verdict.Sentence, "host not found on its link") {
		fault = r.Verdict.Fault
	}
	if r.Verdict.Zone != zone || r.Verdict.Fault != fault {
		out = append(out, fmt.Sprintf("verdict %s %q (%s), want %s %q", r.Verdict.Zone, r.Verdict.Fault, r.Verdict.Sentence, zone, fault))
	}
	if zone == "undetermined" && len(r.Withheld) == 0 {
		out = append(out, "undetermined without a reason")
	}
	standing := map[string]string{}
	for _, x := range r.Suspects {
		standing[x.Fault] = x.Standing
	}
	for _, id := range s.Expect.Cleared { // what only frames can tell stays possible without them
		if got := standing[id]; got != "cleared" && (frames || got != "possible") {
			out = append(out, fmt.Sprintf("%s is %s, want cleared", id, cmp.Or(got, "not in the catalogue")))
		}
	}
	if (frames || s.Expect.Unprivileged == nil) && (echo || s.Expect.NoEcho == nil) {
		for _, word := range s.Expect.Words {
			if !strings.Contains(r.Verdict.Sentence, word) {
				out = append(out, fmt.Sprintf("sentence %q lacks %q", r.Verdict.Sentence, word))
			}
		}
		var also []string
		for _, a := range r.Verdict.Also {
			also = append(also, a.Fault)
		}
		if !slices.Equal(also, s.Expect.Also) {
			out = append(out, fmt.Sprintf("also %v, want %v", also, s.Expect.Also))
		}
	}
	for _, id := range s.Expect.Remarks {
		if !slices.ContainsFunc(r.Remarks, func(m struct{ ID string }) bool { return m.ID == id }) && frames {
			out = append(out, "remark "+id+" is missing")
		}
	}
	return out
}

func eachScenario(t *testing.T, atOnce int, f func(t *testing.T, s *scenario.Scenario)) {
	slots := make(chan struct{}, atOnce)
	t.Run("all", func(t *testing.T) {
		for _, name := range scenario.Names() {
			inSlot(t, slots, name, func(t *testing.T) {
				s, err := scenario.Load(name)
				require.NoError(t, err)
				f(t, s)
			})
		}
	})
}

// inSlot runs a part of a test beside others, as many at once as there are slots.
func inSlot(t *testing.T, slots chan struct{}, name string, f func(t *testing.T)) {
	t.Run(name, func(t *testing.T) {
		t.Parallel()
		slots <- struct{}{}
		defer func() { <-slots }()
		f(t)
	})
}

// ofEachFault are one scenario of each fault, and every other of those in which nothing is wrong but the place.
var ofEachFault = sync.OnceValue(func() map[string]bool {
	out, seen := map[string]bool{}, map[string]bool{}
	for i, name := range scenario.Names() {
		s, err := scenario.Load(name)
		if err != nil {
			panic(err) // embedded
		}
		if s.Expect.Fault == "" && strings.HasPrefix(name, scenario.Healthy) && i%2 == 0 || s.Expect.Fault != "" && !seen[s.Expect.Fault] {
			out[name], seen[s.Expect.Fault] = true, true
		}
	}
	return out
})

// leftInKernel reports whether a scenario is left out in the kernel, where labs take their time: as root, two of three of those that are
// left out for everybody else. The simulated ground has them all, and make score every one on every ground.
func leftInKernel(s *scenario.Scenario, as namespaces.As) bool {
	if as == namespaces.Root {
		return !*every && !ofEachFault()[s.Name] && slices.Index(scenario.Names(), s.Name)%3 > 0
	}
	return left(s, false, as == namespaces.EchoAllowed)
}

// left reports whether a scenario is left out: with fewer permissions, of each fault one is run, with echo and without in turn.
func left(s *scenario.Scenario, frames, echo bool) bool {
	return !frames && !*every && (!ofEachFault()[s.Name] || (slices.Index(scenario.Names(), s.Name)%2 == 0) != echo)
}

func TestSimulatedGround(t *testing.T) {
	t.Parallel()
	for _, ground := range []struct {
		name      string
		privilege simulated.Privilege
	}{{"simulated", simulated.Full}, {"simulated, echo only", simulated.EchoOnly}, {"simulated, unprivileged", simulated.Unprivileged}} {
		t.Run(ground.name, func(t *testing.T) {
			total := &score{}
			eachScenario(t, 10, func(t *testing.T, s *scenario.Scenario) {
				if left(s, ground.privilege == simulated.Full, ground.privilege == simulated.EchoOnly) {
					return
				}
				for range *runs {
					r, bad := total.undisturbed(t, func() (result, []string) {
						r := runSimulated(t, s, ground.privilege)
						return r, flaws(s, ground.privilege == simulated.Full, ground.privilege != simulated.Unprivileged, r)
					})
					total.add(s, r, bad)
					assert.Empty(t, bad)
				}
			})
			total.print(t, ground.name)
		})
	}
}

func runSimulated(t *testing.T, s *scenario.Scenario, p simulated.Privilege) (r result) {
	site, err := simulated.Build(s, simulated.Options{Privilege: p})
	require.NoError(t, err)
	defer site.Close()
	want, err := target.Parse(s.Target)
	require.NoError(t, err)
	far, err := target.Parse(s.Responder)
	require.NoError(t, err)
	var sheet *sitesheet.Sheet
	if raw, err := s.SheetText(); raw != nil {
		require.NoError(t, err)
		sheet, err = sheetfile.Parse(raw, s.Sheet)
		require.NoError(t, err)
	}
	var log bytes.Buffer
	lines := event.NewWriter(&log)
	kept := filepath.Join(t.TempDir(), fmt.Sprintf("%p.case", &log)) // a scenario may be run more than once
	recorder, err := casefile.Record(kept, casefile.Manifest{Began: site.Began})
	require.NoError(t, err)
	var last state.State // as the last event has left it: something may be heard after the tests have ended
	known, err := conductor.New(t.Context(),
		conductor.Config{Machine: site.Machine(), Target: want, Interface: s.Interface, Sheet: sheet, Responder: far,
			Deadline: 10 * time.Second,
			Log: func(e event.Event, s *state.State) {
				assert.NoError(t, lines.Write(e))
				recorder.Take(e, s)
				last = *s
			}}).Once()
	require.NoError(t, err)
	require.NoError(t, recorder.Close(time.Now()))
	var b strings.Builder
	require.NoError(t, report.CheckJSON(&b, site.Began, &known.Round.Set, known.Round.Result))
	require.NoError(t, json.Unmarshal([]byte(b.String()), &r))
	if *every || ofEachFault()[s.Name] {
		redacted(t, kept, log.Bytes(), r)
	}
	fromLog(t, &log, &last, site.Began, b.String())
	opened(t, kept, site.Began, b.String())
	return r
}

// opened holds that the case, kept in a file and opened again, gives the same verdict, suspects and checks when it is judged anew, and that
// its ticket says to a stranger what it is about.
func opened(t *testing.T, path string, at time.Time, check string) {
	c, err := casefile.Open(path)
	require.NoError(t, err)
	set, _ := c.State.Shown()
	r := verdict.Judge(set)
	var b strings.Builder
	require.NoError(t, report.CheckJSON(&b, at, set, r))
	assert.Equal(t, check, b.String(), "judged anew from its file")
	text := report.TicketOf(&c.State, ticket.About{}).Text()
	assert.LessOrEqual(t, len(strings.Fields(text)), 500, text)
	facts := append([]string{r.Zone.String(), string(r.Confidence), r.Sentence, string(r.Fault), set.Endpoint.Host,
		set.Target.String()}, r.Next...)
	if s, ok := r.Suspect(r.Fault); ok && r.Fault != "" {
		facts = append(facts, s.For...)
	}
	for _, fact := range facts {
		assert.Contains(t, text, fact)
	}
}

// fromLog holds that the log of a case, as it is written, gives the same state when it is read and folded again: evidence, verdict, checks
// and suspects.
func fromLog(t *testing.T, log io.Reader, known *state.State, at time.Time, check string) {
	var again state.State
	require.NoError(t, event.Read(log, func(e event.Event) error { again = state.Fold(again, e); return nil }))
	var b strings.Builder
	require.NoError(t, report.CheckJSON(&b, at, &again.Round.Set, again.Round.Result))
	assert.Equal(t, check, b.String(), "folded again from its log")
	want, err := json.Marshal(known.Round.Set)
	require.NoError(t, err)
	got, err := json.Marshal(again.Round.Set)
	require.NoError(t, err)
	assert.JSONEq(t, string(want), string(got))
	assert.Equal(t, known.Verdict.Standing, again.Verdict.Standing)
	assert.Equal(t, known.Verdict.Title(), again.Verdict.Title())
}

// What a demonstration shows as the repaired site has no fault: each repair repairs. CI tries every other one.
func TestEveryRepairRepairs(t *testing.T) {
	t.Parallel()
	again := &score{}
	eachScenario(t, 10, func(t *testing.T, s *scenario.Scenario) {
		if s.Expect.Zone == "none" || !*every && slices.Index(scenario.Names(), s.Name)%2 > 0 {
			return
		}
		mended, err := s.Mended()
		require.NoError(t, err)
		_, bad := again.undisturbed(t, func() (result, []string) {
			r := runSimulated(t, mended, simulated.Full)
			return r, flaws(mended, true, true, r)
		})
		assert.Empty(t, bad)
	})
}

func TestKernelGround(t *testing.T) {
	if why := namespaces.Unavailable(); why != "" {
		if os.Getuid() != 0 && os.Getenv(inUserNamespace) == "" {
			t.Skip("not root here (TestUserNamespace runs it in a user namespace):", why)
		}
		t.Skip(why)
	}
	grounds := []namespaces.As{namespaces.Root, namespaces.EchoAllowed, namespaces.EchoClosed}
	totals := make([]score, len(grounds))
	eachScenario(t, 8, func(t *testing.T, s *scenario.Scenario) {
		for i, as := range grounds {
			if leftInKernel(s, as) {
				continue
			}
			for range *runs {
				r, bad := totals[i].undisturbed(t, func() (result, []string) { return runInKernel(t, s, as) })
				totals[i].add(s, r, bad)
				assert.Empty(t, bad, "%v", as)
			}
		}
	})
	for i, as := range grounds {
		totals[i].print(t, "kernel, "+as.String())
	}
}

// runInKernel builds the site anew for every run: what a router still remembers of the run before, such as how many ICMP errors it has sent
// lately, would be evidence of another case.
func runInKernel(t *testing.T, s *scenario.Scenario, as namespaces.As) (r result, bad []string) {
	lab, err := namespaces.Build(s)
	require.NoError(t, err)
	defer lab.Close()
	args := []string{"check", s.Target, "--format", "json"}
	if raw, err := s.SheetText(); raw != nil {
		require.NoError(t, err)
		sheet, err := os.CreateTemp(filepath.Dir(binary), s.Sheet+"-*.yaml") // of this run alone: others have it too
		require.NoError(t, err)
		defer os.Remove(sheet.Name())
		_, err = sheet.Write(raw)
		require.NoError(t, errors.Join(err, sheet.Chmod(0o644), sheet.Close()))
		args = append(args, "--site", sheet.Name())
	}
	if s.Responder != "" {
		args = append(args, "--responder", s.Responder)
	}
	dir, err := os.MkdirTemp("/tmp", "passepartout-case-") // where any user may write
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	require.NoError(t, os.Chmod(dir, 0o777))
	kept := filepath.Join(dir, "check.case")
	out, errs, status, err := lab.Run(as, binary, append(args, "--case", kept)...)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal([]byte(out), &r), "%s%s", out, errs)
	var when struct{ At time.Time }
	require.NoError(t, json.Unmarshal([]byte(out), &when))
	opened(t, kept, when.At, out)
	bad = flaws(s, as == namespaces.Root, as != namespaces.EchoClosed, r)
	want := 1
	switch r.Verdict.Zone {
	case "none":
		want = 0
	case "undetermined":
		want = 2
	}
	if status != want {
		bad = append(bad, fmt.Sprintf("exit status %d, want %d", status, want))
	}
	return r, bad
}

// TestUserNamespace runs the kernel ground once more as an ordinary user who is root of a user namespace of his own.
func TestUserNamespace(t *testing.T) {
	t.Parallel()
	if os.Getenv(inUserNamespace) != "" {
		t.Skip("this is that run")
	}
	for _, program := range []string{"dnsmasq", "nft"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skip(program + " is not installed")
		}
	}
	// Another user must be able to run it, and cannot look into the go command's folder.
	self := filepath.Join(filepath.Dir(binary), "test")
	own, err := os.ReadFile("/proc/self/exe")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(self, own, 0o755))
	cmd := exec.Command(self, "-test.run", "TestKernelGround/all/^(healthy|gateway-silent|uplink-down|no-address|service-filtered)$",
		"-test.v")
	cmd.Env = append(os.Environ(), inUserNamespace+"="+binary, "TMPDIR=/tmp")
	cmd.Dir = "/"
	user := os.Getuid()
	attr := &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWUSER | syscall.CLONE_NEWNET | syscall.CLONE_NEWNS,
		UidMappings: []syscall.SysProcIDMap{{ContainerID: 0, HostID: user, Size: 1}},
		GidMappings: []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getgid(), Size: 1}}}
	if user == 0 { // be an ordinary user first
		cmd.Args = append(
			[]string{"setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", "unshare", "--user", "--map-root-user", "--net",
				"--mount", self}, cmd.Args[1:]...)
		path, err := exec.LookPath("setpriv")
		if err != nil {
			t.Skip("setpriv is not installed")
		}
		cmd.Path, attr = path, nil
	}
	cmd.SysProcAttr = attr
	out, err := cmd.CombinedOutput()
	if err != nil && strings.Contains(string(out), "unshare failed") {
		t.Skip("user namespaces are not permitted here: ", string(out))
	}
	require.NoError(t, err, "%s", out)
	require.Contains(t, string(out), "kernel, root", "the kernel ground did not run: %s", out)
	for line := range strings.Lines(string(out)) {
		if strings.HasPrefix(line, "kernel, ") {
			fmt.Print("user namespace: ", line)
		}
	}
}
