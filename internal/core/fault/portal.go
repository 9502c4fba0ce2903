package fault

import (
	"fmt"
	"net/netip"
	"net/url"
	"strings"

	"golang.org/x/net/publicsuffix"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/zone"
)

// statusLoginNeeded is "Network Authentication Required": somebody in between says it, and never the service itself (RFC 6585 §6).
const statusLoginNeeded = 511

// unrestricted is what option 114 holds where the network says that nobody has to log in (RFC 8910 §2).
const unrestricted = "urn:ietf:params:capport:unrestricted"

// sentAway gives the host to which an answer sends its asker, if that lies outside the target's domain.
func (p *Pass) sentAway(w evidence.Web) (host string, is bool) {
	if w.Outcome != evidence.Answered || w.Status/100 != 3 || w.Location == "" {
		return "", false
	}
	to, err := url.Parse(w.Location)
	if err != nil || to.Hostname() == "" {
		return "", false
	}
	host = strings.ToLower(strings.TrimSuffix(to.Hostname(), "."))
	if host == strings.ToLower(p.Target.Host()) {
		return "", false
	}
	here, err1 := publicsuffix.EffectiveTLDPlusOne(p.Target.Host())
	there, err2 := publicsuffix.EffectiveTLDPlusOne(host)
	return host, err1 != nil || err2 != nil || here != there // an address in a name's place is another host too
}

// nearer is a connection to the target that was accepted by somebody who is nearer than the target: its packets could not have gone that
// far.
func (p *Pass) nearer(a netip.Addr) (evidence.ShortConnect, bool) {
	for _, s := range p.Shorts {
		if s.To.Addr() != a || s.Outcome != evidence.Answered {
			continue
		}
		for _, h := range p.Hops {
			if h.To == a && h.HopLimit == s.HopLimit && h.Outcome == evidence.Expired { // the way goes on there
				return s, true
			}
		}
	}
	return evidence.ShortConnect{}, false
}

// between tells that an answer to a web request came from somebody in between, and why that is so.
func (p *Pass) between(w evidence.Web) (why string, sure, is bool) {
	if w.Outcome != evidence.Answered && w.Flaw == evidence.NoFlaw {
		return "", false, false
	}
	if p.Target.TLS && w.Flaw == evidence.NoFlaw {
		// a good certificate is proof of the service itself, wherever it sends: to a log-in of its own elsewhere, perhaps
		return "", false, false
	}
	if s, is := p.nearer(w.To.Addr()); is {
		return nearerWords(s), true, true
	}
	if w.Status == statusLoginNeeded {
		return "the answer has status 511: this network wants a log-in", true, true
	}
	if host, is := p.sentAway(w); is {
		return fmt.Sprintf("the answer sends to %s, outside the domain of %s", host, p.Target.Host()), false, true
	}
	return "", false, false
}

// Stranger tells that somebody in between has answered in the target's place, and why that is so.
func (p *Pass) Stranger() (why string, is bool) {
	for _, w := range p.Webs {
		if why, _, is := p.between(w); is && w.Via == "" {
			return why, true
		}
	}
	for _, a := range p.Addresses {
		if s, is := p.nearer(a); is && len(p.Webs) == 0 {
			return nearerWords(s), true
		}
	}
	return "", false
}

func nearerWords(s evidence.ShortConnect) string {
	return fmt.Sprintf("a connection to %v is accepted with a hop limit of %d, and the way there is longer", s.To, s.HopLimit)
}

// NamedPortal is the captive portal that the network names, and who does and how: a DHCP server, a DHCPv6 server or a router (RFC 8910 §2).
// What the lease in force says counts most.
func (p *Pass) NamedPortal() (uri, by string) {
	name := func(portal, how string, who any) {
		if portal != "" {
			uri, by = portal, fmt.Sprintf("%v, by %s,", who, how)
		}
	}
	for _, r := range p.Routers6 {
		name(r.CaptivePortal, "router advertisement", r.Router)
	}
	for _, i := range p.Informed6 {
		name(i.CaptivePortal, "DHCPv6 option 103", i.From)
	}
	offers, _ := p.OffersSeen()
	for _, o := range offers {
		name(o.Terms.CaptivePortal, "DHCP option 114", o.Server)
	}
	if l, ok := p.Lease(); ok {
		name(l.Terms.CaptivePortal, "DHCP option 114", l.Terms.Server)
	}
	if uri == unrestricted {
		return "", ""
	}
	return uri, by
}

// behindPortal are the faults that show on a machine that has not logged in.
var behindPortal = []ID{"gateway-does-not-forward", "uplink-down", "path-stops", "destination-silent", "destination-unreachable",
	"prohibited-by-policy", "service-refused", "service-filtered", "tls-fails",
	"resolver-silent", "name-server-failing", "name-not-found", "name-answers-differ", "one-family-broken"}

// CaptivePortal: somebody in between answers in the service's place until one has logged in.
var CaptivePortal = &Fault{
	ID: "captive-portal", Zone: zone.Beyond, Scope: OfPlace, Matters: ByReach, Check: "service",
	Needs: []evidence.Kind{evidence.WebAnswer, evidence.ServiceConnect, evidence.DHCPOffer}, Explains: behindPortal,
	Doc: `This network wants a log-in first
Somebody in between answers web requests in the service's place, and lets nothing else through until a person has logged in or accepted
terms: usual in guest networks. Secure pages fail or show a wrong certificate, plain ones show a strange page. It is taken for a dead
uplink or an attack on certificates. Open a plain http page in a browser and log in.`,
	Judge: func(p *Pass) Finding {
		var reasons []string
		strong, weak, accepted := 0, 0, false
		for _, w := range p.Webs {
			if why, sure, is := p.between(w); is && w.Via == "" {
				reasons = append(reasons, why)
				if sure {
					strong++
				} else {
					weak++
				}
			}
		}
		if len(p.Webs) == 0 {
			for _, a := range p.Addresses {
				if s, is := p.nearer(a); is { // somebody who passes connections on in good faith looks the same
					weak, accepted = weak+1, true
					reasons = append(reasons, nearerWords(s))
				}
			}
		}
		uri, by := p.NamedPortal()
		page := ""
		if uri != "" && p.Usable() != Yes {
			weak++
			reasons = append(reasons, fmt.Sprintf("%s names a captive portal: %s", by, uri))
		}
		for _, x := range p.Portals {
			switch {
			case x.Captive == evidence.CaptiveYes:
				strong++
				page = x.Page
				reasons = append(reasons, fmt.Sprintf("%s says that this machine has not logged in", x.URL))
			case x.Captive == evidence.CaptiveNo && strong == 0:
				return cleared("%s says that this machine needs no log-in", x.URL)
			}
		}
		switch {
		case p.Target.IsZero():
			return possible("nothing beyond the gateway was asked for")
		case p.Usable() == Yes && !p.IsOpen(evidence.ServiceConnect, evidence.WebAnswer):
			return cleared("the target itself answers")
		case p.Usable() == Yes:
			return possible("whether it is the target that answered is still being asked")
		case strong == 0 && weak == 0 && p.Usable() == No && !p.IsOpen(evidence.ServiceConnect, evidence.WebAnswer):
			return cleared("nobody in between answers in the target's place")
		case strong == 0 && weak == 0:
			return possible("no answer has been seen yet")
		case strong == 0 && len(p.Webs) == 0 && !accepted:
			f := possible("the portal has not said whether this machine is held back")
			f.For = reasons
			if len(p.Portals) == 0 {
				f = f.awaiting(evidence.WebAnswer)
			}
			return f
		}
		standing := Confirmed
		if strong == 0 && weak < 2 {
			standing = Supported
		}
		open := "Open a plain http:// page in a browser on this machine, log in there, then run again."
		if page != "" {
			open = fmt.Sprintf("Open %s in a browser on this machine, log in there, then run again.", page)
		}
		return found(standing,
			fmt.Sprintf("Somebody in between answers in place of %s: this network wants a log-in first.", p.Target.Host()), reasons...).
			next(open, "A machine without a browser (a scanner, a printer) must be let through by whoever runs this network: give them "+
				"its hardware address.")
	},
}
