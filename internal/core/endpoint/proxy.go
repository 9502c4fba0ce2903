package endpoint

import (
	"io"
	"net/url"
	"strings"

	"golang.org/x/net/http/httpproxy"

	"passepartout/internal/core/wiretext"
)

// ProxySetting is what one place on the machine says of web proxies, in the variables that programs read by custom: http_proxy,
// https_proxy, all_proxy and no_proxy.
type ProxySetting struct {
	Source string // "this session's environment", or a file
	HTTP   string
	HTTPS  string
	Except string
}

// IsZero reports whether the place names no proxy.
func (p ProxySetting) IsZero() bool { return p.HTTP == "" && p.HTTPS == "" }

// ProxyVariables reads a setting from variables. Names in small letters beat those in capitals.
func ProxyVariables(source string, lookup func(name string) string) ProxySetting {
	get := func(name string) string {
		if v := lookup(name); v != "" {
			return wiretext.Clean(v)
		}
		return wiretext.Clean(lookup(strings.ToUpper(name)))
	}
	all := get("all_proxy")
	p := ProxySetting{Source: source, HTTP: get("http_proxy"), HTTPS: get("https_proxy"), Except: get("no_proxy")}
	if p.HTTP == "" {
		p.HTTP = all
	}
	if p.HTTPS == "" {
		p.HTTPS = all
	}
	return p
}

// ParseEnvironment reads a file of variables as sessions begin with it (/etc/environment, environment(5)): NAME=value lines, quotes and
// "export" allowed.
func ParseEnvironment(r io.Reader) map[string]string {
	out := map[string]string{}
	_ = eachLine(r, func(_ int, line string) {
		line = strings.TrimPrefix(strings.TrimSpace(line), "export ")
		if name, value, ok := strings.Cut(line, "="); ok && !strings.HasPrefix(line, "#") {
			out[strings.TrimSpace(name)] = strings.Trim(strings.TrimSpace(value), `"'`)
		}
	})
	return out
}

// ProxyFor gives the proxy that programs here ask for a web address, and the setting that says so; nil where they ask the service itself.
// The first place that names any proxy counts.
func (e *Endpoint) ProxyFor(address string) (*url.URL, ProxySetting) {
	u, err := url.Parse(address)
	if err != nil {
		return nil, ProxySetting{}
	}
	for _, p := range e.Proxies {
		if p.IsZero() {
			continue
		}
		proxy, err := (&httpproxy.Config{HTTPProxy: p.HTTP, HTTPSProxy: p.HTTPS, NoProxy: p.Except}).ProxyFunc()(u)
		if err != nil || proxy == nil {
			return nil, p
		}
		return proxy, p
	}
	return nil, ProxySetting{}
}
