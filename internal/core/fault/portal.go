package fault

import (
	"fmt"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/zone"
)

var portalFaults = []*Fault{CaptivePortal}

// behindPortal are the faults that show on a machine that has not logged in.
var behindPortal = []ID{"gateway-does-not-forward", "uplink-down", "path-stops", "destination-silent", "destination-unreachable",
	"prohibited-by-policy", "service-refused", "service-filtered", "tls-fails",
	"resolver-silent", "name-server-failing", "name-not-found", "name-answers-differ", "one-family-broken"}

// CaptivePortal: somebody in between answers in the service's place until one has logged in.
var CaptivePortal = &Fault{
	ID: "captive-portal", Zone: zone.Beyond, Place: 120, Scope: OfPlace, Matters: ByReach, Check: "service",
	Needs: []evidence.Kind{evidence.WebAnswer, evidence.ServiceConnect, evidence.DHCPOffer}, Explains: behindPortal,
	Doc: `This network wants a log-in first
Somebody in between answers web requests in the service's place, and lets nothing else through until a person has logged in or accepted
terms: usual in guest networks. Secure pages fail or show a wrong certificate, plain ones show a strange page. It is taken for a dead
uplink or an attack on certificates. Open a plain http page in a browser and log in.`,
	Judge: func(p *facts.Facts) Finding {
		var reasons []string
		strong, weak, accepted := 0, 0, false
		for _, w := range p.Webs {
			if why, sure, is := p.Between(w); is && w.Via == "" {
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
				if s, is := p.Nearer(a); is { // somebody who passes connections on in good faith looks the same
					weak, accepted = weak+1, true
					reasons = append(reasons, facts.NearerWords(s))
				}
			}
		}
		uri, by := p.NamedPortal()
		page := ""
		if uri != "" && p.Usable() != facts.Yes {
			weak++
			reasons = append(reasons, fmt.Sprintf("%s names a captive portal: %s", by, uri))
		}
		for _, x := range p.Portals {
			switch {
			case x.Captive == evidence.CaptiveYes:
				strong++
				page = x.Page
				reasons = append(reasons, fmt.Sprintf("%s says that this machine has not logged in", x.URL))
			case x.Outcome == evidence.LocalError:
				reasons = append(reasons, fmt.Sprintf("%s: %s", x.URL, x.Reason))
			case x.Captive == evidence.CaptiveNo && strong == 0:
				return cleared("%s says that this machine needs no log-in", x.URL)
			}
		}
		switch {
		case p.Target.IsZero():
			return possible("nothing beyond the gateway was asked for")
		case p.Usable() == facts.Yes && !p.IsOpen(evidence.ServiceConnect, evidence.WebAnswer):
			return cleared("the target itself answers")
		case p.Usable() == facts.Yes:
			return possible("whether it is the target that answered is still being asked")
		case strong == 0 && weak == 0 && p.Usable() == facts.No && !p.IsOpen(evidence.ServiceConnect, evidence.WebAnswer):
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
