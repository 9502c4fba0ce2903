package dhcp

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"passepartout/internal/core/subnet"
)

// remark notes something once.
func (e *Exchange) remark(format string, args ...any) {
	if line := fmt.Sprintf(format, args...); !slices.Contains(e.Remarks, line) && len(e.Remarks) < 32 {
		e.Remarks = append(e.Remarks, line)
	}
}

// remarkKnown notes a refusal by a server that has given this client an address before.
func (e *Exchange) remarkKnown(s *Sighting, c *client) {
	m := &s.Message
	if m.Type != Nak {
		return
	}
	if held, ok := c.held[m.Server()]; ok {
		e.remark("refused by %v, though this server knows the client: it gave it %v before", m.Server(), held)
	}
	for i := range e.Steps {
		if o := &e.Steps[i].Message; o.Type == Offer && o.Server() == m.Server() {
			e.remark("refused by %v, though this server offered %v a moment before", m.Server(), o.Your)
		}
	}
}

// finish notes what is irregular in the whole.
func (e *Exchange) finish() {
	e.remarkRepeats()
	e.remarkOffers()
	e.remarkAnswer()
	for i := range e.Steps {
		s := &e.Steps[i]
		if s.Message.Cut != "" {
			e.remark("frame %d: %s", s.Frame, s.Message.Cut)
		}
		if words := s.Message.Text(); words != "" && (s.Message.Type == Nak || s.Message.Type == Decline) {
			e.remark("%s says: %s", map[Type]string{Nak: "the server", Decline: "the client"}[s.Message.Type], words)
		}
	}
	if e.Unkept > 0 {
		e.remark("%d further messages were counted and not kept", e.Unkept)
	}
	if e.purpose == unseen {
		e.remark("the client's side was not seen")
	}
}

// remarkRepeats tells how often a client repeated itself and how long it waited (RFC 2131 §4.1).
func (e *Exchange) remarkRepeats() {
	for _, kind := range []Type{Discover, Request, Inform} {
		var waits []string
		n := 0
		for i := range e.Steps {
			if s := &e.Steps[i]; s.Message.Type == kind && !s.Copy && !s.Message.Reply {
				n++
				if s.Waited > 0 {
					waits = append(waits, seconds(s.Waited))
				}
			}
		}
		if n > 1 {
			if len(waits) > 6 {
				waits = append(waits[:6], "…")
			}
			e.remark("%s sent %d times, after %s", kind, n, strings.Join(waits, ", "))
		}
	}
}

func seconds(d time.Duration) string { return fmt.Sprintf("%.1f s", d.Seconds()) }

// offers are the first offers of each server.
func (e *Exchange) offers() (out []*Message) {
	for i := range e.Steps {
		m := &e.Steps[i].Message
		if m.Type == Offer && !slices.ContainsFunc(out, func(o *Message) bool { return o.Server() == m.Server() }) {
			out = append(out, m)
		}
	}
	return out
}

func (e *Exchange) remarkOffers() {
	offers := e.offers()
	for i, o := range offers {
		e.remarkTerms(o, "offer")
		for _, other := range offers[:i] {
			if parts := o.Terms().Differences(other.Terms()); len(parts) > 0 {
				e.remark("the offers of %v and %v disagree: %s", other.Server(), o.Server(), strings.Join(parts, ", "))
			}
		}
	}
	if len(offers) > 0 {
		var first *Step
		for i := range e.Steps {
			s := &e.Steps[i]
			if s.Message.Type == Discover && first == nil {
				first = s
			}
			if s.Message.Type == Offer && first != nil {
				if took := s.At.Sub(first.At); took >= time.Second {
					e.remark("the first offer took %s: servers may test an address first (RFC 2131 §2.2)", seconds(took))
				}
				break
			}
		}
	}
}

// remarkTerms checks an offer or acknowledgement against itself.
func (e *Exchange) remarkTerms(m *Message, what string) {
	t := m.Terms()
	if mask, ok := m.Option(OptMask); ok {
		if a := m.address(OptMask); len(mask) != 4 || !a.IsValid() {
			e.remark("%s of %v: the mask is none", what, t.Server)
		} else if _, whole := subnet.LengthOf(a); !whole {
			e.remark("%s of %v: the mask %v is none: its ones are not together", what, t.Server, a)
		}
	}
	if !t.Address.IsValid() || t.PrefixLength == 0 {
		return
	}
	own := t.Prefix()
	if !subnet.Usable(own, t.Address) {
		e.remark("%s of %v: %v is no address of a host under its own mask, /%d", what, t.Server, t.Address, t.PrefixLength)
	}
	if m.Relay.IsValid() && !own.Masked().Contains(m.Relay) {
		e.remark("%s of %v: %v is outside of the network of the relay %v, by its own mask", what, t.Server, own, m.Relay)
	}
	for _, r := range t.Routers {
		if !own.Masked().Contains(r) &&
			!slices.ContainsFunc(t.Routes, func(x Route) bool { return x.To.Bits() > 0 && !x.Via.IsValid() && x.To.Contains(r) }) {
			e.remark("%s of %v: the router %v is outside the subnet %v", what, t.Server, r, own.Masked())
		}
	}
}

func (e *Exchange) remarkAnswer() {
	var chosen netip.Addr
	for i := range e.Steps {
		s := &e.Steps[i]
		m := &s.Message
		switch m.Type {
		case Request:
			if server := m.Server(); server.IsValid() {
				chosen = server
			}
		case Ack, Nak:
			if by := m.Server(); chosen.IsValid() && by.IsValid() && by != chosen {
				e.remark("%s from %v, while the client had chosen %v", m.Type, by, chosen)
			}
		}
	}
	if e.answer < 0 || e.Steps[e.answer].Message.Type != Ack {
		return
	}
	m := &e.Steps[e.answer].Message
	t := m.Terms()
	if wanted := e.wanted(); wanted.IsValid() && t.Address.IsValid() && wanted != t.Address {
		e.remark("the client asked for %v and was given %v", wanted, t.Address)
	}
	if len(e.offers()) == 0 {
		e.remarkTerms(m, "acknowledgement")
	}
	if e.Outcome == Informed || t.Lease == 0 {
		return
	}
	if !t.OwnT1 && !t.IsEndless() {
		e.remark("T1 is not on the wire: taken as half the lease (RFC 2131 §4.4.5)")
	}
	if !t.OwnT2 && !t.IsEndless() {
		e.remark("T2 is not on the wire: taken as seven eighths of the lease (RFC 2131 §4.4.5)")
	}
	if t.T1 > t.T2 || t.T2 > t.Lease {
		e.remark("the times are out of order: T1 %s, T2 %s, lease %s", seconds(t.T1), seconds(t.T2), seconds(t.Lease))
	}
	if _, rapid := m.Option(OptRapidCommit); rapid && len(e.offers()) == 0 && !e.asked() {
		e.remark("acknowledged at once, without an offer (rapid commit, RFC 4039)")
	}
}

// wanted is the first address that the client asked for.
func (e *Exchange) wanted() netip.Addr {
	for i := range e.Steps {
		m := &e.Steps[i].Message
		if m.Reply {
			continue
		}
		if a := m.Requested(); a.IsValid() {
			return a
		}
		if m.Type == Request && m.Own.IsValid() {
			return m.Own
		}
	}
	return netip.Addr{}
}
