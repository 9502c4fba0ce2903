package sockets

import (
	"cmp"
	"slices"
	"time"
)

// Event is a connection that was opened or closed while somebody looked.
type Event struct {
	At      time.Time
	Open    bool
	Socket  Socket
	Program Program // PID is 0 where it is not known
	Never   bool    // closed: it had never been answered
	Told    bool    // by the system, at that moment; else found between two looks
}

// mostEvents of a tracker are kept, the newest; all are counted.
const mostEvents = 20_000

// mark is what a tracker remembers of a socket.
type mark struct {
	first  time.Time // seen first
	early  bool      // it was there when the looking began
	read   uint64    // octets that the program has read, or how few connections waited
	still  time.Time // since when that is so, with something there to read; zero: nothing is
	closed time.Time // since when the other end's window is; zero: it is not
	look   uint32
	index  int // in the table
}

func (m *mark) idle(now time.Time) time.Duration {
	if m.still.IsZero() {
		return 0
	}
	return now.Sub(m.still)
}

func (m *mark) full(now time.Time) time.Duration {
	if m.closed.IsZero() {
		return 0
	}
	return now.Sub(m.closed)
}

// Tracker follows the sockets of a machine from one table to the next. The zero Tracker has seen nothing.
type Tracker struct {
	table  *Table
	marks  map[uint64]*mark
	looks  uint32
	events []Event
	began  time.Time
	opened int
	closed int
	opens  uint64 // the system's own count when the looking began
	told   bool   // closings are told by the system
}

// Telling notes that the system tells of each connection that ends.
func (k *Tracker) Telling() { k.told = true }

// Missed notes that the system could not tell of some: from now on it counts for nothing that it tells of the others.
func (k *Tracker) Missed() { k.told = false }

// Take takes a table in, which nobody changes any more.
func (k *Tracker) Take(t *Table) {
	first := k.table == nil
	if first {
		k.marks, k.began, k.opens = make(map[uint64]*mark, len(t.Sockets)), t.At, t.Opens
	}
	k.looks++
	for i := range t.Sockets {
		s := &t.Sockets[i]
		if s.ID == 0 || s.State == TimeWait { // what rests is over, and has another identity than the connection it was
			continue
		}
		m := k.marks[s.ID]
		if m == nil {
			m = &mark{first: t.At, early: first}
			k.marks[s.ID] = m
			if !first && s.talks() {
				k.note(Event{At: t.At, Open: true, Socket: *s, Program: t.programOf(s)})
			}
		}
		m.look, m.index = k.looks, i
		m.take(s, t.At)
	}
	if was := k.table; was != nil {
		for i := range was.Sockets {
			s := &was.Sockets[i]
			if m := k.marks[s.ID]; m != nil && m.look != k.looks {
				delete(k.marks, s.ID)
				if s.talks() {
					k.note(Event{At: t.At, Socket: *s, Program: was.programOf(s), Never: s.State == SynSent})
				}
			}
		}
	}
	k.table = t
}

// Closed takes in that the system has told of the end of a connection.
func (k *Tracker) Closed(at time.Time, s Socket) {
	if k.table == nil || !s.Remote.IsValid() {
		return
	}
	e := Event{At: at, Socket: s, Told: true, Never: s.Measured && s.RTT == 0}
	if m := k.marks[s.ID]; m != nil {
		delete(k.marks, s.ID)
		e.Program = k.table.programOf(&k.table.Sockets[m.index])
	} else { // it was opened and closed between two looks
		k.note(Event{At: at, Open: true, Socket: s, Told: true})
	}
	k.note(e)
}

// talks reports that it is a connection, not a listener or a socket without another end.
func (s *Socket) talks() bool { return s.Protocol == TCP && s.Remote.IsValid() }

func (k *Tracker) note(e Event) {
	if e.Open {
		k.opened++
	} else {
		k.closed++
	}
	if len(k.events) >= 2*mostEvents {
		k.events = slices.Clone(k.events[len(k.events)-mostEvents:])
	}
	k.events = append(k.events, e)
}

func (m *mark) take(s *Socket, now time.Time) {
	read, waits := s.Received-min(uint64(s.Unread), s.Received), uint64(s.Unread)
	switch {
	case s.Unread == 0:
		m.still, m.read = time.Time{}, read
	case s.State == Listen || s.Protocol == UDP: // of these it is not known how many there were: fewer than before are fewer
		if m.still.IsZero() || waits < m.read {
			m.still = now
		}
		m.read = waits
	case m.still.IsZero() || read != m.read:
		m.still, m.read = now, read
	}
	switch {
	case s.Timer != Probe || s.Unacked == 0:
		m.closed = time.Time{}
	case m.closed.IsZero():
		m.closed = now
	}
}

// programOf gives the process of a socket, or none.
func (t *Table) programOf(s *Socket) Program {
	p, _ := t.Program(s)
	return p
}

// Seen is what a tracker has seen, ready to be shown. It does not change any more.
type Seen struct {
	*Table
	Stuck  []Stuck // the longest first
	Began  time.Time
	Opened int
	Closed int
	Events []Event // the newest of those, the oldest first
	// Missed is how many connections were opened, by the system's own count, that nobody saw; Told, that none can be missed.
	Missed int
	Told   bool
	first  map[uint64]time.Time
}

// See gives what has been seen so far.
func (k *Tracker) See() *Seen {
	if k.table == nil {
		return nil
	}
	out := &Seen{Table: k.table, Began: k.began, Opened: k.opened, Closed: k.closed, Told: k.told}
	out.Events = slices.Clone(k.events[max(len(k.events)-mostEvents, 0):])
	if grown := k.table.Opens - k.opens; !k.told && k.table.Opens >= k.opens {
		out.Missed = max(int(grown)-k.opened, 0)
	}
	out.first = make(map[uint64]time.Time)
	for i := range k.table.Sockets {
		s := &k.table.Sockets[i]
		m := k.marks[s.ID]
		if m != nil && !m.early {
			out.first[s.ID] = m.first
		}
		if k.table.Mine(s) {
			continue
		}
		if why, lasts := k.table.judge(s, m); why != Moves {
			out.Stuck = append(out.Stuck, Stuck{*s, why, lasts})
		}
	}
	slices.SortStableFunc(out.Stuck, func(a, b Stuck) int {
		return cmp.Or(cmp.Compare(a.Why, b.Why), cmp.Compare(b.For, a.For))
	})
	return out
}

// Since gives when a socket came to be, as far as that is known.
func (v *Seen) Since(s *Socket) (time.Time, bool) {
	if s.State == SynSent {
		return v.At.Add(-v.Trying(s)), true
	}
	at, ok := v.first[s.ID]
	return at, ok
}
