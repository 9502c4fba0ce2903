package exchange

import (
	"fmt"
	"net/netip"
	"strings"
	"time"
)

// How long an answer is waited for: a client of DHCP repeats itself after four seconds, then eight (RFC 2131 §4.1); a responder of mDNS
// answers within half a second (RFC 6762 §6).
const (
	leaseFor = 20 * time.Second
	groupFor = 3 * time.Second
)

// Letting is a message of DHCP.
type Letting struct {
	From, To netip.AddrPort
	XID      uint32
	Client   string // who it is about: hardware address, and name if it gives one
	Answers  bool   // from a server
	What     string // the message and what it holds
	// Outcome is Unanswered for a message that wants an answer, Answered and Refused for one that ends the exchange, Waiting for an
	// offer, after which the client has to ask, and Said for one that nobody answers.
	Outcome Outcome
}

// Lease takes a message of DHCP in. Messages with one transaction number about one client are one exchange.
func (t *Tracker) Lease(at time.Time, frame int, l Letting) {
	t.Pass(at)
	k := key{kind: Lease, name: fmt.Sprintf("%08x %s", l.XID, l.Client)}
	x := t.open[k]
	switch {
	case !l.Answers && l.Outcome == Said:
		t.ended(Exchange{Kind: Lease, From: l.From, To: l.To, Asked: l.Client + ": " + l.What, Outcome: Said, Began: at, Asks: 1,
			First: frame, Last: frame})
	case !l.Answers && x != nil: // the next step of the same, or once more the one before
		if strings.HasSuffix(x.Asked, l.What) {
			x.Asks++
		} else if len(x.Asked) < mostWords {
			x.Asked += ", " + l.What
		}
		x.Outcome, x.Last, x.until = Unanswered, frame, at.Add(leaseFor)
	case !l.Answers:
		t.ask(at, frame, k, Exchange{Kind: Lease, From: l.From, To: l.To, Asked: l.Client + ": " + l.What}, leaseFor)
	case x == nil:
	default:
		before := x.Answer
		x.answer(at, frame, l.Outcome, l.What)
		if before != "" && len(before) < mostWords && !strings.Contains(before, l.What) {
			x.Answer = before + ", " + l.What
		}
		if l.Outcome == Waiting {
			x.Outcome = Answered
			return
		}
		x.Took = max(at.Sub(x.Began), 1) // until it is settled
		t.end(x)
	}
}

// mostWords is up to which length the steps of one exchange are added to its words.
const mostWords = 400

// InGroup takes a question or one record of an answer of mDNS in: whoever has the name answers all that asked.
func (t *Tracker) InGroup(at time.Time, frame int, q Query) {
	t.Pass(at)
	k := key{kind: Group, name: q.Name + " " + q.Type}
	if !q.Answers {
		t.ask(at, frame, k, Exchange{Kind: Group, From: q.From, To: q.To, Asked: k.name}, groupFor)
		return
	}
	if x := t.open[k]; x != nil {
		before := x.Answer
		x.answer(at, frame, Answered, q.Records)
		if before != "" && len(before) < mostWords && !strings.Contains(before, q.Records) {
			x.Answer = before + ", " + q.Records
		}
	}
}

// Announcement is what a device at the other end of the cable says of itself.
type Announcement struct {
	From    netip.Addr // by which it is managed, if it says so
	Who     string     // its hardware address
	What    string
	Leaving bool // it says that it is no longer so
}

// mostDevices are remembered: what one says again is no news.
const mostDevices = 256

// Announce takes an announcement in: one that says what was said before is left out.
func (t *Tracker) Announce(at time.Time, frame int, a Announcement) {
	t.Pass(at)
	if t.said[a.Who] == a.What && !a.Leaving {
		return
	}
	if len(t.said) >= mostDevices {
		clear(t.said)
	}
	t.said[a.Who] = a.What
	e := Exchange{Kind: Device, Asked: a.Who + " says of itself", Answer: a.What, Outcome: Said, Began: at, Asks: 1, First: frame,
		Last: frame}
	if a.From.IsValid() {
		e.From = netip.AddrPortFrom(a.From, 0)
	}
	if a.Leaving {
		delete(t.said, a.Who)
		e.Answer = "it is no longer there"
	}
	t.ended(e)
}
