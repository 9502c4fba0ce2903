package plan

import (
	"context"
	"net/netip"
	"net/url"

	"passepartout/internal/core/evidence"
	"passepartout/internal/probe"
)

// mostProxies is how many proxies of a configuration file are tried.
const mostProxies = 3

var webSteps = []*step{
	{brings: kinds(evidence.WebAnswer), after: kinds(evidence.ServiceConnect), needless: noWeb, of: openedSockets, ask: (*run).askWeb},
	{brings: kinds(evidence.WebAnswer), needless: noWeb, of: proxyScript, ask: (*run).fetchProxyScript},
	{brings: kinds(evidence.WebAnswer), needless: noWeb, of: proxies, ask: (*run).askVia},
	{test: "named-portal", brings: kinds(evidence.WebAnswer), of: namedPortal, needless: works, ask: (*run).askPortal},
}

func noWeb(m *moment) bool { return m.Target.URL == "" }

// openedSockets are those of the target's to which a connection has opened.
func openedSockets(m *moment) (out []subject) {
	for _, s := range targetSockets(m) {
		for _, c := range m.Connects {
			if c.To == netip.AddrPortFrom(s.addr, s.port) && c.Outcome == evidence.Answered {
				out = append(out, s)
			}
		}
	}
	return out
}

func (r *run) askWeb(ctx context.Context, s subject) {
	ask, cancel := context.WithTimeout(ctx, 2*connectPatience)
	defer cancel()
	if w := probe.AskWeb(ask, r.Machine, r.Target, s.addr, ""); ctx.Err() == nil || w.Came() {
		r.observe(w)
	}
}

// proxies are those through which the request is sent as well, the way that programs here send it: the one that is set, or, where none is,
// those that the automatic configuration names.
func proxies(m *moment) (out []subject) {
	if proxy, _ := m.Endpoint.ProxyFor(m.Target.URL); proxy != nil {
		return []subject{{name: proxy.String()}}
	}
	for _, script := range m.Scripts {
		for _, p := range script.Proxies[:min(len(script.Proxies), mostProxies)] {
			out = append(out, subject{name: (&url.URL{Scheme: "http", Host: p}).String()})
		}
	}
	return out
}

func (r *run) askVia(ctx context.Context, s subject) {
	proxy, err := url.Parse(s.name)
	if err != nil {
		return
	}
	ask, cancel := context.WithTimeout(ctx, 2*connectPatience)
	defer cancel()
	if w := probe.AskWebVia(ask, r.Machine, r.endpoint, r.Target, proxy); ctx.Err() == nil || w.Came() {
		r.observe(w)
	}
}

// proxyScript is the file of automatic configuration that a DHCP server names, by the lease or, within the wait for silence, by an answer
// now.
func proxyScript(m *moment) []subject {
	if proxy, setting := m.Endpoint.ProxyFor(m.Target.URL); proxy != nil || !setting.IsZero() {
		return nil
	}
	uri, by := m.NamedProxyScript()
	if uri == "" {
		m.silent()
		return nil
	}
	return []subject{{name: uri, by: by}}
}

func (r *run) fetchProxyScript(ctx context.Context, s subject) {
	ask, cancel := context.WithTimeout(ctx, 2*connectPatience)
	defer cancel()
	script := probe.FetchProxyScript(ask, r.Machine, r.endpoint, s.name)
	script.NamedBy = s.by
	if ctx.Err() == nil || script.Came() {
		r.observe(script)
	}
}

// namedPortal is the captive portal that the network names.
func namedPortal(m *moment) []subject {
	if uri, _ := m.NamedPortal(); uri != "" && !m.Target.IsZero() {
		return []subject{{name: uri}}
	}
	return nil
}

func (r *run) askPortal(ctx context.Context, s subject) {
	ask, cancel := context.WithTimeout(ctx, 2*connectPatience)
	defer cancel()
	if portal := probe.AskPortal(ask, r.Machine, r.endpoint, s.name); ctx.Err() == nil || portal.Came() {
		r.observe(portal)
	}
}
