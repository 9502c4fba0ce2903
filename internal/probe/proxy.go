package probe

import (
	"context"
	"net/http"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/target"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/machine"
)

// hostOf reads what names a proxy: host:port, or a host alone with the port that its scheme implies.
func hostOf(proxy *url.URL) (target.Target, error) {
	port := proxy.Port()
	if port == "" {
		port = map[string]string{"https": "443", "socks5": "1080", "socks5h": "1080"}[proxy.Scheme]
	}
	if port == "" {
		port = "80"
	}
	host := proxy.Hostname()
	if strings.Contains(host, ":") {
		host = "[" + host + "]"
	}
	return target.Parse(host + ":" + port)
}

// AskWebVia sends the request for the target's URL through a proxy, as programs do that are set to ask it. One that the network has named
// is not asked on this machine itself.
func AskWebVia(ctx context.Context, m machine.Machine, e *endpoint.Endpoint, t target.Target, proxy *url.URL, named bool) evidence.Web {
	out := evidence.Web{URL: t.URL, Via: wiretext.Clean(proxy.Host)}
	host, err := hostOf(proxy)
	if err != nil {
		out.Reply = evidence.Reply{Outcome: evidence.LocalError, Reason: wiretext.Clean(err.Error())}
		return out
	}
	addrs, _, err := Resolve(ctx, m, e, host, evidence.Families{})
	if err != nil || len(addrs) == 0 {
		out.Reply = evidence.Reply{Outcome: evidence.LocalError, Reason: "the proxy's name leads nowhere"}
		return out
	}
	q := webRequest{target: t, to: netip.AddrPortFrom(addrs[0], host.Port), proxy: proxy}
	if named {
		q.refuses = leadsHere(e)
	}
	w, _, err := q.send(ctx, m)
	// the way is open: what failed is the service's
	if err != nil && t.TLS && w.Outcome == evidence.Malformed && w.Status == http.StatusOK {
		w.Flaw, _ = flawOf(err, time.Now())
	}
	return w
}

// mostScript is how much of a configuration file is read, in octets: 64 kB are more than any program takes in good faith.
const mostScript = 64 << 10

// FetchProxyScript fetches a file of automatic proxy configuration and reads which proxies its text names. It is not run.
func FetchProxyScript(ctx context.Context, m machine.Machine, e *endpoint.Endpoint, uri string) evidence.ProxyScript {
	out := evidence.ProxyScript{URL: wiretext.Clean(uri)}
	// servers are known to send the end of the text with it
	w, body := fetch(ctx, m, e, strings.TrimRight(uri, "\x00 \r\n"), nil, mostScript)
	out.Reply = w.Reply
	if w.Outcome == evidence.Answered && w.Status == http.StatusOK {
		out.Proxies, out.Direct = readScript(string(body))
	}
	return out
}

// What a function of such a file returns: "PROXY host:port; DIRECT".
var (
	namedProxy = regexp.MustCompile(`\b(?:PROXY|HTTP|HTTPS)\s+(\[[0-9a-fA-F:]+\]:\d{1,5}|[A-Za-z0-9._-]+:\d{1,5})`)
	namedNone  = regexp.MustCompile(`\bDIRECT\b`)
)

func readScript(text string) (proxies []string, direct bool) {
	for _, found := range namedProxy.FindAllStringSubmatch(text, -1) {
		if !slices.Contains(proxies, found[1]) {
			proxies = append(proxies, found[1])
		}
	}
	return proxies, namedNone.MatchString(text)
}
