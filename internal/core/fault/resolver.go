package fault

import (
	"net/netip"
	"time"

	"passepartout/internal/core/evidence"
)

// ResolverFact is what is known of one resolver.
type ResolverFact struct {
	Address netip.Addr
	OnLink  bool // on the segment, or on this machine itself
	Behind  bool // asked by a local stub, not by programs
	Asked   bool
	Speaks  Answer // any DNS message came back
	Closed  bool   // port unreachable: a host is there, no service
	RCode   string // the worst that it said
	Has     bool   // it gave addresses for the name
	Missing bool   // it says that the name does not exist, or has no address
	Mute    bool   // it lives, and gives no answer about the name
	NotSent string // why this machine did not ask
	Pings   Answer // it answers echo
	RTT     time.Duration
}

// Serves reports whether programs can have names from it.
func (r ResolverFact) Serves() bool {
	return r.Speaks == Yes && r.RCode == "" && !r.Mute && !r.Behind
}

func (p *Pass) resolvers() (out []ResolverFact) {
	if p.Endpoint == nil {
		return nil
	}
	for _, a := range p.Endpoint.AskedResolvers() {
		f := ResolverFact{Address: a, OnLink: p.OnLink(a) || p.own(a) || a.IsLoopback(), Behind: p.Endpoint.Behind(a)}
		silent, mute, none := false, false, false
		for _, l := range p.Lookups {
			if l.Server != a {
				continue
			}
			f.Asked = true
			switch l.Outcome {
			case evidence.Answered:
				f.Speaks, f.RTT = Yes, l.RTT
				switch {
				case !l.AboutTarget():
				case len(l.Addresses) > 0:
					f.Has = true
				case l.RCode == "NXDOMAIN" || l.RCode == "NOERROR":
					f.Missing = true
					none = none || l.RCode == "NXDOMAIN"
				}
				if l.AboutTarget() && l.RCode != "NOERROR" && l.RCode != "NXDOMAIN" {
					f.RCode = l.RCode
				}
			case evidence.Refused:
				f.Closed = true
			case evidence.Silent, evidence.Unreachable, evidence.Expired, evidence.Malformed:
				silent = true
				mute = mute || l.AboutTarget()
			case evidence.LocalError:
				f.NotSent = l.Reason
			}
		}
		// No address in one family says nothing while the question about the other is unanswered; that the name does not exist says all.
		f.Missing = f.Missing && !f.Has && (none || !mute)
		f.Mute = f.Speaks == Yes && mute && !f.Has && !f.Missing && f.RCode == ""
		if f.Speaks == Unknown && (silent || f.Closed) {
			f.Speaks = No
		}
		p.eachReply(func(asked netip.Addr, r evidence.Reply, _ int) {
			if asked == a && r.From == a && r.Came() {
				f.Pings = Yes
			}
		})
		if n, ok := p.Neighbour(a); ok && f.OnLink && n.Outcome == evidence.Answered {
			f.Pings = Yes
		}
		out = append(out, f)
	}
	return out
}
