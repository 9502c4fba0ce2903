package facts

import (
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strings"

	"golang.org/x/net/publicsuffix"

	"passepartout/internal/core/evidence"
)

// statusLoginNeeded is "Network Authentication Required": somebody in between says it, and never the service itself (RFC 6585 §6).
const statusLoginNeeded = 511

// unrestricted is what option 114 holds where the network says that nobody has to log in (RFC 8910 §2).
const unrestricted = "urn:ietf:params:capport:unrestricted"

// sentAway gives the host to which an answer sends its asker, if that lies outside the target's domain.
func (f *Facts) sentAway(w evidence.Web) (host string, is bool) {
	if w.Outcome != evidence.Answered || w.Status/100 != 3 || w.Location == "" {
		return "", false
	}
	to, err := url.Parse(w.Location)
	if err != nil || to.Hostname() == "" {
		return "", false
	}
	host = strings.ToLower(strings.TrimSuffix(to.Hostname(), "."))
	if host == strings.ToLower(f.Target.Host()) {
		return "", false
	}
	here, err1 := publicsuffix.EffectiveTLDPlusOne(f.Target.Host())
	there, err2 := publicsuffix.EffectiveTLDPlusOne(host)
	return host, err1 != nil || err2 != nil || here != there // an address in a name's place is another host too
}

// Nearer is a connection to the target that was accepted by somebody who is nearer than the target: its packets could not have gone that
// far.
func (f *Facts) Nearer(a netip.Addr) (evidence.ShortConnect, bool) {
	for _, s := range f.Shorts {
		if s.To.Addr() != a || s.Outcome != evidence.Answered {
			continue
		}
		for _, h := range f.Hops {
			if h.To == a && h.HopLimit == s.HopLimit && h.Outcome == evidence.Expired { // the way goes on there
				return s, true
			}
		}
	}
	return evidence.ShortConnect{}, false
}

// nearerPerhaps reports that a connection was accepted with a small hop limit, and that it is not known yet who stands there.
func (f *Facts) nearerPerhaps(a netip.Addr) bool {
	for _, s := range f.Shorts {
		if s.To.Addr() == a && s.Outcome == evidence.Answered && f.IsOpen(evidence.PathTrace) &&
			!slices.ContainsFunc(f.Hops, func(h evidence.Hop) bool { return h.To == a && h.HopLimit == s.HopLimit }) {
			return true
		}
	}
	return false
}

// Between tells that an answer to a web request came from somebody in between, and why that is so.
func (f *Facts) Between(w evidence.Web) (why string, sure, is bool) {
	if w.Outcome != evidence.Answered && (w.Flaw == evidence.NoFlaw || w.Flaw == evidence.NoSecureConnection) {
		return "", false, false // nobody has shown who he is
	}
	if strings.HasPrefix(w.URL, "https:") && w.Flaw == evidence.NoFlaw {
		// a good certificate is proof of the service itself, wherever it sends: to a log-in of its own elsewhere, perhaps
		return "", false, false
	}
	if w.Status == statusLoginNeeded {
		return "the answer has status 511: this network wants a log-in", true, true
	}
	s, nearer := f.Nearer(w.To.Addr())
	if host, is := f.sentAway(w); is {
		if nearer {
			return NearerWords(s) + ", and sends to " + host, true, true
		}
		return fmt.Sprintf("the answer sends to %s, outside the domain of %s", host, f.Target.Host()), false, true
	}
	// A relay that names itself passes on in good faith (RFC 9110 §7.6.3), and so does one that has no answer where nobody is.
	nearer = nearer && (w.Flaw == evidence.NoFlaw || f.Target.Name != "") // an address is no name that a certificate could be for
	nobody := f.AnswersForNobody()
	if !nearer || w.Relay != "" || w.Flaw == evidence.NoFlaw && nobody == No {
		return "", false, false
	}
	return NearerWords(s), w.Flaw != evidence.NoFlaw || nobody == Yes, true
}

// AnswersForNobody reports whether somebody in between answers web requests in the name of an address that no host has.
func (f *Facts) AnswersForNobody() Answer {
	for _, w := range f.Webs {
		if w.To.Addr() == evidence.Unassigned && w.Outcome != evidence.NotKnown {
			return Known(w.Outcome == evidence.Answered && w.Relay == "" && w.Status/100 < 5)
		}
	}
	return Unknown
}

// Through reports whether what was asked of an address comes through somebody nearer who accepts its connections: a relay, a filter of this
// machine or the gateway's, a proxy that nobody was told of. Unknown where the service does not tell it.
func (f *Facts) Through(a netip.Addr) Answer {
	for _, w := range f.Webs {
		if w.To.Addr() != a || w.Via != "" || w.Outcome == evidence.NotKnown {
			continue
		}
		if f.Target.Name == "" && f.Target.URL == "" && w.Flaw != evidence.NoFlaw && w.Flaw != evidence.NoSecureConnection {
			return Unknown // there is a certificate, and no name that it could be compared with
		}
		_, _, stranger := f.Between(w)
		return Known(w.Outcome == evidence.Answered && w.Flaw == evidence.NoFlaw && !stranger)
	}
	return Unknown
}

// Relayed reports that somebody nearer accepts the target's connections, and that nothing shows whether they come through to it.
func (f *Facts) Relayed(a netip.Addr) bool {
	_, is := f.Nearer(a)
	return is && f.Through(a) == Unknown
}

// Stranger tells that somebody in between has answered in the target's place, and why that is so.
func (f *Facts) Stranger() (why string, is bool) {
	for _, w := range f.Webs {
		if why, _, is := f.Between(w); is && w.Via == "" {
			return why, true
		}
	}
	for _, a := range f.Addresses {
		if s, is := f.Nearer(a); is && f.Through(a) == No {
			return NearerWords(s), true
		}
	}
	return "", false
}

// NearerWords tells of a connection that somebody nearer than the target accepts.
func NearerWords(s evidence.ShortConnect) string {
	return fmt.Sprintf("a connection to %v is accepted with a hop limit of %d, and the way there is longer", s.To, s.HopLimit)
}

// NamedPortal is the captive portal that the network names, and who does and how: a DHCP server, a DHCPv6 server or a router (RFC 8910
// §2).
// What the lease in force says counts most.
func (f *Facts) NamedPortal() (uri, by string) {
	name := func(portal, how string, who any) {
		if portal != "" {
			uri, by = portal, fmt.Sprintf("%v, by %s,", who, how)
		}
	}
	for _, r := range f.Routers6 {
		name(r.CaptivePortal, "router advertisement", r.Router)
	}
	for _, i := range f.Informed6 {
		name(i.CaptivePortal, "DHCPv6 option 103", i.From)
	}
	offers, _ := f.OffersSeen()
	for _, o := range offers {
		name(o.Terms.CaptivePortal, "DHCP option 114", o.Server)
	}
	if l, ok := f.Lease(); ok {
		name(l.Terms.CaptivePortal, "DHCP option 114", l.Terms.Server)
	}
	if uri == unrestricted {
		return "", ""
	}
	return uri, by
}
