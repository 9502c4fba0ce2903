package plan

import (
	"context"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/target"
	"passepartout/internal/nap"
	"passepartout/internal/probe"
)

// pagePatience is how long an answer to a request is waited for, beyond what is slow: a service that answers late is not one that does not.
const pagePatience = 5 * time.Second

// mostProxies is how many proxies of a configuration file are tried.
const mostProxies = 3

var webSteps = []*step{
	{brings: kinds(evidence.WebAnswer), after: kinds(evidence.ServiceConnect), needless: noWeb, of: openedSockets, ask: (*run).askWeb},
	{brings: kinds(evidence.WebAnswer), after: kinds(evidence.ServiceConnect), of: relayedSockets, ask: (*run).askThrough},
	{brings: kinds(evidence.WebAnswer), of: doubtfulPages, ask: (*run).askThrough},
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

func (r *run) askWeb(ctx context.Context, s subject) { r.askPage(ctx, r.Target, s.addr) }

// askPage sends one request for a page to one address.
func (r *run) askPage(ctx context.Context, page target.Target, to netip.Addr) {
	ask, cancel := nap.Within(ctx, pagePatience)
	defer cancel()
	if w := probe.AskWeb(ask, r.Machine, page, to, ""); ctx.Err() == nil || w.Came() {
		r.observe(w)
	}
}

// webPorts are those at which a bare request shows who is there, and tells a service from somebody in between.
var webPorts = map[uint16]string{443: "https", 80: "http"}

// relayedSockets are those of a target without a URL whose connections somebody nearer accepts: a request shows whether they come through.
func relayedSockets(m *moment) (out []subject) {
	for _, s := range m.Shorts {
		_, nearer := m.Nearer(s.To.Addr())
		scheme, web := webPorts[s.To.Port()]
		if nearer && web && m.Target.URL == "" {
			page := url.URL{Scheme: scheme, Host: m.Target.Host(), Path: "/"}
			if a := m.Target.Addr; a.Is6() {
				page.Host = "[" + a.WithZone("").String() + "]"
			}
			out = append(out, subject{addr: s.To.Addr(), name: page.String()})
		}
	}
	return out
}

// doubtfulPages is the question whether somebody nearer who has answered in the clear answers in the name of everybody: the same request to
// an address that no host has.
func doubtfulPages(m *moment) []subject {
	for _, w := range m.Webs {
		_, nearer := m.Nearer(w.To.Addr())
		if nearer && w.Outcome == evidence.Answered && w.Flaw == evidence.NoFlaw && w.Via == "" && strings.HasPrefix(w.URL, "http:") {
			page := url.URL{Scheme: "http", Host: evidence.Unassigned.String(), Path: "/"}
			return []subject{{addr: evidence.Unassigned, name: page.String()}}
		}
	}
	return nil
}

func (r *run) askThrough(ctx context.Context, s subject) {
	if page, err := target.Parse(s.name); err == nil {
		r.askPage(ctx, page, s.addr)
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
	ask, cancel := nap.Within(ctx, 2*connectPatience)
	defer cancel()
	set, _ := r.endpoint.ProxyFor(r.Target.URL)
	if w := probe.AskWebVia(ask, r.Machine, r.endpoint, r.Target, proxy, set == nil); ctx.Err() == nil || w.Came() {
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
	ask, cancel := nap.Within(ctx, 2*connectPatience)
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
	ask, cancel := nap.Within(ctx, 2*connectPatience)
	defer cancel()
	if portal := probe.AskPortal(ask, r.Machine, r.endpoint, s.name); ctx.Err() == nil || portal.Came() {
		r.observe(portal)
	}
}
