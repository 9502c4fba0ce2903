package fault

import (
	"fmt"
	"net/netip"
	"net/url"
	"slices"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/zone"
)

// NamedProxyScript is the automatic proxy configuration that a DHCP server names (option 252), and who does.
func (p *Pass) NamedProxyScript() (uri string, by netip.Addr) {
	if l, ok := p.Lease(); ok && l.Terms.ProxyConfig != "" {
		return l.Terms.ProxyConfig, l.Terms.Server
	}
	if p.Discovery != nil {
		for _, o := range slices.Concat(p.Discovery.Answers, p.Discovery.Offers) {
			if o.Terms.ProxyConfig != "" {
				uri, by = o.Terms.ProxyConfig, o.Server
			}
		}
	}
	return uri, by
}

// proxied is how programs on this machine would send the request: through which proxy, who says so, and what came of it.
type proxied struct {
	proxy  string
	source string
	set    bool // on this machine, and not only named by the network
	web    evidence.Web
	asked  bool
}

// proxied tells the proxy that programs here ask for the target; false where they ask the service itself.
func (p *Pass) proxied() (x proxied, is bool) {
	if p.Target.URL == "" || p.Endpoint == nil {
		return x, false
	}
	var proxy *url.URL
	proxy, setting := p.Endpoint.ProxyFor(p.Target.URL)
	switch {
	case proxy != nil:
		x.proxy, x.source, x.set = proxy.Host, setting.Source, true
	case !setting.IsZero():
		return x, false // set, and not for this target
	case len(p.Scripts) > 0 && len(p.Scripts[0].Proxies) > 0 && !p.Scripts[0].Direct:
		x.proxy, x.source = p.Scripts[0].Proxies[0],
			fmt.Sprintf("%s, which %v names by DHCP option 252", p.Scripts[0].URL, p.Scripts[0].NamedBy)
	default:
		return x, false
	}
	for _, w := range p.Webs { // any proxy of the list that works is enough
		if w.Via != "" && (!x.asked || passedOn(w) || w.Via == x.proxy) && !(x.asked && passedOn(x.web)) {
			x.web, x.asked = w, true
		}
	}
	return x, true
}

// ByProxy reports whether programs here reach the target through a proxy.
func (p *Pass) ByProxy() bool {
	x, is := p.proxied()
	return is && x.asked && passedOn(x.web)
}

// Proxy is the one that programs here ask for the target.
func (p *Pass) Proxy() (host string, set bool) {
	x, is := p.proxied()
	return x.proxy, is
}

// passedOn reports whether a proxy let the request through: a refusal of its own is no answer of the service.
func passedOn(w evidence.Web) bool {
	switch w.Status {
	case 407, 502, 503, 504: // RFC 9110 §15.5.8, §15.6: said by whoever stands in between
		return false
	}
	return w.Outcome == evidence.Answered
}

// direct is the answer that came without a proxy.
func (p *Pass) direct() (w evidence.Web, ok bool) {
	for _, w := range p.Webs {
		if w.Via == "" && w.Outcome == evidence.Answered {
			if _, _, stranger := p.between(w); !stranger {
				return w, true
			}
		}
	}
	return w, false
}

// ProxyInTheWay: programs here ask a proxy that does not serve.
var ProxyInTheWay = &Fault{
	ID: "proxy-in-the-way", Zone: zone.Host, Scope: OfMachine, Matters: ByReach, Check: "service",
	Needs: []evidence.Kind{evidence.Settings, evidence.WebAnswer}, Explains: []ID{"tls-fails"},
	Doc: `A proxy is set that does not serve
Programs on this machine send web requests to a proxy, by a variable, a file or the network's automatic configuration, and the proxy is
dead or refuses; the service itself answers when it is asked directly. Some programs work and others do not, since not all look at the
same setting. It is taken for a fault of the service. Take the setting away, or set the proxy that serves.`,
	Judge: func(p *Pass) Finding {
		x, is := p.proxied()
		switch {
		case p.Target.URL == "":
			return cleared("only web addresses are asked of proxies, and none was given")
		case !is && p.IsOpen(evidence.WebAnswer):
			return possible("whether the network names a proxy is still being asked")
		case !is:
			return cleared("no proxy is set for %s", p.Target.Host())
		case !x.asked:
			return possible("the proxy %s has not been asked to an end", x.proxy)
		case passedOn(x.web):
			return cleared("the proxy %s passes the request on, in %s", x.web.Via, Millis(x.web.RTT))
		}
		w, works := p.direct()
		if !works {
			f := possible("the service does not answer directly either")
			f.For = []string{fmt.Sprintf("through the proxy %s: %s", x.proxy, ProxyWords(x.web))}
			return f
		}
		standing, z := Confirmed, zone.Host
		next := []string{
			fmt.Sprintf("Take the proxy %s out of %s, or set one that serves; then begin the session anew, so that programs see it.",
				x.proxy, x.source),
			fmt.Sprintf("If %s must be reached through a proxy by rule, ask whoever runs %s why it does not serve.", p.Target.Host(),
				x.proxy)}
		if !x.set { // only programs that look for it are concerned, and the setting is the DHCP service's
			standing, z = Supported, zone.LocalSubnet
			next[0] = fmt.Sprintf("Have the DHCP service stop naming it, or the file mended, or the proxy %s put back into service.",
				x.proxy)
		}
		return found(standing,
			fmt.Sprintf("Programs here ask the proxy %s for %s, and it %s; asked directly, the service answers.", x.proxy, p.Target.Host(),
				ProxyWords(x.web)),
			"set by "+x.source, fmt.Sprintf("through %s: it %s", x.proxy, ProxyWords(x.web)),
			fmt.Sprintf("asked directly, %v answers with status %d in %s", w.To, w.Status, Millis(w.RTT))).in(z).next(next...)
	},
}

// ProxyWords says what a proxy did with a request.
func ProxyWords(w evidence.Web) string {
	switch w.Outcome {
	case evidence.Answered:
		if passedOn(w) {
			return fmt.Sprintf("passes it on, status %d", w.Status)
		}
		return fmt.Sprintf("refuses with status %d", w.Status)
	case evidence.Refused:
		return "refuses the connection"
	case evidence.Silent:
		return "does not answer"
	case evidence.LocalError:
		return "cannot be asked (" + w.Reason + ")"
	case evidence.Malformed:
		if w.Status >= 400 {
			return fmt.Sprintf("refuses with status %d", w.Status)
		}
		return "does not pass it on (" + w.Reason + ")"
	}
	return "is not reached (" + w.Outcome.String() + ")"
}
