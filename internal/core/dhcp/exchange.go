package dhcp

import (
	"net/netip"
	"time"
)

// Sighting is one message as it was seen on the wire.
type Sighting struct {
	Frame    int // its number in the capture, from 1; 0: heard live
	At       time.Time
	From, To netip.AddrPort
	Message  Message
}

// Exchange is what one client and the servers said to each other to reach one end: a lease, its renewal, a refusal. It is told apart by the
// client and by order, not by the transaction id, which some clients keep through many exchanges and others change at each repeat.
type Exchange struct {
	XID       uint32 // of the first message
	Client    Hardware
	Hostname  string
	ClientID  string     // option 61 in words
	Relay     netip.Addr // the first relay's address
	Outcome   Outcome
	Terms     Terms // acknowledged, else of the only offer
	Server    netip.Addr
	Requested netip.Addr // by option 50, else the address that the client uses and asks to keep
	Steps     []Step
	Unkept    int // further messages, counted and not kept
	Remarks   []string

	purpose purpose
	answer  int // the step with the ACK or NAK; -1: none
}

// Step is one message of an exchange.
type Step struct {
	Sighting
	State  State         // of the client, after it
	Again  int           // how many times the client had sent the same before
	Waited time.Duration // since the message that it repeats
	Copy   bool          // the same message, seen a second time on its way
}

// Began is when the first message was seen.
func (e *Exchange) Began() time.Time { return e.Steps[0].At }

// Last is when the latest one was.
func (e *Exchange) Last() time.Time { return e.Steps[len(e.Steps)-1].At }

// Broadcast reports whether a step was sent to everybody.
func (s *Step) Broadcast() bool { return s.To.Addr() == broadcast }

var broadcast = netip.AddrFrom4([4]byte{255, 255, 255, 255})

// mostSteps is how many messages of one exchange are kept: a client that repeats for an hour says nothing new.
const mostSteps = 64

// purpose is what a client wants with an exchange.
type purpose uint8

const (
	unseen   purpose = iota // only the server's side was seen
	acquire                 // DISCOVER
	reboot                  // REQUEST for an address it had (RFC 2131 §3.2)
	extend                  // REQUEST for the address in use (RFC 2131 §4.4.5)
	informal                // INFORM
	giveUp                  // RELEASE
	protest                 // DECLINE whose ACK was not seen
)

// purposeOf tells the purpose of a client's message that stands at the beginning.
func purposeOf(m *Message) purpose {
	switch m.Type {
	case Discover:
		return acquire
	case Request:
		switch {
		case m.Own.IsValid():
			return extend
		case m.Server().IsValid():
			return acquire
		}
		return reboot
	case Inform:
		return informal
	case Release:
		return giveUp
	case Decline:
		return protest
	}
	return unseen
}

// State is the client's state by RFC 2131 figure 5, as far as the messages show it.
type State uint8

// The states. Zero: nothing seen tells it.
const (
	StateUnknown State = iota
	Init
	Selecting
	Requesting
	InitReboot
	Rebooting
	Bound
	Renewing
	Rebinding
)

var stateNames = [...]string{"", "INIT", "SELECTING", "REQUESTING", "INIT-REBOOT", "REBOOTING", "BOUND", "RENEWING", "REBINDING"}

func (s State) String() string { return stateNames[s] }

// MarshalText gives the RFC's word.
func (s State) MarshalText() ([]byte, error) { return []byte(stateNames[s]), nil }

// stateAfter is the client's state after a message (RFC 2131 figure 5).
func (e *Exchange) stateAfter(s *Sighting) State {
	switch m := &s.Message; m.Type {
	case Discover, Offer:
		return Selecting
	case Request:
		switch purposeOf(m) {
		case acquire:
			return Requesting
		case reboot:
			return Rebooting
		}
		if e.unicast(s) {
			return Renewing
		}
		return Rebinding
	case Ack:
		if e.purpose == informal {
			return StateUnknown // an INFORM has no place in the figure: the address is not from DHCP
		}
		return Bound
	case Nak, Decline, Release:
		return Init
	}
	return StateUnknown
}

// unicast reports whether a request to keep an address went to the one server (RENEWING) and not to all (REBINDING). A relay's copy is
// unicast in any case: a relay forwards what was broadcast, unless the client's own unicast is seen as well.
func (e *Exchange) unicast(s *Sighting) bool {
	if s.Message.Relay.IsValid() {
		for i := range e.Steps {
			own := &e.Steps[i]
			if own.Message.Type == Request && !own.Message.Relay.IsValid() && own.Message.XID == s.Message.XID {
				return !own.Broadcast()
			}
		}
		return false
	}
	return s.To.Addr() != broadcast
}

// Outcome is how an exchange ended, or how it stands.
type Outcome uint8

// The outcomes. Offered is an addition to the contract's list: offers came, and the client asked for none of them.
const (
	Unanswered Outcome = iota
	BoundTo
	Renewed
	Rebound
	Refused
	Declined
	Released
	Informed
	Offered
)

var outcomeNames = [...]string{"unanswered", "bound", "renewed", "rebound", "refused", "declined", "released", "informed", "offered"}

func (o Outcome) String() string { return outcomeNames[o] }

// MarshalText gives the contract's word.
func (o Outcome) MarshalText() ([]byte, error) { return []byte(outcomeNames[o]), nil }

// Outcomes lists them all.
func Outcomes() []Outcome {
	return []Outcome{BoundTo, Renewed, Rebound, Refused, Declined, Released, Informed, Offered, Unanswered}
}

// take adds a message and draws what follows from it.
func (e *Exchange) take(s Sighting) {
	m := &s.Message
	if name := m.Hostname(); name != "" && (e.Hostname == "" || !m.Reply) {
		e.Hostname = name
	}
	if id, ok := m.Option(OptClientID); ok && e.ClientID == "" && !m.Reply {
		e.ClientID, _ = clientID(id)
	}
	if !e.Relay.IsValid() {
		e.Relay = m.Relay
	}
	if !m.Reply && e.purpose == unseen {
		e.purpose = purposeOf(m)
	}
	step := Step{Sighting: s, State: e.stateAfter(&s)}
	if last := e.lastLike(m); last != nil {
		// The same message on another stretch of its way, or on another port of the machine that captured.
		if last.Message.XID == m.XID && last.Message.Secs == m.Secs && s.At.Sub(last.At) < copyWindow &&
			(last.Message.Relay != m.Relay || last.From != s.From || last.To != s.To || s.At.Sub(last.At) < sameInstant) {
			step.Copy, step.Again = true, last.Again
		} else {
			step.Waited = s.At.Sub(last.At)
			if !m.Reply {
				step.Again = last.Again + 1
			}
		}
	}
	if m.Type == Request {
		if a := m.Requested(); a.IsValid() {
			e.Requested = a
		} else if m.Own.IsValid() {
			e.Requested = m.Own
		}
	} else if a := m.Requested(); a.IsValid() && !e.Requested.IsValid() {
		e.Requested = a
	}
	if len(e.Steps) == mostSteps { // the first ones tell how it began, the last how it ends: those between are counted
		e.Unkept++
		e.Steps = append(e.Steps[:mostSteps/2], e.Steps[mostSteps/2+1:]...)
		if e.answer >= mostSteps/2 {
			e.answer--
		}
	}
	e.Steps = append(e.Steps, step)
	e.conclude(len(e.Steps) - 1)
}

// copyWindow is how close two copies of one message follow each other: a relay passes it on at once.
const copyWindow = 500 * time.Millisecond

// sameInstant is how close the two sightings of one frame are when a capture stands on several ports of one machine.
const sameInstant = 5 * time.Millisecond

// lastLike is the latest message of the same type from the same side with the same purpose.
func (e *Exchange) lastLike(m *Message) *Step {
	for i := len(e.Steps) - 1; i >= 0; i-- {
		if s := &e.Steps[i].Message; s.Type == m.Type && s.Reply == m.Reply && (!m.Reply || s.Server() == m.Server()) {
			return &e.Steps[i]
		}
	}
	return nil
}

// conclude draws the outcome from the step that came last.
func (e *Exchange) conclude(at int) {
	s := &e.Steps[at]
	m := &s.Message
	switch m.Type {
	case Offer:
		if e.answer < 0 && e.Outcome == Unanswered && !e.asked() {
			e.Outcome = Offered
			if !e.Terms.Address.IsValid() {
				e.Terms, e.Server = m.Terms(), m.Server()
			}
		}
	case Request:
		if e.Outcome == Offered {
			e.Outcome, e.Terms = Unanswered, Terms{}
		}
		if server := m.Server(); server.IsValid() {
			e.Server = server
		} else if to := s.To.Addr(); to != broadcast && !m.Relay.IsValid() {
			e.Server = to
		}
	case Ack:
		if e.answer >= 0 && e.Steps[e.answer].Message.Type == Ack {
			return // a copy, or a second server's
		}
		e.answer, e.Terms = at, m.Terms()
		if m.Server().IsValid() {
			e.Server = m.Server()
		}
		e.Outcome = e.granted()
	case Nak:
		if e.answer >= 0 && e.Outcome != Refused {
			return // another server's, after the lease was given
		}
		e.answer, e.Terms, e.Outcome = at, Terms{}, Refused
		if m.Server().IsValid() {
			e.Server = m.Server()
		}
	case Decline:
		e.Outcome = Declined
		if e.answer < 0 {
			e.answer, e.Terms.Address, e.Server = at, m.Requested(), m.Server()
		}
	case Release:
		e.answer, e.Outcome = at, Released
		e.Terms.Address = m.Own
		if e.Server = m.Server(); !e.Server.IsValid() && s.To.Addr() != broadcast {
			e.Server = s.To.Addr()
		}
	}
}

// asked reports whether the client has asked for an address already.
func (e *Exchange) asked() bool {
	for i := range e.Steps {
		if e.Steps[i].Message.Type == Request {
			return true
		}
	}
	return false
}

// granted is the outcome of an acknowledgement.
func (e *Exchange) granted() Outcome {
	switch e.purpose {
	case informal:
		return Informed
	case unseen:
		if !e.Terms.Address.IsValid() && e.Terms.Lease == 0 { // the ACK to an INFORM has neither (RFC 2131 §4.3.5)
			return Informed
		}
		return BoundTo
	case extend:
		state := StateUnknown
		for i := range e.Steps { // the last request decides: a renewal that goes unanswered is sent to all at T2
			if s := &e.Steps[i]; s.Message.Type == Request && !s.Copy {
				state = s.State
			}
		}
		if state == Rebinding {
			return Rebound
		}
		return Renewed
	}
	return BoundTo
}
