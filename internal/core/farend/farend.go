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

// mostRuns bounds what strangers can fill: the oldest run is forgotten.
const mostRuns = 1024

// Tally counts what arrives. It may be used concurrently.
type Tally struct {
	mu    sync.Mutex
	runs  map[string]*Message
	order []string
}

// Take counts a datagram from somebody and gives the answer to it; ok is false for one that is not answered.
func (t *Tally) Take(datagram []byte, from netip.Addr) (answer []byte, now Message, ok bool) {
	m, ok := Read(datagram)
	if !ok {
		return nil, m, false
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	run := t.runs[m.Token]
	if run == nil {
		if t.runs == nil {
			t.runs = map[string]*Message{}
		}
		if len(t.order) == mostRuns {
			delete(t.runs, t.order[0])
			t.order = t.order[1:]
		}
		run = &Message{Schema: Schema, Token: m.Token}
		t.runs[m.Token], t.order = run, append(t.order, m.Token)
	}
	switch {
	case m.Report:
	case from.Unmap().Is4():
		run.IPv4++
	default:
		run.IPv6++
	}
	answer, _ = json.Marshal(run)
	if len(answer) > len(datagram) {
		return nil, *run, false
	}
	return answer, *run, true
}
