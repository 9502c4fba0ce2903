package fault

import (
	"fmt"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

var proxyFaults = []*Fault{ProxyInTheWay}

// ProxyInTheWay: programs here ask a proxy that does not serve.
var ProxyInTheWay = &Fault{
	ID: "proxy-in-the-way", Zone: zone.Host, Place: 200, Scope: OfMachine, Matters: ByReach, Check: "service",
	Needs: []evidence.Kind{evidence.Settings, evidence.WebAnswer}, Explains: []ID{"tls-fails"},
	Doc: `A proxy is set that does not serve
Programs on this machine send web requests to a proxy, by a variable, a file or the network's automatic configuration, and the proxy is
dead or refuses; the service itself answers when it is asked directly. Some programs work and others do not, since not all look at the
same setting. It is taken for a fault of the service. Take the setting away, or set the proxy that serves.`,
	Judge: func(p *facts.Facts) Finding {
		x, is := p.Proxied()
		switch {
		case p.Target.URL == "":
			return cleared("only web addresses are asked of proxies, and none was given")
		case !is && p.IsOpen(evidence.WebAnswer):
			return possible("whether the network names a proxy is still being asked")
		case !is:
			return cleared("no proxy is set for %s", p.Target.Host())
		case !x.Asked:
			return possible("the proxy %s has not been asked to an end", x.URL)
		case facts.PassedOn(x.Web):
			return cleared("the proxy %s passes the request on, in %s", x.Web.Via, wording.Millis(x.Web.RTT))
		}
		w, works := p.Direct()
		if !works {
			f := possible("the service does not answer directly either")
			f.For = []string{fmt.Sprintf("through the proxy %s: %s", x.URL, ProxyWords(x.Web))}
			return f
		}
		standing, z := Confirmed, zone.Host
		next := []string{
			fmt.Sprintf("Take the proxy %s out of %s, or set one that serves; then begin the session anew, so that programs see it.",
				x.URL, x.Source),
			fmt.Sprintf("If %s must be reached through a proxy by rule, ask whoever runs %s why it does not serve.", p.Target.Host(),
				x.URL)}
		if !x.Set { // only programs that look for it are concerned, and the setting is the DHCP service's
			standing, z = Supported, zone.LocalSubnet
			next[0] = fmt.Sprintf("Have the DHCP service stop naming it, or the file mended, or the proxy %s put back into service.",
				x.URL)
		}
		return found(standing,
			fmt.Sprintf("Programs here ask the proxy %s for %s, and it %s; asked directly, the service answers.", x.URL, p.Target.Host(),
				ProxyWords(x.Web)),
			"set by "+x.Source, fmt.Sprintf("through %s: it %s", x.URL, ProxyWords(x.Web)),
			fmt.Sprintf("asked directly, %v answers with status %d in %s", w.To, w.Status, wording.Millis(w.RTT))).in(z).next(next...)
	},
}

// ProxyWords says what a proxy did with a request.
func ProxyWords(w evidence.Web) string {
	switch w.Outcome {
	case evidence.Answered:
		if facts.PassedOn(w) {
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
