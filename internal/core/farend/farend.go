// Package farend holds the words between this program at a machine that cannot reach something and the same program at the far end, which
// counts what arrives: datagrams of JSON (RFC 8259), each answer no longer than its question, so that nobody can be flooded with answers to
// questions in his name.
package farend

import (
	"encoding/hex"
	"encoding/json"
	"net/netip"
	"strings"
	"sync"
)

// Port is the UDP port at which the far end listens unless another is named: one of those that are nobody's (RFC 6335 §6).
const Port = 50907

// Schema is the version of the words.
const Schema = "passepartout.answer/1"

// Size is how long every question is, in octets of payload: longer than any answer, and short enough for any path.
const Size = 256

// tokenLength is that of a run's token, in octets before it is written as hexadecimal digits.
const tokenLength = 8

// Message is a question or an answer.
type Message struct {
	Schema string `json:"schema"`
	Token  string `json:"token"`            // of one run
	Report bool   `json:"report,omitempty"` // a question that is not counted: what has arrived?
	IPv4   int    `json:"ipv4"`             // in an answer: how many datagrams of the run have arrived over each family
	IPv6   int    `json:"ipv6"`
	Pad    string `json:"pad,omitempty"`
}

// Token writes a run's token.
func Token(random [tokenLength]byte) string { return hex.EncodeToString(random[:]) }

// Question is a datagram of a run.
func Question(token string, report bool) []byte {
	m := Message{Schema: Schema, Token: token, Report: report, Pad: " "}
	raw, _ := json.Marshal(m) // plain text and numbers: cannot fail
	m.Pad = strings.Repeat(" ", 1+Size-len(raw))
	raw, _ = json.Marshal(m)
	return raw
}

// Read takes a message from a datagram; false for anything that is none.
func Read(b []byte) (Message, bool) {
	var m Message
	if len(b) > 2*Size || json.Unmarshal(b, &m) != nil || m.Schema != Schema || len(m.Token) != 2*tokenLength {
		return Message{}, false
	}
	if _, err := hex.DecodeString(m.Token); err != nil || m.IPv4 < 0 || m.IPv6 < 0 {
		return Message{}, false
	}
	return m, true
}

// asksBack reports whether a datagram is a question: as long as every question is, and without a count. An answer is none, so that two at
// the far end never talk to each other.
func (m Message) asksBack(size int) bool {
	return size >= Size && m.Pad != "" && m.IPv4 == 0 && m.IPv6 == 0
}

// lowestAsker is the first port from which questions are answered: below stand the well-known services (RFC 6335 §6), in whose names
// somebody might ask to have them answered.
const lowestAsker = 1024

// What strangers can fill is bounded: so many runs in all, and so many that one address has begun.
const (
	mostRuns      = 1024
	mostOfOneHost = 16
)

// Tally counts what arrives. It may be used concurrently.
type Tally struct {
	mu    sync.Mutex
	runs  map[string]*run
	began int // how many runs so far
}

type run struct {
	Message
	by  netip.Addr // who has begun it; of IPv6, the network
	at  int        // the how-manieth it was
	met int        // how many datagrams of it have arrived
}

// Take counts a datagram from somebody and gives the answer to it; ok is false for one that is not answered. Answers are asked for from a
// port of the asker's own: neither from one like Port, nor from a well-known one.
func (t *Tally) Take(datagram []byte, from netip.AddrPort) (answer []byte, now Message, ok bool) {
	m, ok := Read(datagram)
	if !ok || !m.asksBack(len(datagram)) || from.Port() < lowestAsker || from.Port() == Port {
		return nil, m, false
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	x := t.runs[m.Token]
	if x == nil {
		x = t.begin(m.Token, Network(from.Addr()))
	}
	x.met++
	switch {
	case m.Report:
	case from.Addr().Unmap().Is4():
		x.IPv4++
	default:
		x.IPv6++
	}
	answer, _ = json.Marshal(x.Message)
	if len(answer) > len(datagram) {
		return nil, x.Message, false
	}
	return answer, x.Message, true
}

// Network is what stands for everybody who may speak with an address: of IPv6 a whole network is one machine's to choose from.
func Network(a netip.Addr) netip.Addr {
	a = a.Unmap().WithZone("")
	if p, err := a.Prefix(64); err == nil && a.Is6() {
		return p.Addr()
	}
	return a
}

// begin makes room for a run and begins it. Of somebody who begins many his own are forgotten; where there are too many in all, those of
// which the least has arrived, and the oldest of these.
func (t *Tally) begin(token string, by netip.Addr) *run {
	if t.runs == nil {
		t.runs = map[string]*run{}
	}
	var own, least *run
	of := 0
	for _, x := range t.runs {
		if x.by == by {
			of++
			own = lesser(own, x)
		}
		least = lesser(least, x)
	}
	switch {
	case of >= mostOfOneHost:
		delete(t.runs, own.Token)
	case len(t.runs) >= mostRuns:
		delete(t.runs, least.Token)
	}
	t.began++
	x := &run{Message: Message{Schema: Schema, Token: token}, by: by, at: t.began}
	t.runs[token] = x
	return x
}

func lesser(a, b *run) *run {
	if a == nil || b.met < a.met || b.met == a.met && b.at < a.at {
		return b
	}
	return a
}
