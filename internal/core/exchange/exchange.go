// Package exchange puts the frames of a segment together to what a technician reads: who asked for a hardware address and who answered,
// what was looked up, which addresses were let, which connections were opened, refused and reset, and what was said to be unreachable. The
// same tracker serves what is heard and what stands in a capture.
package exchange

import (
	"cmp"
	"net/netip"
	"slices"
	"time"

	"passepartout/internal/core/endpoint"
)

// Kind is what an exchange is about.
type Kind string

// The kinds.
const (
	Address   Kind = "arp"  // by ARP (RFC 826)
	Neighbour Kind = "nd"   // by neighbour discovery (RFC 4861 §7.2)
	LookUp    Kind = "dns"  // RFC 1035
	Opening   Kind = "tcp"  // RFC 9293 §3.5
	Error     Kind = "icmp" // an ICMP error (RFC 792, RFC 4443 §3)
	Lease     Kind = "dhcp" // RFC 2131
	Group     Kind = "mdns" // a look-up of which the whole segment is asked (RFC 6762)
	Device    Kind = "lldp" // what the device at the other end of the cable says of itself (IEEE 802.1AB)
)

// Outcome is what became of it.
type Outcome string

// The outcomes.
const (
	Unanswered Outcome = "unanswered"
	Free       Outcome = "free"  // an address was probed (RFC 5227 §2.1, RFC 4862 §5.4), and nobody has it
	Taken      Outcome = "taken" // and somebody has
	Answered   Outcome = "answered"
	Refused    Outcome = "refused" // a reset to the opening; a look-up that the server would not do
	Failed     Outcome = "failed"  // a look-up: the server could not
	NoSuch     Outcome = "no-such-name"
	Reset      Outcome = "reset"   // an open connection was broken off
	Closed     Outcome = "closed"  // in order, by one end
	Waiting    Outcome = "waiting" // it is under way
	Told       Outcome = "told"    // of an error
	Said       Outcome = "said"    // of what nobody has to answer
)

// Exchange is one of them.
type Exchange struct {
	Kind     Kind
	From, To netip.AddrPort // without ports where there are none
	Asked    string
	Answer   string
	Outcome  Outcome
	Began    time.Time
	Took     time.Duration // until the answer; zero: there was none
	Asks     int           // how often it was asked
	First    int           // the number of its first frame in the file, and of its last
	Last     int
	// Holders are the hardware addresses that answered for an address: more than one is a conflict.
	Holders []endpoint.HardwareAddr
}

// Resolution is a frame of ARP or neighbour discovery.
type Resolution struct {
	V6       bool
	Answers  bool
	From     netip.Addr // who asks, or answers
	For      netip.Addr
	Hardware endpoint.HardwareAddr // of whoever answers
}

// Query is a message of DNS.
type Query struct {
	From, To netip.AddrPort
	ID       uint16
	Answers  bool
	Name     string // cleaned, in lower case
	Type     string
	RCode    int
	Records  string
}

// Segment is one of TCP.
type Segment struct {
	From, To           netip.AddrPort
	SYN, ACK, RST, FIN bool
}

// Trouble is an ICMP error, and what it quotes.
type Trouble struct {
	From, To netip.AddrPort // of the error, without ports
	What     string
	About    string // whose packet, to whom
}

// Until when an answer is waited for, in the time of the frames.
const (
	addressFor = 3 * time.Second
	lookUpFor  = 15 * time.Second
	openingFor = 2 * time.Minute
	// a connection that was opened is followed no longer than that after its last opening or closing
	openFor = time.Hour
)

// most are followed at once: a flood makes the oldest count as unanswered, and takes no more memory.
const most = 16_384

type key struct {
	kind     Kind
	from, to netip.AddrPort
	id       uint16
	name     string
}

type followed struct {
	Exchange
	key   key
	until time.Time
	open  bool
}

// Tracker follows exchanges. Each is handed out once, when it is over.
type Tracker struct {
	ended   func(Exchange)
	open    map[key]*followed
	order   []*followed // by when they began; those that are over are left out lazily
	now     time.Time
	said    map[string]string // by hardware address, what devices said of themselves last
	Crowded int               // exchanges that were given up since too many were open
}

// NewTracker gives a tracker that hands out what is over.
func NewTracker(ended func(Exchange)) *Tracker {
	return &Tracker{ended: ended, open: map[key]*followed{}, said: map[string]string{}}
}

// Resolve takes a frame of address resolution in.
func (t *Tracker) Resolve(at time.Time, frame int, r Resolution) {
	t.Pass(at)
	k := key{kind: Address, to: netip.AddrPortFrom(r.For, 0)}
	if r.V6 {
		k.kind = Neighbour
	}
	if r.Answers { // it answers for itself: whoever asked for that address is answered
		k.to = netip.AddrPortFrom(r.From, 0)
		probe := k
		probe.name = "probe"
		for _, of := range []key{k, probe} {
			x := t.open[of]
			if x == nil {
				continue
			}
			outcome := Answered
			if of == probe {
				outcome = Taken
			}
			x.answer(at, frame, outcome, r.Hardware.String())
			if !slices.Contains(x.Holders, r.Hardware) {
				x.Holders = append(x.Holders, r.Hardware)
				x.Answer = ""
				for i, h := range x.Holders {
					if i > 0 {
						x.Answer += ", "
					}
					x.Answer += h.String()
				}
			}
		}
		return
	}
	asked := "who has "
	if !r.From.IsValid() || r.From.IsUnspecified() { // whoever wants to have it asks without an address of its own
		asked = "is it free, "
		k.name = "probe"
	}
	t.ask(at, frame, k, Exchange{Kind: k.kind, From: netip.AddrPortFrom(r.From, 0), To: k.to, Asked: asked + r.For.String()}, addressFor)
}

// LookUp takes a message of DNS in.
func (t *Tracker) LookUp(at time.Time, frame int, q Query) {
	t.Pass(at)
	k := key{LookUp, q.From, q.To, q.ID, q.Name + " " + q.Type}
	if !q.Answers {
		t.ask(at, frame, k, Exchange{Kind: LookUp, From: q.From, To: q.To, Asked: q.Name + " " + q.Type}, lookUpFor)
		return
	}
	k.from, k.to = q.To, q.From
	x := t.open[k]
	if x == nil {
		return
	}
	outcome := Answered
	switch q.RCode {
	case 0:
	case 3:
		outcome = NoSuch
	case 5:
		outcome = Refused
	default:
		outcome = Failed
	}
	x.answer(at, frame, outcome, q.Records)
	t.end(x)
}

// Segment takes one of TCP in: of what is not about opening or ending, nothing is kept.
func (t *Tracker) Segment(at time.Time, frame int, s Segment) {
	t.Pass(at)
	if !s.SYN && !s.RST && !s.FIN {
		return
	}
	forth, back := key{kind: Opening, from: s.From, to: s.To}, key{kind: Opening, from: s.To, to: s.From}
	switch {
	case s.SYN && !s.ACK:
		if x := t.open[forth]; x != nil && x.open { // the same ports again: another connection
			t.end(x)
		}
		t.ask(at, frame, forth, Exchange{Kind: Opening, From: s.From, To: s.To, Asked: "a connection"}, openingFor)
		return
	case s.SYN:
		if x := t.open[back]; x != nil && !x.open {
			x.answer(at, frame, Answered, "opened")
			x.open, x.until = true, at.Add(openFor)
		}
		return
	}
	x, of := t.open[forth], "this end"
	if x == nil {
		x, of = t.open[back], "the other end"
	}
	if x == nil {
		return
	}
	switch {
	case s.RST && !x.open:
		if of == "this end" { // given up by whoever asked
			x.Last = frame
			t.end(x)
			return
		}
		x.answer(at, frame, Refused, "a reset")
	case s.RST:
		x.Outcome, x.Answer, x.Last = Reset, "broken off by "+of, frame
	case x.open:
		x.Outcome, x.Answer, x.Last = Closed, "closed by "+of, frame
	default:
		return
	}
	t.end(x)
}

// Trouble takes an ICMP error in: it is an exchange of its own.
func (t *Tracker) Trouble(at time.Time, frame int, e Trouble) {
	t.Pass(at)
	t.ended(Exchange{Kind: Error, From: e.From, To: e.To, Asked: e.About, Answer: e.What, Outcome: Told, Began: at, Asks: 1, First: frame,
		Last: frame})
}

// End hands out all that is still open.
func (t *Tracker) End() {
	for _, x := range t.order {
		if t.open[x.key] == x {
			t.end(x)
		}
	}
	t.order = nil
}

func (t *Tracker) ask(at time.Time, frame int, k key, e Exchange, lasts time.Duration) {
	if x := t.open[k]; x != nil {
		x.Asks++
		x.Last, x.until = frame, at.Add(lasts)
		return
	}
	e.Outcome, e.Began, e.Asks, e.First, e.Last = Unanswered, at, 1, frame, frame
	x := &followed{Exchange: e, key: k, until: at.Add(lasts)}
	t.open[k] = x
	t.order = append(t.order, x)
	for len(t.open) > most {
		t.Crowded++
		t.drop()
	}
	if len(t.order) > 4*most { // most of them are over
		t.order = slices.DeleteFunc(t.order, func(x *followed) bool { return t.open[x.key] != x })
	}
}

// drop ends the oldest that is open.
func (t *Tracker) drop() {
	for len(t.order) > 0 {
		x := t.order[0]
		t.order = t.order[1:]
		if t.open[x.key] == x {
			t.end(x)
			return
		}
	}
}

// Open gives what is under way.
func (t *Tracker) Open() (out []Exchange) {
	for _, x := range t.order {
		if t.open[x.key] != x {
			continue
		}
		e := x.Exchange
		e.Holders = slices.Clone(e.Holders)
		if e.Outcome == Unanswered {
			e.Outcome = Waiting
		}
		out = append(out, e)
	}
	return out
}

// Pass ends what nobody answers any more by a time.
func (t *Tracker) Pass(at time.Time) {
	if at.Before(t.now.Add(time.Second)) { // or earlier: frames may stand in a file in another order than that of their times
		return
	}
	t.now = at
	kept := t.order[:0]
	for _, x := range t.order {
		switch {
		case t.open[x.key] != x:
		case at.After(x.until):
			t.end(x)
		default:
			kept = append(kept, x)
		}
	}
	clear(t.order[len(kept):])
	t.order = kept
}

func (t *Tracker) end(x *followed) {
	delete(t.open, x.key)
	if x.Outcome == Unanswered && x.key.name == "probe" && (x.Kind == Address || x.Kind == Neighbour) {
		x.Outcome = Free
	}
	t.ended(x.Exchange)
}

func (x *followed) answer(at time.Time, frame int, o Outcome, words string) {
	if x.Took == 0 {
		x.Took = max(at.Sub(x.Began), 1)
		x.Answer = words
	}
	x.Outcome, x.Last = o, frame
}

// Sort puts exchanges in the order in which they began.
func Sort(list []Exchange) {
	slices.SortStableFunc(list, func(a, b Exchange) int { return cmp.Or(a.Began.Compare(b.Began), cmp.Compare(a.First, b.First)) })
}
