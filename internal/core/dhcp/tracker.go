package dhcp

import (
	"container/list"
	"net/netip"
	"slices"
	"time"
)

// Config is how a tracker works. Zero fields take the usual values.
type Config struct {
	Most  int             // how many clients are followed at a time
	Ended func(*Exchange) // called for each exchange at its end; it then belongs to the callee
}

// MostClients is how many clients are followed at a time where nothing else is said. One takes some 3 kB while an exchange of four messages
// is open.
const MostClients = 16384

// Tracker puts messages together into exchanges. It is fed in the order of the wire, by one goroutine.
type Tracker struct {
	Counts   [Inform + 1]int // messages by type; index 0 holds those without one
	Messages int
	Evicted  int // exchanges that were closed early because too many clients were open at once

	config  Config
	clients map[Hardware]*list.Element
	recent  *list.List // of *client, the latest first
}

// client is what is followed of one client.
type client struct {
	hardware Hardware
	current  *Exchange
	// the one before, still without an answer when the client began the next: its answer may be on the way
	before *Exchange
	held   map[netip.Addr]netip.Addr // server to the address it gave
}

// NewTracker begins with nothing seen.
func NewTracker(c Config) *Tracker {
	if c.Most == 0 {
		c.Most = MostClients
	}
	return &Tracker{config: c, clients: map[Hardware]*list.Element{}, recent: list.New()}
}

// Take adds a message and gives the exchange to which it belongs, which may still change.
func (t *Tracker) Take(s Sighting) *Exchange {
	m := &s.Message
	t.Messages++
	if int(m.Type) < len(t.Counts) {
		t.Counts[m.Type]++
	} else {
		t.Counts[0]++
	}
	c := t.client(m.Client)
	if m.Reply && c.before != nil && c.before.hasXID(m.XID) && (c.current == nil || !c.current.hasXID(m.XID)) {
		c.before.take(s)
		c.before.remarkKnown(&s, c)
		return c.before
	}
	if c.current != nil && c.current.isOver(&s) {
		t.hand(c.before)
		c.before = nil
		if c.current.answer < 0 && !c.current.hasXID(m.XID) {
			c.before, c.current = c.current, nil
		} else {
			t.end(c)
		}
	}
	if c.current == nil {
		c.current = &Exchange{XID: m.XID, Client: m.Client, answer: -1}
	}
	c.current.take(s)
	c.current.remarkKnown(&s, c)
	if m.Type == Ack && m.Your.IsValid() && m.Server().IsValid() {
		if len(c.held) >= 8 {
			clear(c.held)
		}
		c.held[m.Server()] = m.Your
	}
	return c.current
}

func (t *Tracker) client(h Hardware) *client {
	if el := t.clients[h]; el != nil {
		t.recent.MoveToFront(el)
		return el.Value.(*client)
	}
	if len(t.clients) >= t.config.Most {
		oldest := t.recent.Back()
		c := oldest.Value.(*client)
		if c.current != nil && c.current.answer < 0 {
			t.Evicted++
			c.current.Remarks = append(c.current.Remarks, "closed early: too many clients were open at once")
		}
		t.end(c)
		t.recent.Remove(oldest)
		delete(t.clients, c.hardware)
	}
	c := &client{hardware: h, held: map[netip.Addr]netip.Addr{}}
	t.clients[h] = t.recent.PushFront(c)
	return c
}

// end hands out what is open of a client.
func (t *Tracker) end(c *client) {
	before, current := c.before, c.current
	c.before, c.current = nil, nil
	t.hand(before)
	t.hand(current)
}

func (t *Tracker) hand(e *Exchange) {
	if e == nil {
		return
	}
	e.finish()
	if t.config.Ended != nil {
		t.config.Ended(e)
	}
}

// Close ends everything that is still open, in the order of the last word.
func (t *Tracker) Close() {
	for el := t.recent.Back(); el != nil; el = el.Prev() {
		t.end(el.Value.(*client))
	}
}

// Unserved is an ICMP error to a client: the server's machine says that nothing listens on its DHCP port (RFC 792, code 3). Healthy clients
// send the like themselves after an acknowledgement, when their own port is closed: those are not meant.
type Unserved struct {
	Frame  int
	Server netip.Addr // who says so
	Client netip.Addr // whose message it was
}

// TakeUnserved notes it with the exchange that is open under the client's address.
func (t *Tracker) TakeUnserved(u Unserved) {
	looked := 0
	for el := t.recent.Front(); el != nil && looked < mostLooked; el = el.Next() {
		looked++
		if e := el.Value.(*client).current; e != nil && e.answer < 0 && e.purpose == extend && e.Requested == u.Client {
			e.remark("%v says that nothing listens on its DHCP port: the server process is gone (ICMP port unreachable)", u.Server)
			return
		}
	}
}

// mostLooked is among how many of the latest clients the one that an ICMP error is for is looked: the error follows its message at once.
const mostLooked = 64

// Open gives the exchanges that have not ended, the latest word first, as they stand: copies, with their remarks.
func (t *Tracker) Open() (out []*Exchange) {
	for el := t.recent.Front(); el != nil; el = el.Next() {
		c := el.Value.(*client)
		for _, e := range []*Exchange{c.current, c.before} {
			if e != nil {
				out = append(out, e.snapshot())
			}
		}
	}
	return out
}

// snapshot is a copy with the remarks of the present moment.
func (e *Exchange) snapshot() *Exchange {
	c := *e
	c.Steps, c.Remarks = slices.Clone(e.Steps), slices.Clone(e.Remarks)
	c.finish()
	return &c
}

// longestRepeat is after how long a DISCOVER under a new transaction id is a new attempt and no repeat: clients double their wait up to 64
// s, give or take one (RFC 2131 §4.1).
const longestRepeat = 66 * time.Second

// isOver reports whether a message begins another exchange of the same client.
func (e *Exchange) isOver(s *Sighting) bool {
	m := &s.Message
	last := &e.Steps[len(e.Steps)-1]
	answered := e.answer >= 0
	if m.Reply {
		// A late or second answer belongs to what it answers. One that answers nothing that was seen stands alone, once this one has its
		// end.
		return answered && !e.hasXID(m.XID)
	}
	if answered {
		switch {
		case m.Type == Decline && e.Outcome == BoundTo && m.Requested() == e.Terms.Address:
			return false // whatever its transaction id
		case m.Type == last.Message.Type && m.Type == Decline:
			return false
		}
		like := e.lastLike(m) // a copy on another stretch of the way, overtaken by the answer
		return like == nil || like.Message.XID != m.XID || like.Message.Own != m.Own || s.At.Sub(like.At) >= copyWindow ||
			s.At.Sub(like.At) < 0
	}
	if e.purpose == unseen { // offers whose question was not seen
		return false
	}
	switch want := purposeOf(m); m.Type {
	case Discover:
		return e.purpose != acquire || e.asked() || !e.hasXID(m.XID) && s.At.Sub(last.At) > longestRepeat
	case Decline:
		return true
	default:
		return want != e.purpose
	}
}

func (e *Exchange) hasXID(xid uint32) bool {
	for i := range e.Steps {
		if e.Steps[i].Message.XID == xid {
			return true
		}
	}
	return false
}
