package report_test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/blame"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/path"
	"passepartout/internal/core/series"
	"passepartout/internal/core/target"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
	"passepartout/internal/probe/watch"
	"passepartout/internal/report"
)

// watched is a watch of two witnesses, of which the far one lost two probes.
func watched() report.Times {
	var subjects []*watch.Subject
	for i, name := range []string{"172.27.40.1", "203.0.113.80"} {
		r := series.New(100)
		for n := range 30 {
			number := r.Sent(time.Duration(n) * time.Second)
			if i == 1 && (n == 10 || n == 11) {
				r.End(number, series.Silent, 0)
				continue
			}
			r.End(number, series.Replied, time.Duration(1+20*i)*time.Millisecond)
		}
		subjects = append(subjects,
			&watch.Subject{
				Spec: watch.Spec{Target: must(target.Parse(name)), Label: []string{"pier-gw", "bookings\x1b[2J"}[i],
					Zone: []zone.Zone{zone.LocalSubnet, zone.Beyond}[i], Rank: i + 2, Method: watch.Echo},
				Address: must(target.Parse(name)).Addr, Record: r})
	}
	l := blame.NewLedger(time.Second)
	l.Update([]blame.Witness{{Name: "pier-gw", Zone: zone.LocalSubnet, Rank: 2, Record: subjects[0].Record},
		{Name: "bookings", Zone: zone.Beyond, Rank: 3, Record: subjects[1].Record}}, nil, 30*time.Second)
	return report.TimesOf(at, 30*time.Second, subjects, l)
}

func TestWatchAsDataAndDrawing(t *testing.T) {
	x := watched()
	require.Len(t, x.Outages, 1)
	assert.Equal(t, "09:14:13  2.0 s  beyond: pier-gw answered throughout; bookings did not", x.OutageLine(x.Outages[0]))

	var b bytes.Buffer
	require.NoError(t, x.WriteCSV(&b))
	rows, err := csv.NewReader(&b).ReadAll()
	require.NoError(t, err)
	assert.Len(t, rows, 1+60)
	lost := 0
	for _, r := range rows[1:] {
		if r[6] == "timeout" {
			lost++
			assert.Equal(t, "", r[7], "nothing came, so there is no time")
		}
	}
	assert.Equal(t, 2, lost)

	b.Reset()
	require.NoError(t, x.WriteJSONL(&b))
	lines := strings.Split(strings.TrimSpace(b.String()), "\n")
	assert.Len(t, lines, 61)
	var last struct {
		Schema string
		Outage struct {
			Zone    string
			Seconds float64
			Lost    int
		}
	}
	require.NoError(t, json.Unmarshal([]byte(lines[60]), &last))
	assert.Equal(t, "passepartout.watch/1", last.Schema)
	assert.Equal(t, "beyond", last.Outage.Zone)
	assert.Equal(t, 2, last.Outage.Lost)

	b.Reset()
	require.NoError(t, x.Page("ticket-03").Write(&b, "svg"))
	for _, want := range []string{"from ticket-03", "pier-gw 172.27.40.1", "2 of 30 lost", "whose loss",
		"pier-gw answered throughout; bookings did not"} {
		assert.Contains(t, b.String(), want)
	}
	assert.NotContains(t, b.String(), "\x1b")
}

func TestPagesOfPathAndVerdict(t *testing.T) {
	track := &path.Track{To: Bookings, Method: "tcp"}
	for _, h := range Path(Bookings, Gateway, Edge, Provider) {
		track.Add(path.Seen{HopLimit: h.HopLimit, Reply: h.Reply})
	}
	var b bytes.Buffer
	require.NoError(t, report.NewTrace("bookings.kittiwake.example", track, 1, nil, time.Second).Page("ticket-03", at).Write(&b, "svg"))
	for _, want := range []string{"Path to bookings.kittiwake.example 203.0.113.80", "198.51.100.9",
		"ends here: nothing behind it answers"} {
		assert.Contains(t, b.String(), want)
	}
	s := Healthy()
	GatewayGone(s)
	b.Reset()
	require.NoError(t, report.CheckPage(s, verdict.Judge(s), at).Write(&b, "svg"))
	for _, want := range []string{"Can ticket-03 reach it?", "LOCAL SUBNET", "The gateway 172.27.40.1 does not answer", "Next: "} {
		assert.Contains(t, b.String(), want)
	}
}

func TestSaveByEnding(t *testing.T) {
	dir := t.TempDir()
	e := watched().Export("ticket-03")
	assert.Equal(t, []string{".svg", ".pdf", ".csv", ".jsonl"}, e.Endings())
	for name, begins := range map[string]string{"a.svg": "<?xml", "a.PDF": "%PDF", "a.csv": "target,", "a.jsonl": `{"schema"`} {
		file := filepath.Join(dir, name)
		require.NoError(t, e.Save(file))
		raw, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.True(t, strings.HasPrefix(string(raw), begins), name)
	}
	assert.ErrorContains(t, e.Save(filepath.Join(dir, "a.doc")), "let the name end in .svg, .pdf, .csv, .jsonl")
	if _, err := os.Stat("/dev/full"); err == nil { // a disk that is full
		err := e.Save("/dev/full/a.csv")
		require.Error(t, err)
		assert.Contains(t, err.Error(), "was not written")
	}
}

func TestLasting(t *testing.T) {
	for d, want := range map[time.Duration]string{1500 * time.Millisecond: "1.5 s", 42 * time.Second: "42 s", 125 * time.Second: "2m5s"} {
		assert.Equal(t, want, wording.Lasting(d))
	}
}
