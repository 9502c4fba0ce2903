package plan

import (
	"context"
	"net/url"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/probe"
)

// mostProxies is how many proxies of a configuration file are tried.
const mostProxies = 3

// startProxies sends the request also the way that programs here send it: through the proxy that is set, or, where none is, through those
// that the automatic configuration names. Only web addresses are asked of proxies.
func (r *run) startProxies(ctx context.Context) {
	if r.Target.URL == "" {
		return
	}
	proxy, setting := r.endpoint.ProxyFor(r.Target.URL)
	switch {
	case proxy != nil:
		r.step(func() { r.askVia(ctx, proxy) }, evidence.WebAnswer)
	case setting.IsZero():
		r.step(func() { r.askConfigured(ctx) }, evidence.WebAnswer)
	}
}

func (r *run) askVia(ctx context.Context, proxy *url.URL) {
	ask, cancel := context.WithTimeout(ctx, 2*connectPatience)
	defer cancel()
	w := probe.AskWebVia(ask, r.Machine, r.endpoint, r.Target, proxy)
	if ctx.Err() == nil || w.Came() {
		r.observe(w)
	}
}

// askConfigured fetches the file of automatic configuration that a DHCP server names, by the lease or by an answer now, and tries the
// proxies in it.
func (r *run) askConfigured(ctx context.Context) {
	uri, by := facts.New(r.snapshot()).NamedProxyScript()
	if uri == "" { // the lease does not name one; a server may, when it is asked
		select {
		case <-ctx.Done():
			return
		case <-r.silence:
		}
		if uri, by = facts.New(r.snapshot()).NamedProxyScript(); uri == "" {
			return
		}
	}
	ask, cancel := context.WithTimeout(ctx, 2*connectPatience)
	defer cancel()
	script := probe.FetchProxyScript(ask, r.Machine, r.endpoint, uri)
	script.NamedBy = by
	if ctx.Err() != nil && !script.Came() {
		return
	}
	r.observe(script)
	for _, p := range script.Proxies[:min(len(script.Proxies), mostProxies)] {
		r.step(func() { r.askVia(ctx, &url.URL{Scheme: "http", Host: p}) }, evidence.WebAnswer)
	}
}
