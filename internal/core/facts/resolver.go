package facts

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
	Speaks  Answer        // any DNS message came back
	Closed  bool          // port unreachable: a host is there, no service
	RCode   string        // the worst that it said
	Has     bool          // it gave addresses for the name
	Missing bool          // it says that the name does not exist, or has no address
	Mute    bool          // it lives, and gives no answer about the name
	Cut     bool          // its answers do not fit a datagram, and it is not reached by TCP
	Waited  time.Duration // how long it has kept silent about the target
	NotSent string        // why this machine did not ask
	Pings   Answer        // it answers echo
	RTT     time.Duration
}

func (f *Facts) resolvers() (out []ResolverFact) {
	if f.Endpoint == nil {
		return nil
	}
	for _, a := range f.Endpoint.AskedResolvers() {
		x := ResolverFact{Address: a, OnLink: f.OnLink(a) || f.Owns(a), Behind: f.Endpoint.Behind(a)}
		silent := false
		tried := map[string]*nameTried{} // by the names under which the target is looked up
		led := f.ledBy(a)
		for _, l := range f.Lookups {
			if l.Server != a || led != "" && l.AboutTarget() && l.Name != led {
				continue // of names that are tried before, or after, the one that has addresses nothing hangs
			}
			x.Asked = true
			if tried[l.Name] == nil && l.AboutTarget() {
				tried[l.Name] = &nameTried{}
			}
			switch l.Outcome {
			case evidence.Answered:
				x.Speaks, x.RTT = Yes, l.RTT
				switch {
				case !l.AboutTarget():
				case l.Cut:
					x.Cut, tried[l.Name].mute = true, true
				case len(l.Addresses) > 0:
					x.Has = true
				case l.RCode == "NXDOMAIN":
					tried[l.Name].none = true
				case l.RCode == "NOERROR":
					tried[l.Name].empty = true
				default:
					x.RCode = l.RCode
				}
			case evidence.Refused:
				x.Closed = true
			case evidence.Silent, evidence.Unreachable, evidence.Expired, evidence.Malformed:
				silent = true
				if l.AboutTarget() {
					x.Waited = max(x.Waited, l.Waited)
					tried[l.Name].mute = true
				}
			case evidence.LocalError:
				if l.Unheard() { // it left, as far as its hardware address was asked for, and nobody answered
					silent = true
					if l.AboutTarget() {
						tried[l.Name].mute = true
					}
					continue
				}
				x.NotSent = l.Reason
				if l.AboutTarget() {
					tried[l.Name].unasked = true
				}
			}
		}
		mute := false
		x.Missing = len(tried) > 0 && !x.Has
		for _, t := range tried {
			x.Missing = x.Missing && t.missing()
			mute = mute || t.mute
		}
		x.Mute = x.Speaks == Yes && mute && !x.Has && !x.Missing && x.RCode == ""
		if x.Speaks == Unknown && (silent || x.Closed) {
			x.Speaks = No
		}
		f.EachReply(func(asked netip.Addr, r evidence.Reply, _ int) {
			if asked == a && r.From == a && r.Came() {
				x.Pings = Yes
			}
		})
		if n, ok := f.Neighbour(a); ok && x.OnLink && n.Outcome == evidence.Answered {
			x.Pings = Yes
		}
		out = append(out, x)
	}
	return out
}

// nameTried is what a server says of one of the names under which the target is looked up.
type nameTried struct {
	none  bool // it does not exist
	empty bool // it has no address of some family
	mute  bool // a question about it was not answered

	unasked bool // a question about it could not be sent
}

// missing reports whether it leads to nothing. That it has no address of one family says so only if the question about the other was
// answered; that it does not exist says all.
func (t *nameTried) missing() bool { return t.none || t.empty && !t.mute && !t.unasked }

// ledBy is the name under which a server knows addresses of the target, as the system completes it; "" if it knows none.
func (f *Facts) ledBy(server netip.Addr) string {
	for _, l := range f.Lookups {
		if l.Server == server && l.AboutTarget() && l.Outcome == evidence.Answered && len(l.Addresses) > 0 {
			return l.Name
		}
	}
	return ""
}

// Serves reports whether programs can have names from it.
func (r ResolverFact) Serves() bool {
	return r.Speaks == Yes && r.RCode == "" && !r.Mute && !r.Behind
}
