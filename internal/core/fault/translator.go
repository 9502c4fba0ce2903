package fault

import (
	"fmt"
	"net/netip"
	"slices"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

var translatorFaults = []*Fault{TranslatorSilent}

// TranslatorSilent: names lead to the prefix of a translator to IPv4, and nothing comes through it.
var TranslatorSilent = &Fault{
	ID: "translator-silent", Zone: zone.Beyond, Place: 155, Scope: OfEverybody, Matters: IfItShows, Check: "service",
	Needs: []evidence.Kind{evidence.NameLookup, evidence.ServiceConnect, evidence.PathTrace}, OnSilence: true,
	Explains: []ID{"destination-silent", "destination-unreachable", "prohibited-by-policy", "path-stops", "routing-loop",
		"service-filtered"},
	Doc: `The translator to IPv4 does not answer
This machine has IPv6 alone, and the target IPv4: names lead to addresses of a translator (NAT64), which turns them into IPv4 ones. What
has IPv6 of its own works, and nothing at all comes through the translator. It is taken for a dead service. Have whoever runs the network
look at the translator and at the route to its prefix.`,
	Judge: func(p *facts.Facts) Finding {
		if p.Usable() == facts.Yes {
			return cleared("the target is reached")
		}
		if len(p.Addresses) == 0 {
			return possible("the target's address is not known")
		}
		for _, a := range p.Addresses {
			if four, prefix, is := p.Translated(a); is {
				return judgeTranslator(p, a, four, prefix)
			}
		}
		if slices.ContainsFunc(p.Addresses, netip.Addr.Is6) && p.IsOpen(evidence.NameLookup, evidence.DHCPOffer) {
			return possible("whether an address of the target is a translator's is still being asked")
		}
		return cleared("no address of the target is a translator's")
	},
}

func judgeTranslator(p *facts.Facts, a, four netip.Addr, prefix netip.Prefix) Finding {
	var inside, native netip.Addr
	var told string
	p.EachReply(func(asked netip.Addr, r evidence.Reply, hop int) {
		switch {
		case !r.Came() || !r.From.Is6():
		case prefix.Contains(r.From):
			inside = r.From
		case prefix.Contains(asked) && r.Outcome == evidence.Unreachable && !p.Owns(r.From):
			told = fmt.Sprintf("%v reports %v unreachable: %v", r.From, asked, r.Why)
		case !prefix.Contains(asked) && r.From == asked && p.BeyondGateway(r, hop):
			native = r.From
		}
	})
	switch {
	case inside.IsValid():
		return cleared("%v has answered through the translator of %v", inside, prefix)
	case !p.Fails(a) || p.IsOpen(evidence.ServiceConnect, evidence.PathTrace):
		return possible("whether anything comes through the translator of %v has not been seen to an end", prefix)
	case !native.IsValid():
		return possible("nothing that has IPv6 of its own answers beyond the gateway either")
	}
	reasons := []string{fmt.Sprintf("%v stands for %v, under the prefix %v of a translator", a, four, prefix),
		"nothing that lies behind the translator answers, not even a router", fmt.Sprintf("%v, which has IPv6 of its own, answers", native)}
	standing := Supported
	if told != "" {
		standing, reasons[1] = Confirmed, told
	}
	return found(standing,
		fmt.Sprintf("Nothing comes through the translator to IPv4, which holds %v; what has IPv6 of its own works.", prefix), reasons...).
		next(fmt.Sprintf("Ask whoever runs this network whether its translator (NAT64) is up and %v is routed to it.", prefix),
			fmt.Sprintf("A target with IPv6 of its own works meanwhile; %s does not.", wording.List([]netip.Addr{four})))
}
