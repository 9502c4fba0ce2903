package redact

import "slices"

// place is where a string stands in a JSON value: under which key, and under which that object stands.
type place struct {
	parent, key string
	option      string // the DHCP option that it is the value of
}

// text is where a person reads.
var text = place{}

// nameKeys are those under which names stand in a log.
var nameKeys = []string{"Host", "Name", "Names", "Domain", "Search", "Aliases", "Target", "Value", "Switch", "Issuer", "Subject",
	"Location", "Page", "URL", "HTTP", "HTTPS", "ProxyConfig", "CaptivePortal", "Proxies", "Except", "host", "target"}

// nameOptions are the DHCP options that hold names (RFC 2132, RFC 3397, RFC 4702, RFC 8910).
var nameOptions = []string{"Host Name", "Domain Name", "Domain Search", "Client FQDN", "Merit Dump File", "Root Path", "Extensions Path",
	"Network Information Service Domain", "Network Information Service+ Domain", "NetBIOS over TCP/IP Scope", "TFTP Server Name",
	"Bootfile Name", "Captive Portal", "Captive Portal, former code", "Manufacturer Usage Description URL",
	"Proxy Automatic Configuration, unregistered", "Message", "Vendor Class Identifier"}

func (p place) holdsNames() bool {
	switch {
	case p.parent == "Interfaces", p.parent == "witness": // names of this machine's own making
		return false
	case p.parent == "Sheet" && p.key == "Source":
		return true
	case p.option != "":
		return slices.Contains(nameOptions, p.option)
	}
	return slices.Contains(nameKeys, p.key)
}

// walk hands each string of a JSON value, keys too, to f, with its place, and puts what f makes of it there.
func walk(v any, at place, f func(place, string) string) any {
	switch v := v.(type) {
	case string:
		return f(at, v)
	case []any:
		for i := range v {
			v[i] = walk(v[i], at, f)
		}
	case map[string]any:
		out := make(map[string]any, len(v))
		inner := place{parent: at.key}
		if _, ok := v["Witness"]; ok {
			inner.parent = "witness"
		}
		if name, ok := v["name"].(string); ok && v["value"] != nil {
			inner.option = name
		}
		for k, x := range v {
			inside := inner
			inside.key = k
			if k == "name" {
				inside.option = ""
			}
			out[f(place{key: k, option: "a key"}, k)] = walk(x, inside, f)
		}
		return out
	}
	return v
}
