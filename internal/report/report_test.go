package report_test

import (
	"encoding/csv"
	"encoding/json"
	"errors"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/path"
	"passepartout/internal/core/series"
	"passepartout/internal/core/target"
	"passepartout/internal/core/verdict"
	"passepartout/internal/probe/watch"
	"passepartout/internal/report"
)

var at = time.Date(2026, 11, 23, 9, 14, 3, 250_400_000, time.UTC)

// object decodes one JSON object and checks that no list in it is null.
func object(t *testing.T, text string) map[string]any {
	var out map[string]any
	require.NoError(t, json.Unmarshal([]byte(text), &out), text)
	noNull(t, "", out)
	return out
}

func noNull(t *testing.T, where string, v any) {
	switch v := v.(type) {
	case nil:
		t.Errorf("%s is null", where)
	case map[string]any:
		for k, x := range v {
			noNull(t, where+"."+k, x)
		}
	case []any:
		for _, x := range v {
			noNull(t, where+"[]", x)
		}
	}
}

func keys(v any) (out []string) {
	for k := range v.(map[string]any) {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

func TestCheckJSON(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(*evidence.Set)
		zone   string
		fault  string
	}{
		{"healthy", func(*evidence.Set) {}, "none", ""},
		{"faulty", GatewayGone, "local-subnet", "gateway-silent"},
		{"withheld", WithoutFrames, "none", ""},
		{"nothing known", func(s *evidence.Set) { *s = evidence.Set{} }, "undetermined", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := Healthy()
			c.change(s)
			var b strings.Builder
			require.NoError(t, report.CheckJSON(&b, at, s, verdict.Judge(s)))
			out := object(t, b.String())
			assert.Equal(t, "passepartout.check/1", out["schema"])
			assert.Subset(t, keys(out),
				[]string{"schema", "at", "took_ms", "target", "interface", "verdict", "checks", "suspects", "withheld"})
			v := out["verdict"].(map[string]any)
			assert.Subset(t, keys(v), []string{"zone", "fault", "confidence", "sentence", "also", "candidates", "next"}, "always present")
			assert.Equal(t, c.zone, v["zone"])
			assert.Equal(t, c.fault, v["fault"])
			assert.Contains(t, []any{"certain", "likely", "possible"}, v["confidence"])
			for _, check := range out["checks"].([]any) {
				assert.Subset(t, keys(check), []string{"id", "zone", "state", "fact", "took_ms"})
			}
			for _, suspect := range out["suspects"].([]any) {
				assert.Subset(t, keys(suspect), []string{"fault", "zone", "standing", "for", "against"})
				assert.Contains(t, []any{"confirmed", "supported", "possible", "cleared"}, suspect.(map[string]any)["standing"])
			}
			if c.name == "healthy" {
				assert.Equal(t, "2026-11-23T09:14:03.25Z", out["at"])
				assert.EqualValues(t, 80, out["took_ms"])
				assert.Equal(t, "bookings.kittiwake.example:443", out["target"])
				first := out["checks"].([]any)[1].(map[string]any)
				assert.Equal(t, "link", first["id"])
				assert.Equal(t, "host", first["zone"])
			}
			if c.name == "withheld" {
				assert.Len(t, out["withheld"], 3)
				assert.Equal(t, "dhcp-offer", out["withheld"].([]any)[0].(map[string]any)["evidence"])
				assert.Equal(t, "likely", v["confidence"])
			}
		})
	}
}

func TestCheckText(t *testing.T) {
	s := Healthy()
	GatewayGone(s)
	WithoutFrames(s)
	var b strings.Builder
	require.NoError(t, report.CheckText(&b, s, verdict.Judge(s)))
	for _, want := range []string{"The fault lies in the LOCAL SUBNET.", "The gateway 172.27.40.1 does not answer", "━╳ broken    gateway",
		"Not asked", "dhcp-offer: needs permission", "Next"} {
		assert.Contains(t, b.String(), want)
	}
	b.Reset()
	require.NoError(t, report.CheckText(&b, Healthy(), verdict.Judge(Healthy())))
	assert.True(t, strings.HasPrefix(b.String(), "No fault stands in the way.  (certain)\n"), b.String())
}

func TestPing(t *testing.T) {
	bookings := &watch.Subject{Spec: watch.Spec{Target: must(target.Parse("bookings.kittiwake.example")), Size: 48}, Address: Bookings}
	for _, p := range []struct {
		fate    series.Fate
		again   bool
		reply   evidence.Reply
		outcome string
		fields  []string
		text    string
	}{
		{series.Replied, false, Answer(Bookings, 20.4127), "reply", []string{"from", "rtt_us", "hop_limit_left"}, "reply        20 ms"},
		{series.Silent, false, Silence(), "timeout", nil, "no answer    after 1.6 s"},
		{series.Unreachable, false, Said(Gateway, evidence.NoNet, 1), "unreachable", []string{"from", "icmp_type", "icmp_code", "reason"},
			"172.27.40.1 says: no way to that network"},
		{series.NotSent, false, evidence.Reply{Outcome: evidence.LocalError, Reason: "this machine knows no way there"}, "local-error",
			[]string{"reason"}, "not sent     this machine knows no way there"},
		{series.Unreachable, false, evidence.Reply{Outcome: evidence.Expired, From: Edge, ICMPType: 11}, "unreachable", []string{"reason"},
			"hop limit ran out"},
		{series.Late, false, Answer(Bookings, 900), "late", []string{"rtt_us"}, "late"},
		{series.Replied, true, Answer(Bookings, 20.4), "duplicate", []string{"rtt_us"}, "duplicate"},
	} {
		r := watch.Result{Number: 3, SentAt: at, Method: "icmp", Fate: p.fate, Again: p.again, Reply: p.reply}
		var b strings.Builder
		require.NoError(t, report.Ping{W: &b, Format: "json"}.Probe(bookings, r))
		assert.Equal(t, 1, strings.Count(b.String(), "\n"), "one line a probe")
		out := object(t, b.String())
		assert.Equal(t, p.outcome, out["outcome"])
		assert.Subset(t, keys(out),
			append([]string{"schema", "target", "address", "method", "seq", "sent_at", "outcome", "payload_bytes"}, p.fields...))
		b.Reset()
		require.NoError(t, report.Ping{W: &b, Format: "text", Many: true}.Probe(bookings, r))
		assert.Contains(t, b.String(), p.text)
		assert.Contains(t, b.String(), "bookings")
		b.Reset()
		o := report.Ping{W: &b, Format: "csv"}
		require.NoError(t, errors.Join(o.Head(), o.Probe(bookings, r)))
		rows, err := csv.NewReader(strings.NewReader(b.String())).ReadAll()
		require.NoError(t, err)
		assert.Equal(t, p.outcome, rows[1][slices.Index(rows[0], "outcome")])
	}

	record := series.New(10)
	for i, ms := range []int{20, 0, 21, 22} {
		n := record.Sent(time.Duration(i) * time.Second)
		if record.End(n, series.Replied, time.Duration(ms)*time.Millisecond); ms == 0 {
			record.End(n, series.Silent, 0)
		}
	}
	var b strings.Builder
	require.NoError(t, report.Ping{W: &b, Format: "json"}.Summary("bookings.kittiwake.example", Bookings, record.Summary()))
	summary := object(t, b.String())["summary"].(map[string]any)
	assert.EqualValues(t, 3, summary["received"])
	assert.EqualValues(t, 4, summary["sent"])
	assert.Equal(t, []any{1.0}, summary["loss_runs"])
	assert.EqualValues(t, 21000, summary["rtt_us"].(map[string]any)["p50"])
	assert.EqualValues(t, 1000, summary["ipdv_us"].(map[string]any)["p50"])
	b.Reset()
	require.NoError(t, report.Ping{W: &b, Format: "json"}.Summary("", netip.Addr{}, series.Summary{}))
	object(t, b.String())
	assert.Equal(t, "3 of 4 came back · lost in runs of 1 · half within 21 ms · most between 20 ms and 22 ms · from one to the next "+
		"mostly within 1.00 ms", report.SummaryLine("", false, record.Summary()))
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

func TestTrace(t *testing.T) {
	onLink := func(a netip.Addr) bool { return a == Gateway }
	names := map[netip.Addr]string{Gateway: "pier-gw.kittiwake.example"}
	silent := netip.Addr{}
	for _, c := range []struct {
		name    string
		hops    []evidence.Hop
		reached bool
		states  string
		text    []string
	}{
		{"reached", slices.Concat(Path(Bookings, Gateway, silent, Provider, Bookings), Path(Bookings, silent, silent)), true,
			"answers silent answers destination",
			[]string{"this subnet", "pier-gw.kittiwake.example 172.27.40.1", "keeps silent: harmless, later ones answer",
				"The destination was reached"}},
		{"ends", Path(Bookings, Gateway, Edge, silent, silent), false, "answers answers",
			[]string{"provider", "nothing answers after station 2"}},
		{"refused on the way", []evidence.Hop{{To: Bookings, Method: "tcp", HopLimit: 1, Reply: Said(Gateway, evidence.Prohibited, 1)}},
			false, "refused", []string{"says: administratively prohibited"}},
		{"nothing", nil, false, "", []string{"The destination was not reached"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			track := &path.Track{To: Bookings, Method: "icmp", OnLink: onLink}
			for _, h := range c.hops {
				track.Add(path.Seen{HopLimit: h.HopLimit, Reply: h.Reply})
			}
			trace := report.NewTrace("bookings.kittiwake.example", track, 1, names, time.Second)
			assert.Equal(t, c.reached, trace.Reached)
			var states []string
			for _, h := range trace.Hops {
				states = append(states, h.State)
			}
			assert.Equal(t, c.states, strings.Join(states, " "))
			var b strings.Builder
			require.NoError(t, trace.WriteJSON(&b))
			out := object(t, b.String())
			assert.Equal(t, "passepartout.trace/1", out["schema"])
			assert.Equal(t, []string{"address", "changes", "flows", "hops", "method", "reached", "remarks", "rounds", "schema", "target"},
				keys(out))
			for _, h := range out["hops"].([]any) {
				assert.Equal(t, []string{"answers", "received", "segment", "sent", "state", "ttl"}, keys(h))
			}
			b.Reset()
			require.NoError(t, trace.WriteText(&b))
			for _, want := range c.text {
				assert.Contains(t, b.String(), want)
			}
		})
	}
}
