package main_test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The live views in a real terminal: witnesses begin to be watched, targets are added and asked otherwise, what is seen is written to a
// file.
func TestScreenReach(t *testing.T) {
	for _, size := range screens {
		t.Run(fmt.Sprint(size[0]), func(t *testing.T) {
			x := open(t, size[0], size[1], nil, "demo", "healthy")
			x.see("What should be reachable?")
			x.press("Enter")
			x.see("No fault stands in the way.")
			x.press("6")
			x.see("last 1 min", "LOCAL SUBNET", "pier-gw", "whose loss", "No outage since")
			x.press("a")
			x.see("esc leaves")
			x.tmux("send-keys", "-l", "203.0.113.99 172.27.40.60")
			x.press("Enter")
			x.see("2 added")
			x.press("PageDown", "PageDown", "PageDown")
			x.see("203.0.113.99", "no answer yet")
			x.press("Enter")
			x.see("is asked", "every 1s size 48")
			x.tmux("send-keys", "-l", " whole fast")
			x.press("Enter")
			x.see(`"fast" is not known here`)
			x.press("Escape") // and p only when it is done: together they would be one key
			x.see("? all keys")
			x.press("p")
			x.see("paused")
			x.press("x")
			x.see("is no longer watched")
			x.press("?")
			x.see("What can be done here")
			x.tmux("send-keys", "-l", "without")
			x.see("a run of probes without answer")
			x.press("Escape")
			x.see("? all keys")
			x.press("q")
			x.ended()
		})
	}
}

func TestScreenPathAndExport(t *testing.T) {
	x := open(t, 142, 44, nil, "demo", "rate-limited-hop")
	x.see("What should be reachable?")
	x.press("Enter")
	x.see("No fault stands in the way.")
	x.press("7")
	x.see("TCP 443, one flow", "┃pier-gw", "┃bookings", "all comes through")
	x.press("m")
	x.see("ICMP echo, one flow")
	x.press("c")
	x.see("Lay beside it", "the path as it is now, kept")
	x.press("Enter")
	x.see("as at ", "now, by ICMP echo")
	x.press("Escape") // and e only when it is done: together they would be one key
	x.see("┃pier-gw")
	x.press("e")
	x.see("write to (.svg .pdf .csv .json .txt)")
	file := filepath.Join(t.TempDir(), "path.svg")
	x.press("C-u")
	x.tmux("send-keys", "-l", file)
	x.press("Enter")
	x.see("written to")
	drawn, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(drawn), "Path to bookings.kittiwake.example")
	x.press("1", "e")
	x.see("write to (.svg .pdf .json .txt)")
	x.press("C-u")
	x.tmux("send-keys", "-l", filepath.Join(filepath.Dir(file), "none", "check.txt"))
	x.press("Enter")
	x.see("was not written")
	x.press("Escape")
	x.see("? all keys")
	x.press("q")
	x.ended()
}

// Left alone, the view tells whose fault a loss was, after the fact.
func TestScreenTellsWhoseLossItWas(t *testing.T) {
	t.Parallel()
	x := open(t, 142, 44, nil, "demo", "fault-comes-and-goes")
	x.see("What should be reachable?")
	x.press("Enter")
	x.see("No fault stands in the way.")
	x.press("6")
	x.see("whose loss")
	time.Sleep(8 * time.Second)
	x.see("local subnet", "loopback answered throughout;", "├")
	x.press("1")
	x.see("since ", "outage")
	x.press("q")
	x.ended()
}

// From the verdict to repaired, by keys: looked at, done, proven, kept, and taken back. A program that is left in the meantime leaves
// nothing on trial.
func TestScreenMendsWhatItFound(t *testing.T) {
	t.Parallel()
	x := open(t, 142, 44, nil, "demo", "gateway-outside-subnet")
	x.see("What should be reachable?")
	x.press("Enter")
	x.see("The fault lies in this HOST.", "g goes and does it")
	x.press("g")
	x.see("as it will be", "▸ 172.27.40.1", "enter does it")
	x.press("Enter")
	x.see("No fault stands in the way.", "k keeps it", "before", "after")
	x.press("k")
	x.see("Done in this session", "kept")
	x.press("u")
	x.see("taken back", "This would mend it")
	x.press("Enter")
	x.see("enter does it")
	x.press("Enter")
	x.see("k keeps it")
	x.press("q")
	x.ended()
}
