package sockets

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"
	"time"
)

// End is what one program has to do with one other end: where it connects to, or where others connect to it.
type End struct {
	Program  Program
	Protocol Protocol
	At       netip.AddrPort // of the other end, or of the own one where others come
	Comes    bool           // others connect to it
	Sockets  []int          // in the table, the one that says most first
	Stuck    *Stuck
}

// Group is a program with all its ends.
type Group struct {
	Program Program // PID is 0 for the sockets of which it is not known whose they are
	Ends    []End
	Count   int // of sockets
	Stuck   int
}

// Listener is a socket that waits for others.
type Listener struct {
	Program Program
	Socket  *Socket
}

// Scope says for whom it listens.
func (l Listener) Scope() string {
	a := l.Socket.Local.Addr()
	switch {
	case a.IsLoopback():
		return "this machine only"
	case a.IsUnspecified() && (a.Is4() || l.Socket.OnlyV6):
		if a.Is4() {
			return "everybody, by IPv4"
		}
		return "everybody, by IPv6"
	case a.IsUnspecified():
		return "everybody"
	case a.IsLinkLocalUnicast():
		return "this segment, at " + a.WithZone("").String()
	case a.IsMulticast():
		return "what is sent to " + a.WithZone("").String()
	}
	return "whoever reaches " + a.String()
}

// Filter chooses sockets. Zero values choose all.
type Filter struct {
	PID     int
	Name    string // of the program
	State   *State
	Address netip.Addr // here or there
	Port    uint16     // here or there
	Family  int        // 4 or 6
}

// shortened is how much of a program's name a Linux kernel keeps (proc(5), comm).
const shortened = 15

// Named reports whether a program has a name, or the beginning of it that the kernel has kept.
func (p Program) Named(name string) bool {
	return p.PID > 0 && (p.Name == name || len(p.Name) == shortened && strings.HasPrefix(name, p.Name))
}

// Takes reports whether a socket is chosen.
func (f Filter) Takes(t *Table, s *Socket) bool {
	p := t.programOf(s)
	has := func(a netip.AddrPort) bool {
		return (!f.Address.IsValid() || a.Addr().WithZone("") == f.Address) && (f.Port == 0 || a.Port() == f.Port)
	}
	return (f.PID == 0 || p.PID == f.PID) && (f.Name == "" || p.Named(f.Name)) &&
		(f.State == nil || s.Protocol == TCP && s.State == *f.State) &&
		(has(s.Local) || has(s.Remote)) && (f.Family == 0 || (f.Family == 4) == s.Local.Addr().Is4())
}

// Listeners gives whom the sockets of the chosen programs wait for: of TCP, and of UDP those that anybody may send to. By port.
func (v *Seen) Listeners(f Filter) (out []Listener) {
	for i := range v.Sockets {
		s := &v.Sockets[i]
		if s.Waits() && !v.Mine(s) && f.Takes(v.Table, s) {
			out = append(out, Listener{v.programOf(s), s})
		}
	}
	slices.SortStableFunc(out, func(a, b Listener) int {
		return cmp.Or(cmp.Compare(a.Socket.Local.Port(), b.Socket.Local.Port()), cmp.Compare(a.Socket.Protocol, b.Socket.Protocol),
			a.Socket.Local.Addr().Compare(b.Socket.Local.Addr()))
	})
	return out
}

// Waits reports that a socket waits for others.
func (s *Socket) Waits() bool {
	return s.Protocol == TCP && s.State == Listen || s.Protocol == UDP && !s.Remote.IsValid() && s.Local.Port() != 0
}

// Count gives how many connections the programs have, how many sockets wait for others, and how many connections no program has any more.
func (v *Seen) Count() (connections, waiting, left int) {
	for i := range v.Sockets {
		switch s := &v.Sockets[i]; {
		case v.Mine(s):
		case s.Waits():
			waiting++
		case s.left():
			left++
		case s.Remote.IsValid():
			connections++
		}
	}
	return connections, waiting, left
}

// left reports that no program has it any more: it was closed here, and the system sees to its end.
func (s *Socket) left() bool {
	return s.Protocol == TCP && s.Remote.IsValid() && s.Owner < 0 && s.Inode == 0 && s.State != Established && s.State != SynReceived ||
		s.State == TimeWait
}

// Groups gives the connections of the chosen programs by program, and then by other end: those that are stuck first, then the busiest.
func (v *Seen) Groups(f Filter) []Group {
	type place struct {
		protocol Protocol
		port     uint16
	}
	listens := map[place]bool{}
	for i := range v.Sockets {
		if s := &v.Sockets[i]; s.Protocol == TCP && s.State == Listen {
			listens[place{s.Protocol, s.Local.Port()}] = true
		}
	}
	type key struct {
		pid      int
		protocol Protocol
		at       netip.AddrPort
		comes    bool
	}
	ends := map[key]*End{}
	for i := range v.Sockets {
		s := &v.Sockets[i]
		if !s.Remote.IsValid() || s.left() || v.Mine(s) || !f.Takes(v.Table, s) {
			continue
		}
		p := v.programOf(s)
		k := key{p.PID, s.Protocol, s.Remote, false}
		if listens[place{s.Protocol, s.Local.Port()}] {
			k.at, k.comes = s.Local, true
		}
		e := ends[k]
		if e == nil {
			e = &End{Program: p, Protocol: s.Protocol, At: k.at, Comes: k.comes}
			ends[k] = e
		}
		e.Sockets = append(e.Sockets, i)
	}
	stuck := map[uint64]*Stuck{}
	for i := range v.Stuck {
		stuck[v.Stuck[i].ID] = &v.Stuck[i]
	}
	groups := map[int]*Group{}
	for _, e := range ends {
		g := groups[e.Program.PID]
		if g == nil {
			g = &Group{Program: e.Program}
			groups[e.Program.PID] = g
		}
		for n, i := range e.Sockets {
			if x := stuck[v.Sockets[i].ID]; x != nil {
				g.Stuck++
				if e.Stuck == nil || x.Why < e.Stuck.Why {
					e.Stuck, e.Sockets[0], e.Sockets[n] = x, i, e.Sockets[0]
				}
			}
		}
		g.Count += len(e.Sockets)
		g.Ends = append(g.Ends, *e)
	}
	out := make([]Group, 0, len(groups))
	for _, g := range groups {
		slices.SortFunc(g.Ends, func(a, b End) int {
			return cmp.Or(rank(a.Stuck)-rank(b.Stuck), cmp.Compare(len(b.Sockets), len(a.Sockets)), a.At.Compare(b.At))
		})
		out = append(out, *g)
	}
	slices.SortFunc(out, func(a, b Group) int {
		unknown := func(g Group) int { return min(g.Program.PID, 1) }
		return cmp.Or(cmp.Compare(min(b.Stuck, 1), min(a.Stuck, 1)), cmp.Compare(unknown(b), unknown(a)), cmp.Compare(b.Count, a.Count),
			cmp.Compare(a.Program.Name, b.Program.Name), cmp.Compare(a.Program.PID, b.Program.PID))
	})
	return out
}

func rank(s *Stuck) int {
	if s == nil {
		return len(whys)
	}
	return int(s.Why)
}

// Wants gives where the chosen programs connect to, those that do not get there first, then the newest: what to ask about.
func (v *Seen) Wants(f Filter) (out []netip.AddrPort) {
	add := func(s *Socket) {
		if !slices.Contains(out, s.Remote) {
			out = append(out, s.Remote)
		}
	}
	for i := range v.Stuck {
		if s := &v.Stuck[i].Socket; s.talks() && f.Takes(v.Table, s) {
			add(s)
		}
	}
	for _, g := range v.Groups(f) {
		for _, e := range g.Ends {
			if !e.Comes && e.Protocol == TCP && !e.At.Addr().IsLoopback() {
				add(&v.Sockets[e.Sockets[0]])
			}
		}
	}
	return out
}

// Lasts gives how long a socket is there, as far as that is known.
func (v *Seen) Lasts(s *Socket) (time.Duration, bool) {
	at, ok := v.Since(s)
	return max(v.At.Sub(at), 0), ok
}
