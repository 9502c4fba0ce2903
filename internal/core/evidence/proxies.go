package evidence

import "net/netip"

// ProxyScript is a file of automatic proxy configuration, and what its text names. The script is not run: for which targets it gives which
// proxy is not known.
type ProxyScript struct {
	URL     string
	NamedBy netip.Addr // the DHCP server that names it (option 252)
	Proxies []string   // host:port, in the order of the text
	Direct  bool       // it names the direct way as well
	Reply
}
