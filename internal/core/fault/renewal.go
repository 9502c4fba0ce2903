package fault

import (
	"fmt"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/lease"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

var renewalFaults = []*Fault{LeaseUnanswered}

// LeaseUnanswered: the lease is due for renewal, and nobody renews it.
var LeaseUnanswered = &Fault{
	ID: "lease-unanswered", Zone: zone.LocalSubnet, Place: 80, Scope: OfPlace, Matters: ByReach, Check: "dhcp",
	Needs: []evidence.Kind{evidence.Settings, evidence.DHCPOffer},
	Doc: `Nobody renews the lease
The lease is past the moment at which its client renews it (T1, RFC 2131 §4.4.5), it has not been renewed, and no DHCP server answers.
Everything works until the lease ends; then the address is gone, and the user calls. It is not a dead client: that one does not ask, and a
server answers when it is asked. See that the DHCP server is up and that its answers reach this segment, before the time that is named.`,
	Judge: func(p *facts.Facts) Finding {
		l, ok := p.Lease()
		if !ok || l.Client == "" || l.Endless {
			return cleared("no lease is in force that would have to be renewed")
		}
		offers, over := p.OffersSeen()
		due, rebinding := overdueSince(l, p.Endpoint.At)
		switch {
		case due.IsZero():
			return cleared("the lease is %s", l.At(p.Endpoint.At))
		case len(offers) > 0:
			return cleared("%v answers now: it could renew the lease", offers[0].Server)
		case !over && !p.IsWithheld(evidence.DHCPOffer):
			return possible("the lease is due for renewal, and no DHCP server has answered yet").awaiting(evidence.DHCPOffer).aside(true)
		case !over && !rebinding:
			return possible("the lease is due for renewal, and whether a DHCP server answers could not be asked")
		}
		reason := fmt.Sprintf("the lease of %v should have been renewed since %s", l.Terms.Address, wording.Clock(due.Local()))
		sentence := fmt.Sprintf("Nobody renews the lease of %v: due since %s, it ends at %s, and the address with it.", l.Terms.Address,
			wording.Clock(due.Local()),
			wording.Clock(l.Expires.Local()))
		reasons := []string{reason}
		if over {
			reasons = append(reasons, "no DHCP server answers when it is asked now")
		}
		return found(Supported, sentence, reasons...).aside(true).
			next(fmt.Sprintf("See that the DHCP server is up and reaches this segment, before %s.", l.Expires.Local().Format("15:04")))
	},
}

// renewalGrace is how long after T1 a renewal may take before it counts as unanswered: a part of the time that RFC 2131 §4.4.5 leaves for
// it, at most a minute.
const renewalGrace = time.Minute

// overdueSince is since when the lease should have been renewed; zero if it need not have been. rebinding: T2 is past.
func overdueSince(l lease.Lease, now time.Time) (since time.Time, rebinding bool) {
	switch l.At(now) {
	case lease.Rebinding:
		return l.T1, true
	case lease.Renewing:
		due := l.T1
		if l.Plan.After(due) { // the client means to renew later
			due = l.Plan
		}
		if now.Sub(due) > min((l.T2.Sub(l.T1))/4, renewalGrace) {
			return due, false
		}
	}
	return time.Time{}, false
}
