package main_test

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What practitioners do most, each from the overview: no more keys than this. What is typed, a name or an address, is what is asked for and
// no key of ours.
func TestTenTasks(t *testing.T) {
	const typed = "typed: " // before what is typed
	for _, c := range []struct {
		task, scenario string
		most           int
		keys           []string
		sees           []string
	}{
		{"any setting of the read-out list", "healthy", 1, []string{"v"},
			[]string{"hardware address", "address and prefix", "default gateway", "name servers", "DHCP server"}},
		{"the route to an address", "healthy", 3, []string{"2", "a", typed + "198.51.100.7", "Enter"},
			[]string{"by 172.27.40.1 through eth0", "asked at"}},
		{"four targets: loss, maximum and jitter", "healthy", 5,
			[]string{"6", "a", typed + "172.27.40.2 172.27.40.31 203.0.113.53 203.0.113.80", "Enter", "End"},
			[]string{"172.27.40.31", "sent, ", "came back", "max ", "jitter"}},
		{"a name at all servers", "healthy", 3, []string{"5", "n", typed + "weather.kittiwake.example", "Enter"},
			[]string{"weather.kittiwake.example", "172.27.40.2", "203.0.113.53", "203.0.113.90"}},
		{"is an address free", "healthy", 3, []string{"4", "f", typed + "172.27.40.90", "Enter"}, []string{"172.27.40.90", "free"}},
		{"the evidence of an earlier outage", "fault-comes-and-goes", 3, []string{"6"},
			[]string{"local subnet", "loopback answered throughout;"}},
		{"what is on screen, written", "healthy", 2, []string{"e", typed + "", "Enter"}, []string{"written to"}},
		{"another interface", "healthy-docked-two-ways", 2, []string{"i", "Enter"}, []string{"ticket-03 · wlan0"}},
		{"what can be done in this view", "healthy", 1, []string{"?"}, []string{"What can be done here", "along the line"}},
		{"any command by its name", "healthy", 4, []string{"?", typed + "counters", "Enter"}, []string{"Traffic", "Lost at the interface"}},
	} {
		t.Run(c.task, func(t *testing.T) {
			t.Parallel()
			x := open(t, 142, 44, nil, "demo", c.scenario)
			x.see("What should be reachable?")
			x.press("Enter")
			x.see("fault", "? all keys", "checked")
			count := 0
			for _, k := range c.keys {
				text, is := strings.CutPrefix(k, typed)
				switch {
				case !is:
					count++
					x.press(k)
				case text == "": // a file of this test's own, in the place of the one that is offered
					x.see("write to")
					x.press("C-u")
					x.tmux("send-keys", "-l", filepath.Join(t.TempDir(), "check.txt"))
				case c.keys[0] == "?":
					x.see("type a word of it")
					x.tmux("send-keys", "-l", text)
				default:
					x.see("esc leaves")
					x.tmux("send-keys", "-l", text)
				}
			}
			x.see(c.sees...)
			assert.LessOrEqual(t, count, c.most)
		})
	}
}
