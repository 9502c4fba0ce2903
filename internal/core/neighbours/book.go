// Package neighbours keeps what is known of the machines on one segment: what the system's table believes, who has claimed which address
// when, and what they are called. It computes; it asks nobody and has no clock.
package neighbours

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
)

// The bounds of what a flood can fill.
const (
	mostEntries = 8192
	mostFaces   = 8
	mostNames   = 4
)

// Face is a hardware address under which an address was seen.
type Face struct {
	Hardware endpoint.HardwareAddr
	First    time.Time
	Last     time.Time
	Said     bool // it claimed the address itself; else the system's table has it so
}

// NameSource says who gives a name.
type NameSource uint8

// The sources of names.
const (
	_ NameSource = iota
	ByReverseDNS
	ByMulticastDNS // the machine itself, RFC 6762
	BySheet
	ByHostsFile
)

var nameSources = [...]string{"", "reverse DNS", "mDNS", "site sheet", "hosts file"}

func (s NameSource) String() string { return nameSources[s] }

// Name is a name and who gives it.
type Name struct {
	Text   string
	Source NameSource
}

// Entry is what is known of one address.
type Entry struct {
	Address  netip.Addr
	State    endpoint.NeighbourState // of the system's table; NeighbourUnknown if it has none
	Believed endpoint.HardwareAddr   // by the system's table
	Since    time.Time               // when the system last knew it true; zero if it does not say
	Faces    []Face                  // the oldest first
	Asked    time.Time               // by us, last; zero: never
	Answered bool                    // whether that was answered
	RTT      time.Duration
	Names    []Name
}

// Book is what is known of one segment. It is not safe for concurrent use.
type Book struct {
	Gateways []netip.Addr
	entries  map[netip.Addr]*Entry
	empty    map[netip.Addr]bool // asked by us, and nobody is there: the system's table may still tell of it
	Missed   int                 // claims that found no room
}

// NewBook begins an empty one.
func NewBook(gateways []netip.Addr) *Book {
	return &Book{Gateways: gateways, entries: map[netip.Addr]*Entry{}, empty: map[netip.Addr]bool{}}
}

func (b *Book) entry(a netip.Addr) *Entry {
	a = a.WithZone("")
	e := b.entries[a]
	if e == nil {
		if len(b.entries) >= mostEntries {
			b.Missed++
			return nil
		}
		e = &Entry{Address: a}
		b.entries[a] = e
	}
	return e
}

func (e *Entry) face(h endpoint.HardwareAddr, at time.Time, said bool) {
	if h.IsZero() {
		return
	}
	for i := range e.Faces {
		if e.Faces[i].Hardware == h {
			e.Faces[i].Said = e.Faces[i].Said || said
			if at.After(e.Faces[i].Last) {
				e.Faces[i].Last = at
			}
			return
		}
	}
	if len(e.Faces) < mostFaces {
		e.Faces = append(e.Faces, Face{h, at, at, said})
	}
}

// Table takes in the system's neighbour table as it is at a moment. Entries that have gone from it are no longer believed.
func (b *Book) Table(at time.Time, table []endpoint.Neighbour) {
	for _, e := range b.entries {
		e.State, e.Believed, e.Since = endpoint.NeighbourUnknown, endpoint.HardwareAddr{}, time.Time{}
	}
	for _, n := range table {
		if n.Address.IsMulticast() || b.nobody(n) {
			continue
		}
		e := b.entry(n.Address)
		if e == nil {
			continue
		}
		e.State, e.Believed = n.State, n.Hardware
		if n.Aged {
			e.Since = at.Add(-n.Age)
		}
		if n.State.Resolved() {
			e.face(n.Hardware, at, false)
		}
	}
}

// nobody reports whether an entry of the system's table only says that an address was asked for at which nobody is, as happens while a
// segment is asked as a whole.
func (b *Book) nobody(n endpoint.Neighbour) bool {
	if !n.Hardware.IsZero() || b.entries[n.Address] != nil || slices.Contains(b.Gateways, n.Address) {
		return false
	}
	return n.State == endpoint.Incomplete || b.empty[n.Address]
}

// Claim takes in that somebody says an address is theirs.
func (b *Book) Claim(at time.Time, a netip.Addr, h endpoint.HardwareAddr) {
	if e := b.entry(a); e != nil {
		e.face(h, at, true)
	}
}

// Ask takes in that an address was asked for, and how it ended.
func (b *Book) Ask(at time.Time, n evidence.Neighbour) {
	if n.Outcome != evidence.Answered && n.Outcome != evidence.Silent {
		return
	}
	if e, known := b.entries[n.Asked.WithZone("")]; !known && n.Outcome == evidence.Silent {
		if len(b.empty) < mostEntries {
			b.empty[n.Asked.WithZone("")] = true
		}
		return // an address at which nothing is needs no entry
	} else if known || n.Outcome == evidence.Answered {
		if e == nil {
			if e = b.entry(n.Asked); e == nil {
				return
			}
		}
		e.Asked, e.Answered, e.RTT = at, n.Outcome == evidence.Answered, n.RTT
		for _, h := range n.Hardware {
			e.face(h, at, true)
		}
	}
}

// Call takes in a name.
func (b *Book) Call(a netip.Addr, n Name) {
	e, known := b.entries[a.WithZone("")]
	if known && n.Text != "" && !slices.Contains(e.Names, n) && len(e.Names) < mostNames {
		e.Names = append(e.Names, n)
		slices.SortStableFunc(e.Names, func(a, b Name) int { return cmp.Compare(a.Source, b.Source) })
	}
}

// Known lists the addresses that have an entry.
func (b *Book) Known() []netip.Addr {
	return slices.SortedFunc(maps.Keys(b.entries), netip.Addr.Compare)
}

// Nameless lists the addresses that somebody answers for and that have no name yet.
func (b *Book) Nameless() (out []netip.Addr) {
	for a, e := range b.entries {
		if len(e.Names) == 0 && len(e.Faces) > 0 {
			out = append(out, a)
		}
	}
	slices.SortFunc(out, netip.Addr.Compare)
	return out
}

// Mark is something about an entry that matters.
type Mark uint8

// The marks.
const (
	_           Mark = iota
	SeveralHold      // several hardware addresses claim it
	Changed          // its hardware address is another than when this began
	Pinned           // fixed by hand
	FixedWrong       // fixed by hand, and another hardware address claims it
	Shared           // a hardware address that routers share
	HoldsMany        // the same hardware address answers for many
	IsGateway
)

var markWords = [...]string{"", "several answer", "has changed", "fixed by hand", "fixed, and wrong", "shared by routers",
	"answers for many", "gateway"}

func (m Mark) String() string { return markWords[m] }

// Wrong reports whether the mark is a finding and not a remark.
func (m Mark) Wrong() bool { return m == SeveralHold || m == Changed || m == FixedWrong }

// manyAddresses is from how many IPv4 addresses on one hardware address is told: a machine may have two or three.
const manyAddresses = 4

// Row is an entry as it is shown.
type Row struct {
	Entry
	Hardware endpoint.HardwareAddr // the one that counts: believed, else claimed last
	Words    string                // what the state means
	Alive    bool                  // somebody has answered or spoken lately
	Marks    []Mark
	Beside   []endpoint.HardwareAddr // the others that claim it
}

// Rows gives all entries, in order of address, as they are at a moment.
func (b *Book) Rows(now time.Time) (out []Row) {
	held := map[endpoint.HardwareAddr]int{}
	for _, e := range b.entries {
		if e.Address.Is4() {
			for _, f := range e.Faces {
				held[f.Hardware]++
			}
		}
	}
	for _, e := range b.entries {
		out = append(out, b.row(e, now, held))
	}
	slices.SortFunc(out, func(a, b Row) int { return a.Address.Compare(b.Address) })
	return out
}

func (b *Book) row(e *Entry, now time.Time, held map[endpoint.HardwareAddr]int) Row {
	r := Row{Entry: *e, Hardware: e.Believed}
	r.Faces, r.Names = slices.Clone(e.Faces), slices.Clone(e.Names)
	var said []Face
	for _, f := range e.Faces {
		if f.Said {
			said = append(said, f)
		}
	}
	slices.SortStableFunc(said, func(a, b Face) int { return b.Last.Compare(a.Last) })
	if r.Hardware.IsZero() && len(e.Faces) > 0 {
		r.Hardware = e.Faces[0].Hardware
		if len(said) > 0 {
			r.Hardware = said[0].Hardware
		}
	}
	for _, f := range e.Faces {
		if f.Hardware != r.Hardware {
			r.Beside = append(r.Beside, f.Hardware)
		}
	}
	if slices.Contains(b.Gateways, e.Address) {
		r.Marks = append(r.Marks, IsGateway)
	}
	shared := slices.ContainsFunc(e.Faces, func(f Face) bool { return f.Hardware.Shared() })
	switch {
	case e.State == endpoint.Permanent && len(said) > 0 &&
		!slices.ContainsFunc(said, func(f Face) bool { return f.Hardware == e.Believed }):
		r.Marks = append(r.Marks, FixedWrong)
	case e.State == endpoint.Permanent:
		r.Marks = append(r.Marks, Pinned)
	}
	switch {
	case shared:
		r.Marks = append(r.Marks, Shared)
	case len(said) > 1 && overlap(said):
		r.Marks = append(r.Marks, SeveralHold)
	case len(e.Faces) > 1 && e.State != endpoint.Permanent:
		r.Marks = append(r.Marks, Changed)
	}
	if e.Address.Is4() && held[r.Hardware] >= manyAddresses {
		r.Marks = append(r.Marks, HoldsMany)
	}
	r.Words, r.Alive = words(e, said, now)
	return r
}

// together is within which time two claims to one address are rivals and not a change of hands.
const together = time.Minute

// overlap reports whether an older face spoke again after a newer one had appeared, or both at nearly the same time.
func overlap(said []Face) bool {
	for i, a := range said {
		for _, b := range said[i+1:] {
			if a.Last.Sub(b.Last).Abs() < together {
				return true
			}
		}
	}
	return false
}

// words says what is known of the state, with its age.
func words(e *Entry, said []Face, now time.Time) (string, bool) {
	var spoke time.Time
	if len(said) > 0 {
		spoke = said[0].Last
	}
	switch {
	case e.State == endpoint.Permanent:
		if spoke.IsZero() {
			return "fixed by hand", false
		}
		return "fixed by hand; spoke " + Age(now.Sub(spoke)), now.Sub(spoke) < together
	case !e.Asked.IsZero() && !e.Answered && !spoke.After(e.Asked):
		return "asked " + Age(now.Sub(e.Asked)) + ", and silent", false
	case !e.Asked.IsZero() && e.Answered && !spoke.After(e.Asked.Add(time.Second)):
		return "answered " + Age(now.Sub(e.Asked)), now.Sub(e.Asked) < together
	case e.State == endpoint.Reachable && !e.Since.IsZero() && !spoke.After(e.Since):
		return "answered " + Age(now.Sub(e.Since)), true
	case !spoke.IsZero():
		return "spoke " + Age(now.Sub(spoke)), now.Sub(spoke) < together
	}
	switch e.State {
	case endpoint.Reachable:
		return "answered lately", true
	case endpoint.Stale:
		if e.Since.IsZero() {
			return "not asked lately", false
		}
		return "not asked for " + Length(now.Sub(e.Since)), false
	case endpoint.Delay:
		return "being rechecked", false
	case endpoint.Probe:
		return "being asked again", false
	case endpoint.Incomplete:
		return "asked, no answer yet", false
	case endpoint.Failed:
		return "asked, and silent", false
	}
	return "gone from this machine's table", false
}

// Age writes how long ago something was.
func Age(d time.Duration) string {
	if d < time.Second {
		return "just now"
	}
	return Length(d) + " ago"
}

// Length writes a time in one unit.
func Length(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", max(int(d.Seconds()), 1))
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}
