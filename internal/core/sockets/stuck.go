package sockets

import (
	"fmt"
	"time"

	"passepartout/internal/core/wording"
)

// Why says what a socket is stuck by, and so at whose end.
type Why uint8

// What a socket can be stuck by.
const (
	Moves       Why = iota
	NoAnswer        // the opening of a connection is not answered
	Unacked         // what was sent is not acknowledged any more
	PeerFull        // the other end is there, and takes nothing more: its program does not read
	Unread          // what arrived is not read: this machine's program is late
	NotAccepted     // connections wait, and the program that listens does not take them
	Lossy           // it goes on, and much has to be sent again
)

var whys = [...]string{Moves: "", NoAnswer: "no-answer", Unacked: "not-acknowledged", PeerFull: "other-end-full", Unread: "not-read",
	NotAccepted: "not-accepted", Lossy: "lossy"}

// String gives the id that stands in JSON.
func (w Why) String() string { return whys[w] }

// From when on something counts. A connection that opens at once and one that is lost once are no matter; nor is a program that was busy
// for a moment.
const (
	patience    = 2 * time.Second        // with what is not read, not accepted, not taken
	unackedFor  = 3 * time.Second        // four losses in a row, where one in ten is lost: chance once in ten thousand
	noAnswerFor = 900 * time.Millisecond // the first repetition is sent after a second
	lossyFrom   = 5                      // segments sent again
	lossyShare  = 50                     // one segment in so many
)

// Stuck is a socket that does not get on.
type Stuck struct {
	Socket
	Why Why
	For time.Duration // at least
}

// judge says what a socket is stuck by, from what the system tells of it at one moment, and from what was seen: for how long nothing was
// read of what lies there, and for how long the other end's window is closed.
func (t *Table) judge(s *Socket, idle, full time.Duration) (why Why, since time.Duration) {
	switch {
	case s.Protocol == UDP:
		if s.Unread > 0 && idle >= patience {
			return Unread, idle
		}
	case s.State == SynSent:
		if d := t.Trying(s); d >= noAnswerFor {
			return NoAnswer, d
		}
	case s.State == Listen:
		if s.Unread > 0 && idle >= patience {
			return NotAccepted, idle
		}
	case s.State == Established || s.State == CloseWait || s.State == FinWait1 || s.State == FinWait2:
		return judgeOpen(s, idle, full)
	}
	return Moves, 0
}

func judgeOpen(s *Socket, idle, full time.Duration) (Why, time.Duration) {
	late := idle
	if s.Measured {
		late = max(late, s.SinceData)
	}
	lost := s.Retransmitted - min(s.Needless, s.Retransmitted)
	switch {
	case s.Unacked > 0 && s.Measured && s.Retries >= 2 && s.SinceAck >= unackedFor:
		return Unacked, s.SinceAck
	case s.Timer == Probe && s.Unacked > 0 && full >= patience:
		return PeerFull, full
	// the rest of a connection that the other end closed may lie there for good
	case s.Unread > 0 && s.State == Established && late >= patience:
		return Unread, late
	case s.Measured && lost >= lossyFrom && uint64(lost)*lossyShare >= uint64(s.SegmentsOut):
		return Lossy, 0
	}
	return Moves, 0
}

// Says tells in a sentence what a stuck socket waits for.
func (t *Table) Says(s *Stuck) string {
	lasting := wording.Lasting(s.For)
	switch s.Why {
	case NoAnswer:
		return fmt.Sprintf("asked %s in %s, nobody answers", wording.Times(int(s.Retries)+1), lasting)
	case Unacked:
		return fmt.Sprintf("%s not acknowledged for %s, sent again %s: the other end is not reached any more", octets(s.Socket.Unacked),
			lasting,
			wording.Times(int(s.Retries)))
	case PeerFull:
		return fmt.Sprintf("%s wait for %s: the other end answers and takes nothing more, its program does not read",
			octets(s.Socket.Unacked), lasting)
	case Unread:
		return fmt.Sprintf("has not read %s for %s: the program is late, not the network", octets(s.Socket.Unread), lasting)
	case NotAccepted:
		return fmt.Sprintf("%s wait for %s to be accepted: the program is late, not the network",
			wording.Plural(int(s.Socket.Unread), "connection", "connections"), lasting)
	case Lossy:
		return fmt.Sprintf("%d of %d segments had to be sent again: the way loses packets",
			s.Retransmitted-min(s.Needless, s.Retransmitted),
			s.SegmentsOut)
	}
	return ""
}

// octets gives an amount with its unit.
func octets(n uint32) string {
	switch {
	case n < 10_000:
		return wording.Plural(int(n), "octet", "octets")
	case n < 10_000_000:
		return fmt.Sprintf("%d kB", n/1000)
	}
	return fmt.Sprintf("%d MB", n/1_000_000)
}
