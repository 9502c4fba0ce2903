package sockets

import (
	"cmp"
	"maps"
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

// mark is what a tracker remembers of a socket. Times are counted from when the looking began, and small: there may be very many.
type mark struct {
	first  time.Duration // seen first; 0: it was there when the looking began
	read   uint64        // octets that the program has read, or how few connections waited
	still  time.Duration // since when that is so, with something there to read; never: nothing is
	closed time.Duration // since when the other end's window is; never: it is not
	look   uint32
	index  int32 // in the table
}

// never is before any time.
const never = time.Duration(-1)

// lasting is how long something has been so; nothing where it is not.
func lasting(since, now time.Duration) time.Duration {
	if since == never {
		return 0
	}
	return now - since
}

// Tracker follows the sockets of a machine from one table to the next. The zero Tracker has seen nothing.
type Tracker struct {
	table  *Table
	marks  map[uint64]mark
	looks  uint32
	events []Event
	began  time.Time
	opened int
	closed int
	opens  uint64 // the system's own count when the looking began
	told   bool   // closings are told by the system
	// what the system has told the end of: a table that was read before may hold it still
	gone map[uint64]time.Time
}

// Telling notes that the system tells of each connection that ends.
func (k *Tracker) Telling() { k.told = true }

// Missed notes that the system could not tell of some: from now on it counts for nothing that it tells of the others.
func (k *Tracker) Missed() { k.told = false }

// Take takes a table in, which nobody changes any more.
func (k *Tracker) Take(t *Table) {
	first := k.table == nil
	if first {
		k.marks, k.began, k.opens = make(map[uint64]mark, len(t.Sockets)), t.At, t.Opens
	}
	k.looks++
	now := t.At.Sub(k.began)
	for i := range t.Sockets {
		s := &t.Sockets[i]
		if _, over := k.gone[s.ID]; over || s.ID == 0 || s.passing() {
			continue
		}
		m, known := k.marks[s.ID]
		if !known {
			m = mark{first: max(now, 1), still: never, closed: never}
			if first {
				m.first = 0
			}
			if !first && s.talks() {
				k.note(Event{At: t.At, Open: true, Socket: *s, Program: t.programOf(s)})
			}
		}
		m.look, m.index = k.looks, int32(i)
		m.take(s, now)
		k.marks[s.ID] = m
	}
	if was := k.table; was != nil {
		for i := range was.Sockets {
			s := &was.Sockets[i]
			if m, known := k.marks[s.ID]; known && m.look != k.looks {
				delete(k.marks, s.ID)
				if s.talks() {
					k.note(Event{At: t.At, Socket: *s, Program: was.programOf(s), Never: s.State == SynSent})
				}
			}
		}
	}
	k.table = t
	maps.DeleteFunc(k.gone, func(_ uint64, at time.Time) bool { return at.Before(t.At) })
}

// Closed takes in that the system has told of the end of a connection.
func (k *Tracker) Closed(at time.Time, s Socket) {
	if k.table == nil || !s.Remote.IsValid() {
		return
	}
	if k.gone == nil {
		k.gone = map[uint64]time.Time{}
	}
	k.gone[s.ID] = at
	e := Event{At: at, Socket: s, Told: true, Never: s.Measured && s.RTT == 0}
	if m, known := k.marks[s.ID]; known {
		delete(k.marks, s.ID)
		e.Program = k.table.programOf(&k.table.Sockets[m.index])
	} else { // it was opened and closed between two looks
		k.note(Event{At: at, Open: true, Socket: s, Told: true})
	}
	k.note(e)
}

// passing reports that it is no connection yet, or none any more: the kernel gives both another identity than the connection's own. Of what
// rests before it is over it tells no figures (struct inet_timewait_sock).
func (s *Socket) passing() bool {
	return s.Protocol == TCP && (s.State == SynReceived || s.State == TimeWait || s.State == FinWait2 && !s.Measured)
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

func (m *mark) take(s *Socket, now time.Duration) {
	read, waits := s.Received-min(uint64(s.Unread), s.Received), uint64(s.Unread)
	switch {
	case s.Unread == 0:
		m.still, m.read = never, read
	case s.State == Listen || s.Protocol == UDP: // of these it is not known how many there were: fewer than before are fewer
		if m.still == never || waits < m.read {
			m.still = now
		}
		m.read = waits
	case m.still == never || read != m.read:
		m.still, m.read = now, read
	}
	switch {
	case s.Timer != Probe || s.Unacked == 0:
		m.closed = never
	case m.closed == never:
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
	now := k.table.At.Sub(k.began)
	for i := range k.table.Sockets {
		s := &k.table.Sockets[i]
		var idle, full time.Duration
		if m, known := k.marks[s.ID]; known {
			idle, full = lasting(m.still, now), lasting(m.closed, now)
			if m.first > 0 {
				out.first[s.ID] = k.began.Add(m.first)
			}
		}
		if k.table.Mine(s) {
			continue
		}
		if why, lasts := k.table.judge(s, idle, full); why != Moves {
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
