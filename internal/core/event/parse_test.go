package event

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/series"
	"passepartout/internal/core/zone"
)

// However a line is read, it is the same event, and what is no event is refused either way.
func TestParse(t *testing.T) {
	at := time.Date(2026, 11, 23, 9, 14, 3, 120_000_000, time.FixedZone("", 3600))
	var lines []string
	for _, b := range []Body{
		Probed{Witness: "172.27.40.1", Sent: at, Fate: series.Replied, RTT: 1234567},
		Probed{Witness: "bookings.kittiwake.example:443", Sent: at.UTC(), Fate: series.Silent},
		Probed{Witness: `a "quoted" \ name`, Sent: at, Fate: series.NotSent},
		Outage{Zone: zone.Beyond, From: at, Evidence: "203.0.113.80 keeps silent"},
		Stopped{Because: `{"at":"`},
	} {
		raw, err := json.Marshal(Event{At: at, Body: b})
		require.NoError(t, err)
		lines = append(lines, string(raw))
	}
	_, quick := parseProbed([]byte(lines[0]))
	assert.True(t, quick)
	for _, c := range [][2]string{{`,"RTT":1234567`, ``}, {`,"RTT"`, `, "RTT"`}, {`"Replied"`, `"gone"`}, {`replied`, `gone`},
		{`1234567}}`, `1234567}`}, {`1234567`, `12e5`}, {`1234567`, `-1`}, {`"Sent":"2026`, `"Sent":"26`}, {`"Witness"`, `"witness"`},
		{`172.27.40.1`, `\u0031`}, {`}}`, `},"x":1}`},
		{`,"RTT":1234567`, `,"RTT":1234567,"RTT":7`}, {`{"at"`, `{"round":3,"at"`}} {
		if changed := strings.Replace(lines[0], c[0], c[1], 1); changed != lines[0] {
			lines = append(lines, changed)
		}
	}
	assert.Greater(t, len(lines), 14)
	for i := range lines[0] {
		lines = append(lines, lines[0][:i])
	}
	for _, line := range lines {
		var want Event
		wrong := json.Unmarshal([]byte(line), &want)
		got, err := Parse([]byte(line))
		assert.Equal(t, wrong == nil, err == nil, "%s: %v, %v", line, wrong, err)
		if err == nil && wrong == nil {
			assert.True(t, want.At.Equal(got.At), line)
			assert.Equal(t, text(t, want), text(t, got), line)
		}
	}
}

func text(t *testing.T, e Event) string {
	raw, err := json.Marshal(e)
	require.NoError(t, err)
	return string(raw)
}
