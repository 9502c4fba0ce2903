package blame_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/blame"
	"passepartout/internal/core/series"
	"passepartout/internal/core/zone"
)

const step = time.Second

// witness is drawn: one letter a second. "." all answered, "x" one of five lost, "X" all lost, "l" one late, "n" not sent, "-" not probed,
// "u" under way.
func witness(name string, z zone.Zone, rank int, drawn string) blame.Witness {
	r := series.New(10_000)
	for second, letter := range drawn {
		for i := range 5 {
			if letter == '-' {
				break
			}
			n := r.Sent(time.Duration(second)*time.Second + time.Duration(i)*200*time.Millisecond)
			fate := series.Replied
			switch {
			case letter == 'X' || letter == 'x' && i == 2:
				fate = series.Silent
			case letter == 'l' && i == 2:
				fate = series.Late
			case letter == 'n':
				fate = series.NotSent
			case letter == 'u':
				continue
			}
			r.End(n, fate, time.Millisecond)
		}
	}
	return blame.Witness{Name: name, Zone: z, Rank: rank, Record: r}
}

func TestAttribution(t *testing.T) {
	for _, c := range []struct {
		name                      string
		loopback, gateway, router string
		target                    string
		spans                     []blame.Span
		want                      string // one letter a second: "." fine, "h", "s" (local subnet), "b", "?" unknown
	}{
		{"all well", "....", "....", "....", "....", nil, "...."},
		{"the gateway too", "....", ".xX.", ".XX.", ".xX.", nil, ".ss."},
		{"only beyond", "....", "....", ".XX.", ".XX.", nil, ".bb."},
		{"only the target", "....", "....", "....", ".xl.", nil, ".bb."},
		{"zones alternate", ".....", ".X...", ".X.X.", ".X.X.", nil, ".s.b."},
		{"a router that rations its answers", "....", "....", ".xX.", "....", nil, "...."},
		{"the gateway alone is the local subnet's", "....", ".x..", "....", "....", nil, ".s.."},
		{"but not when it is the gateway's habit", "..............", ".xxxxxxxxxxxxx", "..............", "..............", nil,
			".sssssssss...."},
		{"a gateway that never answers is no witness", "....", "XXXX", "....", ".X..", nil, ".b.."},
		{"not sent", "....", ".n..", ".n..", ".n..", nil, ".h.."},
		{"no signal at the port", "....", ".X..", ".X..", ".X..",
			[]blame.Span{{From: 1100 * time.Millisecond, To: 1900 * time.Millisecond, Why: "eth0 had no signal"}}, ".h.."},
		{"under way when the signal went, and before switches learned the port again", "......", ".xX.x.", ".xXXx.", ".xXXx.",
			[]blame.Span{{From: 2 * time.Second, To: 4 * time.Second, Why: "eth0 had no signal"}}, ".hhhh."},
		{"long after a signal was lost", "......", "X....X", "X....X", "X....X",
			[]blame.Span{{From: 2500 * time.Millisecond, To: 3 * time.Second, Why: "eth0 had no signal"}}, "s....s"},
		{"a signal lost and nothing with it", "....", "....", "....", "....", []blame.Span{{From: time.Second, To: 2 * time.Second}},
			"...."},
		{"the machine slept", ".--.", ".-X.", ".-X.", ".-X.", []blame.Span{{From: time.Second, To: 2500 * time.Millisecond, Asleep: true}},
			".??."},
		{"late counts, nearest first", "....", ".l..", "....", ".X..", nil, ".s.."},
	} {
		l := blame.NewLedger(step)
		l.Update([]blame.Witness{
			witness("bookings", zone.Beyond, 3, c.target), witness("loopback", zone.Host, 0, c.loopback),
			witness("sound-edge", zone.Beyond, 2, c.router), witness("pier-gw", zone.LocalSubnet, 1, c.gateway),
		}, c.spans, time.Duration(len(c.want))*step+step/2)
		got := ""
		for i := range c.want {
			in := l.At(time.Duration(i) * step)
			switch {
			case in.State == blame.Unknown:
				got += "?"
			case in.State == blame.Fine:
				got += "."
			default:
				got += map[zone.Zone]string{zone.Host: "h", zone.LocalSubnet: "s", zone.Beyond: "b"}[in.Zone]
			}
		}
		assert.Equal(t, c.want, got, c.name)
	}
}

func TestOutages(t *testing.T) {
	l := blame.NewLedger(step)
	ws := []blame.Witness{
		witness("loopback", zone.Host, 0, "................"), witness("pier-gw", zone.LocalSubnet, 1, "..XX............"),
		witness("sound-edge", zone.Beyond, 2, "..XX....XXXXX..."), witness("bookings", zone.Beyond, 3, "..XX....xXXXX..."),
	}
	for upTo := range 17 { // in pieces, as it is called while it runs
		l.Update(ws, nil, time.Duration(upTo)*step)
	}
	assert.Equal(t, []blame.Outage{
		{From: 2 * step, To: 3800*time.Millisecond + step, Zone: zone.LocalSubnet, Lost: 30,
			Failing: []string{"pier-gw", "sound-edge", "bookings"}, Fine: []string{"loopback"}},
		{From: 8 * step, To: 12800*time.Millisecond + step, Zone: zone.Beyond, Lost: 46, Failing: []string{"sound-edge", "bookings"},
			Fine: []string{"loopback", "pier-gw"}},
	}, l.Outages())
	assert.Equal(t, "loopback and pier-gw answered throughout; sound-edge and bookings did not", l.Outages()[1].Evidence())
	assert.Equal(t, blame.Interval{}, l.At(time.Hour), "not yet")
	l.Reset(8 * step)
	l.Update(ws, nil, 16*step)
	assert.Len(t, l.Outages(), 1, "what was forgotten does not come back")
}

func TestEvidenceInWords(t *testing.T) {
	for want, o := range map[string]blame.Outage{
		"eth0 had no signal":                    {Zone: zone.Host, Cause: "eth0 had no signal"},
		"this machine did not send, or its own": {Zone: zone.Host},
		"pier-gw did not answer":                {Zone: zone.LocalSubnet, Failing: []string{"pier-gw"}},
	} {
		assert.Contains(t, o.Evidence(), want)
	}
}
