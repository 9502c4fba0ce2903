package fault

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

var webFaults = []*Fault{ClockWrong, TLSFails, OneFamilyBroken, ServiceSpeaksOtherwise, ServiceSlow}

// flawed is a request that failed because no secure connection came about.
func flawed(p *facts.Facts) (evidence.Web, bool) {
	for _, w := range p.Webs {
		if w.Flaw != evidence.NoFlaw {
			return w, true
		}
	}
	return evidence.Web{}, false
}

// secure reports that the service has answered as itself, whether or not programs here would have asked it directly.
func secure(p *facts.Facts) bool {
	_, answered := p.Direct()
	return answered || p.Usable() == facts.Yes
}

// clockOff is how far this machine's clock is from the service's own, if that says; positive: ahead.
func clockOff(w evidence.Web) (time.Duration, bool) {
	if w.Date.IsZero() || w.At.IsZero() {
		return 0, false
	}
	return w.At.Sub(w.Date), true
}

// clockMatters is from which difference on a clock explains a certificate's validity: certificates are made valid an hour or a day before
// they are used.
const clockMatters = time.Hour

// ClockWrong: the machine's clock makes certificates fail.
var ClockWrong = &Fault{
	ID: "clock-wrong", Zone: zone.Host, Place: 220, Scope: OfMachine, Matters: ByReach, Check: "service",
	Needs:    []evidence.Kind{evidence.WebAnswer},
	Explains: []ID{"tls-fails"},
	Doc: `This machine's clock is wrong
The clock of this machine is so far off that it takes good certificates for expired, or for not yet valid, and refuses every secure
connection; the services' own clocks agree with their certificates. It is taken for an attack, or for a fault of the service. Set the
clock, and look at the battery on the board or at the time service.`,
	Judge: func(p *facts.Facts) Finding {
		w, ok := flawed(p)
		switch {
		case p.Target.URL == "" || !p.Target.TLS:
			return cleared("no secure connection was asked for")
		case !ok && secure(p):
			return cleared("the certificate is valid by this machine's clock")
		case !ok:
			return possible("no certificate has been seen")
		case w.Flaw != evidence.CertificateExpired && w.Flaw != evidence.CertificateNotYetValid:
			return cleared("%v: no matter of time", w.Flaw)
		}
		off, known := clockOff(w)
		if !known {
			return possible("the service does not say what time it is")
		}
		if off.Abs() < clockMatters || !w.Shown.ValidAt(w.Date) {
			return cleared("the service's clock agrees with this machine's to %s", wording.Millis(off.Abs()))
		}
		way := "ahead"
		if off < 0 {
			way = "behind"
		}
		return found(Confirmed,
			fmt.Sprintf("This machine's clock is %s %s: %s here, %s by the service's own clock.", wording.Days(off.Abs()), way,
				w.At.UTC().Format("2006-01-02 15:04"), w.Date.UTC().Format("2006-01-02 15:04")),
			fmt.Sprintf("%v: valid from %s to %s", w.Flaw, w.Shown.NotBefore.UTC().Format("2006-01-02"),
				w.Shown.NotAfter.UTC().Format("2006-01-02")), "by the service's own clock the certificate is valid").
			next("Set this machine's clock, and let a time service keep it.",
				"If it comes back wrong after the machine was off, the battery on the board is empty.")
	},
}

// TLSFails: the service answers, and the secure connection does not come about.
var TLSFails = &Fault{
	ID: "tls-fails", Zone: zone.Beyond, Place: 140, Scope: OfEverybody | OfTarget, Matters: ByReach, Check: "service",
	Needs: []evidence.Kind{evidence.WebAnswer},
	Doc: `The secure connection does not come about
The service is reached and shows a certificate that this machine must refuse: it has run out, is for another name, or nobody whom this
machine trusts has signed it. The network is in order. Programs refuse, and browsers warn. Tell whoever runs the service, with the
certificate's name, issuer and dates; do not let users click the warning away.`,
	Judge: func(p *facts.Facts) Finding {
		w, ok := flawed(p)
		switch {
		case p.Target.URL == "" || !p.Target.TLS:
			return cleared("no secure connection was asked for")
		case !ok && secure(p):
			return cleared("the secure connection comes about")
		case !ok && slices.ContainsFunc(p.Webs, func(w evidence.Web) bool { return w.Spoke != "" }):
			return cleared("what answers there speaks another protocol")
		case !ok:
			return possible("no certificate has been seen")
		}
		reasons := []string{w.Flaw.String()}
		if len(w.Shown.Names) > 0 {
			reasons = append(reasons,
				fmt.Sprintf("it is for %s, issued by %s, valid from %s to %s", strings.Join(w.Shown.Names, ", "), w.Shown.Issuer,
					w.Shown.NotBefore.UTC().Format("2006-01-02"), w.Shown.NotAfter.UTC().Format("2006-01-02")))
		}
		standing := Confirmed
		off, known := clockOff(w)
		switch {
		case w.Flaw == evidence.NoSecureConnection:
			standing = Supported
			reasons = append(reasons, w.Reason)
		case known && off.Abs() >= clockMatters && (w.Flaw == evidence.CertificateExpired || w.Flaw == evidence.CertificateNotYetValid) &&
			w.Shown.ValidAt(w.Date):
			return cleared("by the service's own clock the certificate is valid: this machine's is off")
		case known:
			reasons = append(reasons, "the service's clock agrees with this machine's")
		case w.Flaw == evidence.CertificateExpired || w.Flaw == evidence.CertificateNotYetValid:
			standing = Supported
		}
		f := found(standing, fmt.Sprintf("%s answers, and the secure connection fails: %v.", p.Target.Host(), w.Flaw), reasons...)
		if p.OnLink(w.To.Addr()) {
			f = f.in(zone.LocalSubnet)
		}
		return f.next(fmt.Sprintf("Tell whoever runs %s: %v.", p.Target.Host(), w.Flaw))
	},
}

// OneFamilyBroken: the target works over one family of addresses and not over the other.
var OneFamilyBroken = &Fault{
	ID: "one-family-broken", Zone: zone.Beyond, Place: 150, Scope: OfEverybody, Matters: ByReach, Check: "service",
	Needs: []evidence.Kind{evidence.NameLookup, evidence.ServiceConnect, evidence.RouteLookup, evidence.WebAnswer},
	Explains: []ID{"destination-silent", "destination-unreachable", "service-filtered", "service-refused", "path-stops", "routing-loop",
		"prohibited-by-policy"},
	Doc: `One of the two address families does not work
The target's name has IPv4 and IPv6 addresses, this machine has a way for both, and only one of them works. Programs that try the broken
one first hang until they fall back, so that everything is slow at the beginning, or fails in some programs only. It is taken for a slow
service. Mend the broken family, or take its address out of the name until it is.`,
	Judge: func(p *facts.Facts) Finding {
		var works, broken []netip.Addr
		for _, a := range p.Addresses {
			r, known := p.RouteTo(a)
			if known && r.Verdict != endpoint.Forward {
				continue
			}
			switch p.Acid(a) {
			case facts.Yes:
				works = append(works, a)
			case facts.No:
				broken = append(broken, a)
			case facts.Unknown:
				return possible("not every address of the target has been tried")
			}
		}
		if p.IsOpen(evidence.NameLookup) && p.NeedsName() && (len(works) == 0 || len(broken) == 0) {
			return possible("not every address of the target is known yet")
		}
		if len(works) == 0 || len(broken) == 0 || works[0].Is6() == broken[0].Is6() {
			return cleared("no family of addresses works alone")
		}
		for _, a := range works {
			if a.Is6() == broken[0].Is6() {
				return cleared("%v of the same family works", a)
			}
		}
		bad, good := "IPv6", "IPv4"
		if broken[0].Is4() {
			bad, good = good, bad
		}
		reasons := []string{fmt.Sprintf("%s %v works", good, works[0]), fmt.Sprintf("%s %v does not", bad, broken[0])}
		z := zone.Beyond
		if r, ok := p.RouteTo(broken[0]); ok && r.Via.IsValid() {
			if n, asked := p.Neighbour(r.Via); asked && n.Outcome == evidence.Silent {
				z = zone.LocalSubnet
				reasons = append(reasons, fmt.Sprintf("the %s gateway %v does not answer", bad, r.Via))
			}
		}
		for _, t := range p.Trails {
			if last, ok := t.Last(); ok && t.To == broken[0] && !t.Reached {
				reasons = append(reasons, fmt.Sprintf("the path of %s ends after %v, hop %d", bad, last.From, last.HopLimit))
			}
		}
		return found(Confirmed,
			fmt.Sprintf("%s is reached over %s and not over %s: programs that try %s first hang.", p.Target.Host(), good, bad, bad),
			reasons...).in(z).
			next(fmt.Sprintf("Have %s to %v mended, or its address taken out of the name %s until it is.", bad, broken[0], p.Target.Host()),
				fmt.Sprintf("Meanwhile: passepartout check %s -%s shows that %s works.", p.Target,
					map[bool]string{true: "4", false: "6"}[broken[0].Is6()], good))
	},
}

// slowAnswer is how long a service may take over an answer: people turn away after a few seconds.
const slowAnswer = 3 * time.Second

// ServiceSlow: the service takes long over its answers.
var ServiceSlow = &Fault{
	ID: "service-slow", Zone: zone.Beyond, Place: 167, Scope: OfEverybody | OfTarget, Matters: WhereSomethingPasses, Check: "service",
	Needs: []evidence.Kind{evidence.WebAnswer}, OfQuality: true,
	Doc: `The service is slow to answer
A connection to the service opens at once, and the answer to a request takes seconds: the machine there is overloaded, or waits for another
one. The network is in order all the way, and is blamed all the same. Give the two times to whoever runs the service.`,
	Judge: func(p *facts.Facts) Finding {
		if p.Target.URL == "" {
			return cleared("no page was asked for")
		}
		if x, is := p.Proxied(); is && x.Asked {
			return cleared("the page was asked for through a proxy")
		}
		for _, c := range p.Connects {
			for _, w := range p.Webs {
				if w.To != c.To || w.Via != "" || c.Outcome != evidence.Answered {
					continue
				}
				connected := fmt.Sprintf("a connection to %v opens in %s", c.To, wording.Millis(c.RTT))
				mend := fmt.Sprintf("Tell whoever runs %s that a connection takes %s there, and an answer %s or more.", p.Target.Host(),
					wording.Millis(c.RTT), wording.Millis(max(w.RTT, w.Waited)))
				switch {
				case w.Outcome == evidence.Answered && w.RTT >= slowAnswer:
					return found(Confirmed, fmt.Sprintf("%s accepts connections at once, and answers a request after %s.", p.Target.Host(),
						wording.Millis(w.RTT)), connected, fmt.Sprintf("the answer to a request came after %s", wording.Millis(w.RTT))).
						in(p.TargetZone()).next(mend)
				case w.Outcome == evidence.Silent && w.Waited >= slowAnswer && p.IsOpen(evidence.PacketSize, evidence.LossProbes):
					return possible("whether large packets reach the service is still being asked")
				case w.Outcome == evidence.Silent && w.Waited >= slowAnswer:
					return found(Supported,
						fmt.Sprintf("%s accepts connections, and has not answered a request within %s.", p.Target.Host(),
							wording.Millis(w.Waited)), connected, "no answer to a request").in(p.TargetZone()).next(mend)
				}
			}
		}
		if p.IsOpen(evidence.WebAnswer) {
			return possible("the service has not been asked to an end")
		}
		return cleared("no answer of the service took %s", wording.Millis(slowAnswer))
	},
}

// ServiceSpeaksOtherwise: whoever listens there is not who was meant.
var ServiceSpeaksOtherwise = &Fault{
	ID: "service-speaks-otherwise", Zone: zone.Beyond, Place: 165, Scope: OfEverybody | OfTarget, Matters: ByReach, Check: "service",
	Needs: []evidence.Kind{evidence.WebAnswer},
	Doc: `The service speaks another protocol
The service is reached and answers, and not in the protocol that was asked for: another program listens on that port, plain pages are
served where secure ones were expected, or the port number is that of something else. The network is in order all the way. Compare the
address and the port with those that work for others, and tell whoever runs the service.`,
	Judge: func(p *facts.Facts) Finding {
		if p.Target.URL == "" {
			return cleared("no page was asked for")
		}
		for _, w := range p.Webs {
			if w.Spoke == "" || w.Via != "" {
				continue
			}
			wanted := "HTTP"
			if p.Target.TLS {
				wanted = "TLS"
			}
			return found(Confirmed, fmt.Sprintf("%s answers on port %d, and not in %s.", p.Target.Host(), w.To.Port(), wanted),
				fmt.Sprintf("%v begins with: %s", w.To, w.Spoke)).
				next("Compare the port, and http with https, with what works for others.",
					fmt.Sprintf("Tell whoever runs %s what listens on port %d there.", p.Target.Host(), w.To.Port()))
		}
		if p.IsOpen(evidence.WebAnswer) {
			return possible("the service has not been asked to an end")
		}
		return cleared("nothing came that is no answer to the request")
	},
}
