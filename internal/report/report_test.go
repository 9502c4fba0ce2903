package report_test

import (
	"encoding/json"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/rtt"
	"passepartout/internal/core/verdict"
	"passepartout/internal/probe"
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
			assert.Subset(t, keys(out), []string{"schema", "at", "took_ms", "target", "interface", "verdict", "checks", "suspects", "withheld"})
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
	for _, want := range []string{"The fault lies in the LOCAL SUBNET.", "The gateway 172.27.40.1 does not answer", "━╳ broken    gateway", "Not asked", "dhcp-offer: needs permission", "Next"} {
		assert.Contains(t, b.String(), want)
	}
	b.Reset()
	require.NoError(t, report.CheckText(&b, Healthy(), verdict.Judge(Healthy())))
	assert.True(t, strings.HasPrefix(b.String(), "No fault stands in the way.  (certain)\n"), b.String())
}

func TestPing(t *testing.T) {
	one := func(seq int, r evidence.Reply) probe.Probe {
		return probe.Probe{Seq: seq, SentAt: at, Echo: evidence.Echo{Asked: Bookings, Method: "icmp", Size: 48, Reply: r}}
	}
	late := one(4, Answer(Bookings, 900))
	late.Late = true
	again := one(0, Answer(Bookings, 20.4))
	again.Again = true
	probes := []struct {
		probe.Probe
		outcome string
		fields  []string
		text    string
	}{
		{one(0, Answer(Bookings, 20.4127)), "reply", []string{"from", "rtt_us", "hop_limit_left"}, "reply        20 ms"},
		{one(1, Silence()), "timeout", nil, "no answer    after 1.6 s"},
		{one(2, Said(Gateway, evidence.NoNet, 1)), "unreachable", []string{"from", "icmp_type", "icmp_code", "reason"}, "172.27.40.1 says: no way to that network"},
		{one(3, evidence.Reply{Outcome: evidence.LocalError, Reason: "this machine knows no way there"}), "local-error", []string{"reason"}, "not sent     this machine knows no way there"},
		{one(5, evidence.Reply{Outcome: evidence.Expired, From: Edge, ICMPType: 11}), "unreachable", []string{"reason"}, "hop limit ran out"},
		{late, "late", []string{"rtt_us"}, "late"},
		{again, "duplicate", []string{"rtt_us"}, "duplicate"},
	}
	for _, p := range probes {
		var b strings.Builder
		o := report.Ping{W: &b, JSON: true, Target: "bookings.kittiwake.example", Address: Bookings}
		require.NoError(t, o.Probe(p.Probe))
		assert.Equal(t, 1, strings.Count(b.String(), "\n"), "one line a probe")
		out := object(t, b.String())
		assert.Equal(t, p.outcome, out["outcome"])
		assert.Subset(t, keys(out), append([]string{"schema", "target", "address", "method", "seq", "sent_at", "outcome", "payload_bytes"}, p.fields...))
		b.Reset()
		o.JSON = false
		require.NoError(t, o.Probe(p.Probe))
		assert.Contains(t, b.String(), p.text)
	}

	s := rtt.Summarize([]rtt.Sample{{Answered: true, RTT: 20 * time.Millisecond}, {}, {Answered: true, RTT: 21 * time.Millisecond}, {Answered: true, RTT: 22 * time.Millisecond}})
	var b strings.Builder
	o := report.Ping{W: &b, JSON: true, Target: "bookings.kittiwake.example", Address: Bookings}
	require.NoError(t, o.Summary(s))
	summary := object(t, b.String())["summary"].(map[string]any)
	assert.EqualValues(t, 3, summary["received"])
	assert.EqualValues(t, 4, summary["sent"])
	assert.Equal(t, []any{1.0}, summary["loss_runs"])
	assert.EqualValues(t, 21000, summary["rtt_us"].(map[string]any)["p50"])
	assert.EqualValues(t, 1000, summary["ipdv_us"].(map[string]any)["p50"])
	b.Reset()
	require.NoError(t, report.Ping{W: &b, JSON: true}.Summary(rtt.Summary{}))
	object(t, b.String())
	b.Reset()
	require.NoError(t, report.Ping{W: &b}.Summary(s))
	assert.Equal(t, "3 of 4 came back · lost in runs of 1 · half within 21 ms · most between 20 ms and 22 ms\n", b.String())
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
		{"reached", slices.Concat(Path(Bookings, Gateway, silent, Provider, Bookings), Path(Bookings, silent, silent)), true, "answers silent answers destination",
			[]string{"this subnet", "pier-gw.kittiwake.example 172.27.40.1", "keeps silent; harmless, later ones answer", "The destination was reached"}},
		{"ends", Path(Bookings, Gateway, Edge, silent, silent), false, "answers answers", []string{"provider", "nothing answers after station 2"}},
		{"refused on the way", []evidence.Hop{{To: Bookings, Method: "tcp", HopLimit: 1, Reply: Said(Gateway, evidence.Prohibited, 1)}}, false, "refused", []string{"says: administratively prohibited"}},
		{"nothing", nil, false, "", []string{"The destination was not reached"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			trace := report.NewTrace("bookings.kittiwake.example", Bookings, c.hops, names, onLink, time.Second)
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
			assert.Equal(t, []string{"address", "hops", "method", "reached", "schema", "target"}, keys(out))
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
