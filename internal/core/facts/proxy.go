package facts

import (
	"fmt"
	"net/netip"
	"net/url"
	"slices"

	"passepartout/internal/core/evidence"
)

// NamedProxyScript is the automatic proxy configuration that a DHCP server names (option 252), and who does.
func (f *Facts) NamedProxyScript() (uri string, by netip.Addr) {
	if l, ok := f.Lease(); ok && l.Terms.ProxyConfig != "" {
		return l.Terms.ProxyConfig, l.Terms.Server
	}
	if f.Discovery != nil {
		for _, o := range slices.Concat(f.Discovery.Answers, f.Discovery.Offers) {
			if o.Terms.ProxyConfig != "" {
				uri, by = o.Terms.ProxyConfig, o.Server
			}
		}
	}
	return uri, by
}

// Proxied is how programs on this machine would send the request: through which proxy, who says so, and what came of it.
type Proxied struct {
	URL    string
	Source string
	Set    bool // on this machine, and not only named by the network
	Web    evidence.Web
	Asked  bool
}

// Proxied tells the proxy that programs here ask for the target; false where they ask the service itself.
func (f *Facts) Proxied() (Proxied, bool) {
	x := f.proxied.of(func() (x found[Proxied]) {
		x.thing, x.there = f.reckonProxied()
		return x
	})
	return x.thing, x.there
}

func (f *Facts) reckonProxied() (x Proxied, is bool) {
	if f.Target.URL == "" || f.Endpoint == nil {
		return x, false
	}
	var proxy *url.URL
	proxy, setting := f.Endpoint.ProxyFor(f.Target.URL)
	switch {
	case proxy != nil:
		x.URL, x.Source, x.Set = proxy.Host, setting.Source, true
	case !setting.IsZero():
		return x, false // set, and not for this target
	case len(f.Scripts) > 0 && len(f.Scripts[0].Proxies) > 0 && !f.Scripts[0].Direct:
		x.URL, x.Source = f.Scripts[0].Proxies[0],
			fmt.Sprintf("%s, which %v names by DHCP option 252", f.Scripts[0].URL, f.Scripts[0].NamedBy)
	default:
		return x, false
	}
	for _, w := range f.Webs { // any proxy of the list that works is enough
		if w.Via != "" && (!x.Asked || PassedOn(w) || w.Via == x.URL) && !(x.Asked && PassedOn(x.Web)) {
			x.Web, x.Asked = w, true
		}
	}
	return x, true
}

// ByProxy reports whether programs here reach the target through a proxy.
func (f *Facts) ByProxy() bool {
	x, is := f.Proxied()
	return is && x.Asked && PassedOn(x.Web)
}

// Proxy is the one that programs here ask for the target.
func (f *Facts) Proxy() (host string, set bool) {
	x, is := f.Proxied()
	return x.URL, is
}

// PassedOn reports whether a proxy let the request through: a refusal of its own is no answer of the service.
func PassedOn(w evidence.Web) bool {
	switch w.Status {
	case 407, 502, 503, 504: // RFC 9110 §15.5.8, §15.6: said by whoever stands in between
		return false
	}
	return w.Outcome == evidence.Answered
}

// Direct is the answer that came without a proxy.
func (f *Facts) Direct() (w evidence.Web, ok bool) {
	for _, w := range f.Webs {
		if w.Via == "" && w.Outcome == evidence.Answered {
			if _, _, stranger := f.Between(w); !stranger {
				return w, true
			}
		}
	}
	return w, false
}
