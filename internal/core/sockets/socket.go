// Package sockets is what a machine's own sockets tell: whom its programs try to reach, what is stuck and at whose end, who listens for
// whom, and what opened and closed while somebody looked.
package sockets

import (
	"fmt"
	"net/netip"
	"time"

	"passepartout/internal/core/wording"
)

// Protocol is that of a socket.
type Protocol uint8

// The protocols.
const (
	TCP Protocol = iota
	UDP
)

func (p Protocol) String() string {
	if p == UDP {
		return "udp"
	}
	return "tcp"
}

// State is that of a TCP connection (RFC 9293 §3.3.2). A UDP socket that was given somebody to speak to is Established, any other Closed.
type State uint8

// The states.
const (
	Closed State = iota
	Listen
	SynSent
	SynReceived
	Established
	FinWait1
	FinWait2
	CloseWait
	Closing
	LastAck
	TimeWait
)

var states = [...]struct{ name, words string }{
	Closed:      {"CLOSED", "closed"},
	Listen:      {"LISTEN", "listening"},
	SynSent:     {"SYN-SENT", "trying"},
	SynReceived: {"SYN-RECEIVED", "being opened"},
	Established: {"ESTABLISHED", "open"},
	FinWait1:    {"FIN-WAIT-1", "closed here, not yet acknowledged"},
	FinWait2:    {"FIN-WAIT-2", "closed here, not there"},
	CloseWait:   {"CLOSE-WAIT", "closed there, not here"},
	Closing:     {"CLOSING", "being closed by both"},
	LastAck:     {"LAST-ACK", "closed, not yet acknowledged"},
	TimeWait:    {"TIME-WAIT", "over"},
}

// String gives the state's name in RFC 9293.
func (s State) String() string { return states[s].name }

// Words gives the state as a person says it.
func (s State) Words() string { return states[s].words }

// StateOf reads a state's name.
func StateOf(name string) (State, bool) {
	for s := range states {
		if states[s].name == name {
			return State(s), true
		}
	}
	return 0, false
}

// StateNames are all the names that StateOf reads.
func StateNames() (out []string) {
	for _, s := range states {
		out = append(out, s.name)
	}
	return out
}

// Timer is what a connection waits for (RFC 9293 §3.8).
type Timer uint8

// The timers.
const (
	NoTimer Timer = iota
	Retransmission
	KeepAlive
	Rest  // in TIME-WAIT
	Probe // of a window that the other end keeps closed (RFC 9293 §3.8.6.1)
)

// Socket is one socket, as the system told of it at one moment.
type Socket struct {
	Protocol  Protocol
	State     State
	Timer     Timer
	Retries   uint8 // how often in a row the same was sent again, or a closed window probed, without an answer
	Measured  bool  // the figures of TCP below are known
	OnlyV6    bool  // a listener at :: that does not take IPv4 as well
	Local     netip.AddrPort
	Remote    netip.AddrPort // zero where there is no other end
	Interface int            // that it is bound to, by its number; 0: to none
	ID        uint64         // of this socket among all others since the system began; 0: not told
	Inode     uint64         // by which its owner is found; 0: nobody has it open any more
	User      uint32
	Owner     int32         // in Table.Programs; -1: not known
	Expires   time.Duration // until the timer is over
	Unread    uint32        // octets that arrived and were not read; connections that nobody has accepted, of a listener
	Unacked   uint32        // octets that were written and not acknowledged, sent or not; how many may wait, of a listener
	Dropped   uint32        // datagrams that found no room, since it was opened

	RTT           time.Duration // smoothed (RFC 6298)
	RTTVar        time.Duration
	Timeout       time.Duration // before something is sent again
	SinceData     time.Duration // since data came last
	SinceAck      time.Duration // since an acknowledgement came last
	Received      uint64        // octets, since it was opened
	SegmentsOut   uint32
	Retransmitted uint32 // segments
	Needless      uint32 // of those, that the other end had already (RFC 2883)
	PathMTU       uint32
}

// Program is a process that has sockets.
type Program struct {
	PID   int
	Name  string // cleaned of what could disturb a terminal
	User  uint32
	Began time.Time // zero: not known
}

// Owners says which process has which sockets open.
type Owners struct {
	Of       map[uint64]int32 // a process in Programs, by the inode of its socket
	Programs []Program
	Refused  int // processes of which nothing may be known
}

// Table is all sockets at one moment.
type Table struct {
	At       time.Time
	Sockets  []Socket
	Programs []Program
	Own      int               // the process identifier of this program itself, whose sockets are its tests
	Users    map[uint32]string // names, as far as known
	Withheld string            // what this process may not know, and what would allow it; "" if it may know everything
	// Linear is how many openings of a connection are repeated after a second each, before the time is doubled.
	Linear int
	Opens  uint64 // connections that were opened by and at this machine, by the system's own count
}

// Program gives the process that a socket belongs to, false where it is not known.
func (t *Table) Program(s *Socket) (Program, bool) {
	if s.Owner < 0 || int(s.Owner) >= len(t.Programs) {
		return Program{}, false
	}
	return t.Programs[s.Owner], true
}

// Mine reports that a socket belongs to this program itself.
func (t *Table) Mine(s *Socket) bool {
	p, ok := t.Program(s)
	return ok && p.PID == t.Own
}

// Trying is for how long the opening of a connection has been tried, by how often it was sent again: the first times after a second each,
// then each time after twice as long (RFC 6298 §5.5).
func (t *Table) Trying(s *Socket) time.Duration {
	total, step := time.Duration(0), time.Second
	for i := range int(s.Retries) + 1 {
		if i > t.Linear {
			step = min(2*step, 2*time.Minute)
		}
		total += step
	}
	return max(total-s.Expires, 0)
}

// Unknown says of how many sockets it is not known whose they are, and why.
func Unknown(of, processes int) string {
	return fmt.Sprintf("whose %s: the files of %s may not be seen without permission",
		wording.Plural(of, "of the sockets is", "of the sockets are"),
		wording.Plural(processes, "process", "processes"))
}

// Settle gives the connections that nobody has accepted yet to the program that listens for them.
func (t *Table) Settle() {
	type place struct {
		at   netip.Addr
		port uint16
	}
	listens := map[place]int32{}
	for i := range t.Sockets {
		if s := &t.Sockets[i]; s.Protocol == TCP && s.State == Listen && s.Owner >= 0 {
			listens[place{s.Local.Addr(), s.Local.Port()}] = s.Owner
		}
	}
	for i := range t.Sockets {
		s := &t.Sockets[i]
		if s.Protocol != TCP || s.Inode != 0 || s.Owner >= 0 || s.State == TimeWait {
			continue
		}
		for _, a := range []netip.Addr{s.Local.Addr(), netip.IPv4Unspecified(), netip.IPv6Unspecified()} {
			if owner, ok := listens[place{a, s.Local.Port()}]; ok {
				s.Owner = owner
				break
			}
		}
	}
}
