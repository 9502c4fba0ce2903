package dhcp

import (
	"fmt"
	"net/netip"
	"time"
)

// Client is one that wants an address: what it sends, and when, follows from what it hears and from the time (RFC 2131 §4.4). It has no
// clock and no socket. An offer is not taken before somebody says so.
type Client struct {
	Hardware Hardware
	Server   netip.Addr           // whose offer alone counts; zero: the first that comes
	Wanted   netip.Addr           // the address that it would like; zero: any (RFC 2131 §3.5)
	Jitter   func() time.Duration // of up to a second to either side (RFC 2131 §4.1)
	XID      uint32               // of its messages

	state State
	offer bool  // in SELECTING: one waits for its word
	check bool  // in REQUESTING: acknowledged, and somebody is asked whether he has the address
	terms Terms // offered, then held
	since time.Time
	sent  time.Time // the last request
	began time.Time // the exchange, as its messages tell it
	next  time.Time
	tries int
}

// The times of a client.
const (
	firstWait = 4 * time.Second  // before a message is repeated; twice as long each time (RFC 2131 §4.1)
	mostWait  = 64 * time.Second // the longest of these
	mostTries = 4                // requests for an offer, before it is given up
	leastWait = time.Minute      // between renewals (RFC 2131 §4.4.5)
)

// Say is a message that a client sends. What it does not carry is zero.
type Say struct {
	Type      Type
	XID       uint32
	Secs      uint16
	To        netip.Addr // the server alone; zero: everybody
	Own       netip.Addr // ciaddr
	Requested netip.Addr
	Server    netip.Addr // the server identifier
	Text      string
}

// Act is what comes of a moment.
type Act struct {
	Send  []Say
	Check netip.Addr // somebody may have it: ask, and tell by Checked
	Took  bool       // the lease is in force, or goes on
	Lost  string     // there is no lease, nor will one come of this: why
}

// State tells where it stands.
func (c *Client) State() State { return c.state }

// Chooses reports whether an offer waits for its word.
func (c *Client) Chooses() bool { return c.offer }

// Terms are those offered or held.
func (c *Client) Terms() Terms { return c.terms }

// Since is when the lease began, as the server counts it: when it was asked for.
func (c *Client) Since() time.Time { return c.since }

// Next is when Pass is to be called; zero: nothing is waited for.
func (c *Client) Next() time.Time { return c.next }

// Begin looks for servers.
func (c *Client) Begin(now time.Time) Act {
	c.stop()
	c.state, c.terms, c.began, c.tries = Selecting, Terms{}, now, 0
	return c.discover(now)
}

// Accept takes the offer.
func (c *Client) Accept(now time.Time) Act {
	if !c.offer {
		return Act{}
	}
	c.state, c.offer, c.began, c.tries = Requesting, false, now, 0
	return c.request(now)
}

// Checked tells whether somebody else was found to have the address, and who: then it is declined.
func (c *Client) Checked(now time.Time, holder string) Act {
	switch {
	case !c.check:
		return Act{}
	case holder != "":
		say := c.say(Decline, now)
		say.Requested, say.Server, say.Text, say.Secs = c.terms.Address, c.terms.Server, "in use by "+holder, 0
		c.stop()
		return Act{Send: []Say{say}, Lost: fmt.Sprintf("%v is in use by %s: it was declined", c.terms.Address, holder)}
	}
	return c.bind(now)
}

// Release gives the lease back (RFC 2131 §4.4.6).
func (c *Client) Release(now time.Time) Act {
	if !c.check && c.state != Bound && c.state != Renewing && c.state != Rebinding {
		c.stop()
		return Act{}
	}
	say := c.say(Release, now)
	say.To, say.Own, say.Server, say.Secs = c.terms.Server, c.terms.Address, c.terms.Server, 0
	c.stop()
	return Act{Send: []Say{say}}
}

// Hear takes a message that came; others than its own it passes over.
func (c *Client) Hear(now time.Time, m *Message) Act {
	if !m.Reply || m.XID != c.XID || m.Client != c.Hardware {
		return Act{}
	}
	t := m.Terms()
	switch {
	case m.Type == Offer && c.state == Selecting && !c.offer:
		if !t.Address.IsValid() || !t.Server.IsValid() || c.Server.IsValid() && c.Server != t.Server {
			return Act{}
		}
		c.offer, c.terms, c.next = true, t, time.Time{}
	case m.Type == Ack && (c.state == Requesting && !c.check || c.state == Renewing || c.state == Rebinding):
		if !t.Address.IsValid() || t.Lease <= 0 || c.state == Requesting && t.Server != c.terms.Server {
			return Act{}
		}
		if c.state != Requesting && t.Address != c.terms.Address {
			return c.lose(fmt.Sprintf("%v gives %v in the place of %v", t.Server, t.Address, c.terms.Address))
		}
		first := c.state == Requesting
		c.terms = t
		if !first {
			return c.bind(now)
		}
		c.check, c.next = true, time.Time{}
		return Act{Check: t.Address}
	case m.Type == Nak && (c.state == Requesting && !c.check && t.Server == c.terms.Server || c.state == Renewing || c.state == Rebinding):
		why := fmt.Sprintf("%v refuses %v", m.Server(), c.terms.Address)
		if said := m.Text(); said != "" {
			why += ": " + said
		}
		return c.lose(why)
	}
	return Act{}
}

// Pass takes that time has passed.
func (c *Client) Pass(now time.Time) Act {
	if c.next.IsZero() || now.Before(c.next) {
		return Act{}
	}
	switch c.state {
	case Selecting:
		return c.discover(now)
	case Requesting:
		if c.tries >= mostTries {
			return c.lose(fmt.Sprintf("%v offered %v, and answers no request for it", c.terms.Server, c.terms.Address))
		}
		return c.request(now)
	case Bound:
		c.state, c.began = Renewing, now
		fallthrough
	case Renewing, Rebinding:
		return c.renew(now)
	}
	return Act{}
}

func (c *Client) discover(now time.Time) Act {
	c.wait(now)
	say := c.say(Discover, now)
	say.Requested = c.Wanted
	return Act{Send: []Say{say}}
}

func (c *Client) request(now time.Time) Act {
	c.wait(now)
	c.sent = now
	say := c.say(Request, now)
	say.Requested, say.Server = c.terms.Address, c.terms.Server
	return Act{Send: []Say{say}}
}

// renew asks the server for more time, and from T2 on everybody, until the lease is over (RFC 2131 §4.4.5).
func (c *Client) renew(now time.Time) Act {
	over, t2 := c.since.Add(c.terms.Lease), c.since.Add(c.terms.T2)
	if !now.Before(over) {
		return c.lose(fmt.Sprintf("nobody renewed %v: the lease is over", c.terms.Address))
	}
	c.sent = now
	say := c.say(Request, now)
	say.Own = c.terms.Address
	until := over
	if now.Before(t2) {
		say.To, until = c.terms.Server, t2
	} else {
		c.state = Rebinding
	}
	c.next = now.Add(max(until.Sub(now)/2, leastWait))
	if c.next.After(until) {
		c.next = until
	}
	return Act{Send: []Say{say}}
}

// bind begins the lease, or goes on with it.
func (c *Client) bind(now time.Time) Act {
	c.since = c.sent // and not from now: the server shall not forget it before the client (RFC 2131 §4.4.1)
	c.state, c.check, c.next = Bound, false, time.Time{}
	if !c.terms.IsEndless() {
		c.next = c.since.Add(min(c.terms.T1, c.terms.Lease))
	}
	return Act{Took: true}
}

func (c *Client) lose(why string) Act {
	c.stop()
	return Act{Lost: why}
}

func (c *Client) stop() { c.state, c.offer, c.check, c.next = Init, false, false, time.Time{} }

// wait is until the same is sent again.
func (c *Client) wait(now time.Time) {
	d := min(firstWait<<min(c.tries, 8), mostWait)
	if c.Jitter != nil {
		d += c.Jitter()
	}
	c.next = now.Add(d)
	c.tries++
}

func (c *Client) say(t Type, now time.Time) Say {
	return Say{Type: t, XID: c.XID, Secs: uint16(min(now.Sub(c.began)/time.Second, 0xffff))}
}
