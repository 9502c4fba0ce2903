package probe_test

import (
	"net/url"
	"strings"
	"testing"
	"time"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/target"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/probe"
)

func TestPortalSays(t *testing.T) {
	for text, want := range map[string]evidence.Captivity{
		`{"captive": true, "user-portal-url": "https://portal.kittiwake.example/"}`: evidence.CaptiveYes,
		`{"captive": false}`:   evidence.CaptiveNo,
		`{"captive": "yes"}`:   evidence.CaptivityNotSaid,
		`{}`:                   evidence.CaptivityNotSaid,
		`<html>welcome</html>`: evidence.CaptivityNotSaid,
		"":                     evidence.CaptivityNotSaid,
	} {
		assert.Equal(t, want, probe.ReadPortal([]byte(text)).Captive, text)
	}
}

func TestProxyScript(t *testing.T) {
	for _, c := range []struct {
		text    string
		proxies []string
		direct  bool
	}{
		{`function FindProxyForURL(u, h) { return "PROXY 172.27.40.70:3128"; }`, []string{"172.27.40.70:3128"}, false},
		{`return 'PROXY a.example:80; PROXY b.example:81; PROXY a.example:80; DIRECT'`, []string{"a.example:80", "b.example:81"}, true},
		{`return "HTTPS [2001:db8::7]:443"`, []string{"[2001:db8::7]:443"}, false},
		{`return "DIRECT"`, nil, true},
		{`PROXY nobody`, nil, false},
	} {
		proxies, direct := probe.ReadScript(c.text)
		assert.Equal(t, c.proxies, proxies, c.text)
		assert.Equal(t, c.direct, direct, c.text)
	}
}

func TestAskWebVia(t *testing.T) {
	m := at(t, "healthy-by-proxy", simulated.Options{})
	e, err := m.Read(t.Context())
	require.NoError(t, err)
	for _, c := range []struct {
		url, proxy string
		outcome    evidence.Outcome
		status     int
	}{
		{"http://bookings.kittiwake.example/", "http://172.27.40.70:3128", evidence.Answered, 200},
		{"https://bookings.kittiwake.example/", "http://172.27.40.70:3128", evidence.Answered, 200},
		{"https://weather.kittiwake.example/", "http://172.27.40.70:3128", evidence.Malformed, 502}, // a name that the proxy does not know
		{"http://bookings.kittiwake.example/", "http://172.27.40.70:3129", evidence.Refused, 0},
		{"http://bookings.kittiwake.example/", "http://nobody.kittiwake.example:3128", evidence.LocalError, 0},
	} {
		want, err := target.Parse(c.url)
		require.NoError(t, err)
		proxy, err := url.Parse(c.proxy)
		require.NoError(t, err)
		w := probe.AskWebVia(within(t, 3*time.Second), m, e, want, proxy, false)
		assert.Equal(t, c.outcome, w.Outcome, "%s by %s: %s", c.url, c.proxy, w.Reason)
		assert.Equal(t, c.status, w.Status, c.url)
	}
}

func FuzzPortal(f *testing.F) {
	f.Add([]byte(`{"captive": true, "user-portal-url": "https://portal.kittiwake.example/\u001b[2J"}`))
	f.Fuzz(func(t *testing.T, in []byte) {
		if page := probe.ReadPortal(in).Page; strings.ContainsFunc(page, func(r rune) bool { return !unicode.IsPrint(r) }) {
			t.Fatalf("%q reaches the screen", page)
		}
	})
}

func FuzzProxyScript(f *testing.F) {
	f.Add(`return "PROXY a.example:80; DIRECT"`)
	f.Fuzz(func(t *testing.T, in string) {
		proxies, _ := probe.ReadScript(in)
		for _, p := range proxies {
			if _, err := url.Parse("http://" + p); err != nil && !strings.Contains(p, "[") {
				t.Fatalf("%q is no proxy: %v", p, err)
			}
		}
	})
}
