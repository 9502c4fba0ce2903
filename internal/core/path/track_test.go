package path_test

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/path"
	"passepartout/internal/core/series"
)

var (
	far   = netip.MustParseAddr("203.0.113.80")
	names = map[byte]string{'g': "172.27.40.1", 'p': "192.168.77.1", 'a': "198.51.100.1", 'b': "198.51.100.9", 'c': "198.51.100.13",
		'd': "198.51.100.35", 'T': "203.0.113.80"}
)

// track draws rounds: a letter for who answers at each hop limit, "." for silence, "!" for the second provider router saying "prohibited".
// Round trips are 5 ms a hop, and 300 ms more from the hop limit slow on.
func track(slow int, rounds ...string) *path.Track {
	t := &path.Track{To: far, Method: "icmp", OnLink: func(a netip.Addr) bool { return a.String() == "172.27.40.1" }}
	for n, round := range rounds {
		for i := range len(round) {
			r := evidence.Reply{Outcome: evidence.Silent}
			if name, ok := names[round[i]]; ok {
				r = evidence.Reply{Outcome: evidence.Expired, From: netip.MustParseAddr(name),
					RTT: time.Duration(i+1) * 5 * time.Millisecond}
			}
			if slow > 0 && i+1 >= slow {
				r.RTT += 300 * time.Millisecond
			}
			switch round[i] {
			case 'T':
				r.Outcome = evidence.Answered
			case '!':
				r = evidence.Reply{Outcome: evidence.Unreachable, Why: evidence.Prohibited, From: netip.MustParseAddr(names['b']),
					RTT: time.Millisecond}
			}
			t.Add(path.Seen{HopLimit: i + 1, Round: n, At: time.Duration(n) * time.Second, Reply: r})
		}
	}
	return t
}

func repeat(n int, rounds ...string) (out []string) {
	for i := range n {
		out = append(out, rounds[i%len(rounds)])
	}
	return out
}

func TestRemarks(t *testing.T) {
	for _, c := range []struct {
		name   string
		track  *path.Track
		reach  bool
		states string // of each place: "." silent, "a" answers, "!" refuses, "T" destination
		want   []string
	}{
		{"healthy", track(0, "gabcT"), true, "aaaaT", nil},
		{"beyond the destination it answers for every hop limit", track(0, "gabcTTTT"), true, "aaaaT", nil},
		{"a silent hop", track(0, "ga.cT"), true, "aa.aT", []string{"3 hop-silent"}},
		{"ends early", track(0, "gab...."), false, "aaa", []string{"3 path-ends"}},
		{"prohibited", track(0, "ga!"), false, "aa!", []string{"3 refused"}},
		{"a loop", track(0, "gabababab"), false, "aaaaaaaaa", []string{"4 routing-loop", "9 path-ends"}},
		{"two private routers", track(0, "gpaT"), true, "aaaT", []string{"2 extra-router"}},
		{"a step that stays", track(3, "gabcT"), true, "aaaaT", []string{"3 path-slow"}},
		{"a hop that rations", track(0, repeat(30, "gabcT", "ga.cT", "ga.cT")...), true, "aaaaT", []string{"3 rate-limited-hop"}},
		{"loss that stays", track(0, repeat(30, "gabcT", "gabcT", "ga...")...), true, "aaaaT", []string{"3 path-lossy"}},
		{"load is shared", track(0, repeat(4, "gabcT", "gadcT")...), true, "aaaaT", []string{"3 branches"}},
		{"nothing", track(0), false, "", nil},
	} {
		places := c.track.Places(-1)
		states := ""
		for _, p := range places {
			states += [...]string{".", "a", "!", "T"}[p.State]
		}
		assert.Equal(t, c.states, states, c.name)
		assert.Equal(t, c.reach, c.track.Reached(), c.name)
		var got []string
		for _, r := range path.Remarks(places, c.track.Reached()) {
			got = append(got, fmt.Sprintf("%d %s", r.HopLimit, r.ID))
			assert.NotEmpty(t, r.Words)
		}
		assert.Equal(t, c.want, got, c.name)
	}
}

func TestStretches(t *testing.T) {
	s := path.Stretches(track(0, repeat(40, "gpa.cT", "gpa...")...).Places(-1))
	var got []string
	for _, x := range s {
		got = append(got, fmt.Sprintf("%s %d +%v %.2f", x.Segment, len(x.Places), x.Adds, x.Through))
	}
	assert.Equal(t, []string{"local-subnet 1 +5ms 1.00", "private 1 +5ms 1.00", "provider 3 +15ms 0.50", "destination 1 +5ms 0.50"}, got)
	assert.Equal(t, 1, path.PrivateRouters(track(0, "gpaT").Places(-1)))
	assert.Empty(t, path.Stretches(nil))
}

func TestChangesAreKept(t *testing.T) {
	tr := track(0, "gabcT", "gabcT", "gadcT", "ga.cT", "gadcT")
	kept := tr.Clone()
	assert.Equal(t,
		[]path.Change{{At: 2 * time.Second, HopLimit: 3, Was: netip.MustParseAddr(names['b']), Is: netip.MustParseAddr(names['d'])}},
		tr.Changes())
	tr.Add(path.Seen{HopLimit: 3, Round: 5, Reply: evidence.Reply{Outcome: evidence.Expired, From: netip.MustParseAddr(names['b'])}})
	assert.Len(t, tr.Changes(), 2)
	assert.Len(t, kept.Changes(), 1, "a copy stays as it was")
	assert.Equal(t, 5, kept.Rounds())
}

func TestMemoryOfAWatchedPathIsBounded(t *testing.T) {
	tr := track(0, repeat(2000, "gaT")...)
	for _, p := range tr.Places(-1) {
		assert.LessOrEqual(t, p.Sent, 900, "a quarter of an hour at one round a second")
	}
	assert.Equal(t, 2000, tr.Rounds())
}

func TestCompare(t *testing.T) {
	marks := ""
	for _, p := range path.Compare(track(0, "gab.T").Places(-1), track(0, "gad.cT").Places(-1)) {
		marks += map[bool]string{true: "≠", false: "="}[p.Differ]
	}
	assert.Equal(t, "==≠=≠≠", marks)
}

// The bound against a table of the Wilson interval.
func TestLossy(t *testing.T) {
	for _, c := range []struct {
		lost, sent int
		want       bool
	}{{0, 20, false}, {2, 20, false}, {3, 20, true}, {19, 19, false}, {4, 60, false}, {5, 60, true}, {0, 0, false}} {
		assert.Equal(t, c.want, path.Lossy(c.lost, c.sent), "%d of %d", c.lost, c.sent)
	}
	assert.InDelta(t, .0523, path.WilsonLow(3, 20), .0005)
	assert.Equal(t, series.Spread{}, series.SpreadOf(nil))
}
