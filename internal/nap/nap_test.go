package nap

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// Waits count by the time that they are part of: one of 60 ms in a second is little, one of half a second is much.
func TestUsual(t *testing.T) {
	for _, c := range []struct {
		name         string
		each, last   time.Duration // how late each of the turns before was, and for how long the present one is awaited
		turns        int
		least, most  time.Duration
		worst, total time.Duration
	}{
		{"on time", 0, 10 * time.Millisecond, 99, 0, time.Millisecond, 0, 0},
		{"once 60 ms", 0, 70 * time.Millisecond, 93, 4 * time.Millisecond, 6 * time.Millisecond, 60 * time.Millisecond, 0},
		{"once half a second", 0, 510 * time.Millisecond, 49, 240 * time.Millisecond, 260 * time.Millisecond, 500 * time.Millisecond,
			500 * time.Millisecond},
		{"each time 30 ms", 30 * time.Millisecond, 40 * time.Millisecond, 24, 29 * time.Millisecond, 31 * time.Millisecond,
			30 * time.Millisecond, 0},
	} {
		const pace = 10 * time.Millisecond
		m := &Meter{pace: pace}
		before := time.Duration(c.turns) * (pace + c.each)
		m.last.Store(int64(before))
		m.worst.Store(int64(c.each))
		m.waited.Store(int64(c.turns) * c.each.Microseconds() * (c.each + pace).Microseconds())
		m.began = time.Now().Add(-before - c.last)
		usual := m.Usual()
		assert.True(t, usual >= c.least && usual <= c.most, "%s: %v", c.name, usual)
		assert.InDelta(t, c.worst, m.Worst(), float64(5*time.Millisecond), c.name)
		if c.total > 0 {
			assert.GreaterOrEqual(t, m.Total(), c.total-time.Millisecond, c.name)
		}
	}
}
