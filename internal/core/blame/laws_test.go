package blame_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"passepartout/internal/core/blame"
	"passepartout/internal/core/series"
	"passepartout/internal/core/zone"
)

var stations = []struct {
	name string
	zone zone.Zone
}{{"loopback", zone.Host}, {"gateway", zone.LocalSubnet}, {"router", zone.Beyond}, {"target", zone.Beyond}}

// drawn makes witnesses whose seconds fail at random; each has answered once before.
func drawn(t *rapid.T, seconds int) (ws []blame.Witness, bad [][]bool) {
	for i, s := range stations {
		r := series.New(10_000)
		lost := make([]bool, seconds)
		for n := range seconds {
			number := r.Sent(time.Duration(n) * time.Second)
			fate := series.Replied
			if lost[n] = n > 0 && rapid.IntRange(0, 3).Draw(t, "bad") == 0; lost[n] {
				fate = rapid.SampledFrom([]series.Fate{series.Silent, series.Late, series.Unreachable}).Draw(t, "fate")
			}
			r.End(number, fate, time.Millisecond)
		}
		ws, bad = append(ws, blame.Witness{Name: s.name, Zone: s.zone, Rank: i + 1, Record: r}), append(bad, lost)
	}
	return ws, bad
}

// Whatever fails when: an interval is laid to a zone only if a witness of that zone failed in it, and to none farther away than the nearest
// one that failed together with all behind it; where nobody failed, nobody is blamed; and the order of the witnesses does not matter.
func TestLawsOfBlame(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		const seconds = 40
		ws, bad := drawn(t, seconds)
		l := blame.NewLedger(time.Second)
		l.Update(ws, nil, seconds*time.Second)
		shuffled := blame.NewLedger(time.Second)
		for upTo := range seconds + 1 { // in small steps, and from the far end
			shuffled.Update([]blame.Witness{ws[3], ws[1], ws[0], ws[2]}, nil, time.Duration(upTo)*time.Second)
		}
		failing := 0
		for n := range seconds {
			in := l.At(time.Duration(n) * time.Second)
			assert.Equal(t, in, shuffled.At(time.Duration(n)*time.Second))
			any, inZone, nearest := false, false, zone.Unknown
			for i := range stations {
				if !bad[i][n] {
					continue
				}
				any = true
				inZone = inZone || stations[i].zone == in.Zone
				behind := true
				for j := i + 1; j < len(stations); j++ {
					behind = behind && bad[j][n]
				}
				if behind && nearest == zone.Unknown {
					nearest = stations[i].zone
				}
			}
			switch {
			case !any:
				assert.Equal(t, blame.Fine, in.State)
			case in.State == blame.Failing:
				failing++
				assert.True(t, inZone, "second %d", n)
				if nearest != zone.Unknown {
					assert.LessOrEqual(t, in.Zone, nearest, "second %d", n)
				}
			default: // only what is the habit of one that keeps to a ration may be passed over
				assert.False(t, bad[3][n], "the target itself failed in second %d", n)
			}
		}
		covered := time.Duration(0)
		for i, o := range l.Outages() {
			covered += o.Length()
			assert.Positive(t, o.Lost)
			assert.NotEmpty(t, o.Evidence())
			if i > 0 {
				assert.GreaterOrEqual(t, o.From, l.Outages()[i-1].From, "in order of time")
			}
		}
		assert.GreaterOrEqual(t, covered, time.Duration(failing)*time.Second/2)
	})
}

// Days of it: what is kept stays bounded, and the newest is what is kept.
func TestLedgerIsBounded(t *testing.T) {
	r := series.New(1000)
	l := blame.NewLedger(time.Second)
	const days = 3 * 24 * 3600
	for n := range days {
		number := r.Sent(time.Duration(n) * time.Second)
		fate := series.Replied
		if n%20 == 7 {
			fate = series.Silent
		}
		r.End(number, fate, time.Millisecond)
		if n%500 == 499 {
			l.Update([]blame.Witness{{Name: "gateway", Zone: zone.LocalSubnet, Rank: 1, Record: r}}, nil, time.Duration(n+1)*time.Second)
		}
	}
	assert.LessOrEqual(t, len(l.Outages()), 5000)
	assert.Equal(t, blame.Interval{}, l.At(time.Hour), "long ago")
	assert.Equal(t, blame.Fine, l.At((days-600)*time.Second).State)
	last := l.Outages()[len(l.Outages())-1]
	assert.Greater(t, last.From, (days-600)*time.Second)
}
