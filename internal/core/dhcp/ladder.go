package dhcp

import (
	"fmt"
	"net/netip"
	"slices"
	"time"
)

// Ladder is an exchange laid out between its parties, a rung a message.
type Ladder struct {
	Parties []Party // the client, then relays, then servers
	Rungs   []Rung
}

// Party is somebody who takes part.
type Party struct {
	Role    string // "client", "relay" or "server"
	Address netip.Addr
	Name    string // the client's host name or hardware address
}

// Rung is one message between two parties.
type Rung struct {
	From, To int // in Parties; To is -1 when it went to everybody and no server was seen
	All      bool
	Step     *Step
	After    time.Duration // since the first message
	Words    string        // the type and what it carries
}

// Ladder lays the exchange out.
func (e *Exchange) Ladder() Ladder {
	l := Ladder{Parties: []Party{{Role: "client", Name: e.Hostname}}}
	if l.Parties[0].Name == "" {
		l.Parties[0].Name = e.Client.String()
	}
	var relays, servers []netip.Addr
	add := func(list []netip.Addr, a netip.Addr) []netip.Addr {
		if a.IsValid() && !slices.Contains(list, a) && len(list) < 8 {
			list = append(list, a)
		}
		return list
	}
	for i := range e.Steps {
		m := &e.Steps[i].Message
		relays = add(relays, m.Relay)
		if m.Reply {
			servers = add(servers, e.serverOf(&e.Steps[i]))
		}
	}
	if len(servers) == 0 {
		servers = add(servers, e.Server)
	}
	for _, a := range relays {
		l.Parties = append(l.Parties, Party{Role: "relay", Address: a})
	}
	for _, a := range servers {
		l.Parties = append(l.Parties, Party{Role: "server", Address: a})
	}
	find := func(role string, a netip.Addr) int {
		return slices.IndexFunc(l.Parties, func(p Party) bool { return p.Role == role && (p.Address == a || !a.IsValid()) })
	}
	for i := range e.Steps {
		s := &e.Steps[i]
		m := &s.Message
		r := Rung{Step: s, After: s.At.Sub(e.Steps[0].At), All: s.Broadcast(), Words: s.words()}
		relay := -1
		if m.Relay.IsValid() {
			relay = find("relay", m.Relay)
		}
		server := find("server", s.To.Addr())
		if server < 0 {
			server = find("server", e.Server)
		}
		switch {
		case !m.Reply && relay >= 0:
			r.From, r.To = relay, server
		case !m.Reply:
			r.From, r.To = 0, server
			if s.Broadcast() {
				r.To = -1
				if len(l.Parties) > 1 {
					r.To = len(l.Parties) - 1
					if len(relays) > 0 {
						r.To = find("relay", netip.Addr{}) // a broadcast ends at the relay, which passes it on
					}
				}
			}
		case relay >= 0 && s.To.Port() == ServerPort:
			r.From, r.To = find("server", e.serverOf(s)), relay
		case relay >= 0:
			r.From, r.To = relay, 0
		default:
			r.From, r.To = find("server", e.serverOf(s)), 0
		}
		l.Rungs = append(l.Rungs, r)
	}
	return l
}

// serverOf is whose answer a message is: its server identifier, else its sender.
func (e *Exchange) serverOf(s *Step) netip.Addr {
	if id := s.Message.Server(); id.IsValid() {
		return id
	}
	return s.From.Addr()
}

// words are the type of a message and the address it is about.
func (s *Step) words() string {
	m := &s.Message
	var about netip.Addr
	switch m.Type {
	case Offer, Ack:
		about = m.Your
	case Request, Discover, Decline:
		if about = m.Requested(); !about.IsValid() {
			about = m.Own
		}
	case Release, Inform:
		about = m.Own
	}
	out := m.Type.String()
	if about.IsValid() {
		out = fmt.Sprintf("%s %v", m.Type, about)
	}
	switch {
	case s.Copy:
		out += ", seen again"
	case s.Again > 0:
		out += fmt.Sprintf(", again after %s", seconds(s.Waited))
	}
	return out
}
