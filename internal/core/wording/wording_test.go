package wording_test

import (
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/wording"
)

func TestWording(t *testing.T) {
	many := slices.Repeat([]netip.Addr{netip.MustParseAddr("172.27.40.2"), netip.MustParseAddr("203.0.113.53")}, 4)
	at := time.Date(2026, 11, 23, 9, 4, 7, 999, time.FixedZone("", 3600))
	for want, got := range map[string]string{
		"0.40 ms": wording.Millis(400 * time.Microsecond), "47 µs": wording.Millis(47 * time.Microsecond), "1 µs": wording.Millis(80), "0.00 ms": wording.Millis(0),
		"21 ms":    wording.Millis(20900 * time.Microsecond),
		"1.6 s":    wording.Millis(1600 * time.Millisecond),
		"4.0 s":    wording.Lasting(4 * time.Second),
		"50 s":     wording.Lasting(50 * time.Second),
		"1h2m3s":   wording.Lasting(time.Hour + 2*time.Minute + 3*time.Second + time.Millisecond),
		"30 hours": wording.Days(30 * time.Hour), "30 days": wording.Days(30 * 24 * time.Hour),
		"2.0 years": wording.Days(731 * 24 * time.Hour),
		"1 hop":     wording.Plural(1, "hop", "hops"), "0 hops": wording.Plural(0, "hop", "hops"),
		"09:04:07":    wording.Clock(at),
		"172.27.40.2": wording.List(many[:1]), "": wording.List(nil),
		"172.27.40.2, 203.0.113.53, 172.27.40.2, 203.0.113.53, 172.27.40.2, 203.0.113.53, and 2 more": wording.List(many),
	} {
		assert.Equal(t, want, got)
	}
}
