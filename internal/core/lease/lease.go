// Package lease is what an endpoint was given by DHCP, by whom and until when, as its client wrote it down, and the state that follows from
// it at a moment (RFC 2131 §4.4.5).
package lease

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"passepartout/internal/core/dhcp"
)

// The clients whose files are known.
const (
	Dhclient       = "dhclient"
	Dhcpcd         = "dhcpcd"
	Networkd       = "networkd"
	NetworkManager = "NetworkManager"
)

// Lease is one lease as a client's file tells it. What the file does not hold is zero.
type Lease struct {
	Interface string
	Index     int
	Client    string // "" where only the kernel speaks of it
	Terms     dhcp.Terms
	Obtained  time.Time
	T1, T2    time.Time
	Expires   time.Time
	Plan      time.Time // when the client itself means to renew
	Endless   bool
	Released  bool
	InForce   bool
	Source    string // the file, relative to the root
	Options   []dhcp.Described
	Remarks   []string
}

// Flaw is a file that should have held a lease and could not be read.
type Flaw struct {
	Source string `json:"source"`
	Why    string `json:"why"`
}

// State is where a lease stands in its time.
type State string

// The states of a lease, in the contract's words. The empty one: its times are not known.
const (
	Unknown   State = ""
	Bound     State = "bound"
	Renewing  State = "renewing"
	Rebinding State = "rebinding"
	Expired   State = "expired"
	Released  State = "released"
)

// At is the state that follows from the times.
func (l *Lease) At(now time.Time) State {
	past := func(t time.Time) bool { return !t.IsZero() && !now.Before(t) }
	switch {
	case l.Released:
		return Released
	case l.Endless:
		return Bound
	case l.Expires.IsZero() && l.Obtained.IsZero():
		return Unknown
	case past(l.Expires):
		return Expired
	case past(l.T2):
		return Rebinding
	case past(l.T1):
		return Renewing
	}
	return Bound
}

// Remark adds a line, once.
func (l *Lease) Remark(format string, args ...any) {
	if line := fmt.Sprintf(format, args...); !slices.Contains(l.Remarks, line) {
		l.Remarks = append(l.Remarks, line)
	}
}

// Complete computes what follows from the rest, and says so: obtained from expiry or the reverse, T1 and T2 by default (RFC 2131 §4.4.5).
func (l *Lease) Complete() {
	if l.Terms.IsEndless() {
		l.Endless = true
	}
	if l.Endless {
		l.Expires, l.T1, l.T2 = time.Time{}, time.Time{}, time.Time{}
		return
	}
	length := l.Terms.Lease
	if length <= 0 {
		return
	}
	switch {
	case l.Obtained.IsZero() && !l.Expires.IsZero():
		l.Obtained = l.Expires.Add(-length)
		l.Remark("obtained is computed: expiry less the lease time")
	case l.Expires.IsZero() && !l.Obtained.IsZero():
		l.Expires = l.Obtained.Add(length)
	}
	if l.Released || l.Obtained.IsZero() {
		return
	}
	t1, t2 := dhcp.Times(length, l.Terms.T1, l.Terms.OwnT1, l.Terms.T2, l.Terms.OwnT2)
	if l.T1.IsZero() {
		l.T1 = l.Obtained.Add(t1)
		if !l.Terms.OwnT1 {
			l.Remark("T1 is computed: half the lease time")
		}
	}
	if l.T2.IsZero() {
		l.T2 = l.Obtained.Add(t2)
		if !l.Terms.OwnT2 {
			l.Remark("T2 is computed: seven eighths of the lease time")
		}
	}
}

// Held is an address that the kernel has on an interface.
type Held struct {
	Interface string
	Index     int
	Address   netip.Prefix
	Expires   time.Time // zero: it never does
}

// Settle decides which leases are in force: of those that name an address which the kernel has, for each address the one whose expiry is
// nearest to the kernel's own, else the latest. It names the interfaces of leases that are known by number only, and adds what only the
// kernel knows of.
func Settle(all []Lease, held []Held, now time.Time) []Lease {
	for i := range all {
		l := &all[i]
		for _, h := range held {
			switch {
			case l.Interface == "" && l.Index == h.Index:
				l.Interface = h.Interface
			case l.Index == 0 && l.Interface == h.Interface:
				l.Index = h.Index
			}
		}
		l.InForce = false
		before(l, now)
	}
	for _, h := range held {
		best, rivals := -1, []string{}
		for i := range all {
			l := &all[i]
			if l.Interface != h.Interface || l.Terms.Address != h.Address.Addr() || l.Released {
				continue
			}
			if l.Client != "" && !slices.Contains(rivals, l.Client) {
				rivals = append(rivals, l.Client)
			}
			if best < 0 || nearer(l, &all[best], h) {
				best = i
			}
		}
		switch {
		case best >= 0:
			l := &all[best]
			l.InForce = true
			l.follow(h)
			if l.Terms.PrefixLength != 0 && l.Terms.PrefixLength != h.Address.Bits() {
				l.Remark("the kernel has /%d, the lease /%d", h.Address.Bits(), l.Terms.PrefixLength)
			}
			if len(rivals) > 1 {
				l.Remark("several clients have a lease of this address: %s; this one's times agree best with the kernel's",
					strings.Join(rivals, ", "))
			}
		case !h.Expires.IsZero() && h.Address.Addr().Is4():
			all = append(all,
				Lease{Interface: h.Interface, Index: h.Index, Terms: dhcp.Terms{Address: h.Address.Addr(), PrefixLength: h.Address.Bits()},
					Expires: h.Expires, InForce: true,
					Source: "kernel", Remarks: []string{"no client's file speaks of it; the address and its end are the kernel's"}})
		}
	}
	managers(all)
	order(all)
	return all
}

// Alone decides without a kernel: for each interface the latest lease that has neither run out nor been given back.
func Alone(all []Lease, now time.Time) []Lease {
	best := map[string]int{}
	for i := range all {
		l := &all[i]
		l.InForce = false
		before(l, now)
		if s := l.At(now); s == Expired || s == Released {
			continue
		}
		key := l.Interface
		if key == "" {
			key = fmt.Sprint(l.Index)
		}
		if k, ok := best[key]; !ok || all[k].Obtained.Before(l.Obtained) {
			best[key] = i
		}
	}
	for _, i := range best {
		all[i].InForce = true
	}
	managers(all)
	order(all)
	return all
}

// follow takes over the kernel's end of the address where it is later than the file's: some clients do not write every renewal down, or
// late.
func (l *Lease) follow(h Held) {
	if l.Endless || l.Terms.Lease <= 0 || h.Expires.IsZero() || l.Expires.IsZero() || h.Expires.Sub(l.Expires) < fileLag {
		return
	}
	shift := h.Expires.Sub(l.Expires)
	l.Obtained, l.Expires = l.Obtained.Add(shift), h.Expires
	for _, t := range []*time.Time{&l.T1, &l.T2} {
		if !t.IsZero() {
			*t = t.Add(shift)
		}
	}
	l.Remark("renewed since the file was written, as the kernel's end of the address tells: the times are %s later than the file's",
		shift.Round(time.Second))
}

// fileLag is how much later than the file's the kernel's end must be to mean a renewal: clients round, and set the address a moment after
// the answer.
const fileLag = 3 * time.Second

func before(l *Lease, now time.Time) {
	if l.Obtained.After(now.Add(clockSlack)) {
		l.Remark("the clock stands before the lease's start: it is %s, and the lease was obtained at %s", now.UTC().Format(time.RFC3339),
			l.Obtained.UTC().Format(time.RFC3339))
	}
}

// clockSlack is what a file's modification may lie ahead of a clock that is right.
const clockSlack = 5 * time.Second

// managers notes where different clients speak of one interface with different addresses in force or not run out.
func managers(all []Lease) {
	for i := range all {
		for j := range all[:i] {
			a, b := &all[i], &all[j]
			if a.Interface == "" || a.Interface != b.Interface || a.Client == b.Client || a.Client == "" || b.Client == "" || !a.InForce &&
				!b.InForce {
				continue
			}
			other := b
			if b.InForce {
				other = a
			}
			holder := a
			if other == a {
				holder = b
			}
			holder.Remark("%s has a lease for %s too (%v): two clients may be managing one interface, or it is a leftover", other.Client,
				other.Interface, other.Terms.Address)
		}
	}
}

func nearer(a, b *Lease, h Held) bool {
	apart := func(l *Lease) time.Duration {
		switch {
		case h.Expires.IsZero() && (l.Endless || l.Expires.IsZero()):
			return 0
		case l.Expires.IsZero() || h.Expires.IsZero():
			return 1<<63 - 1
		}
		return l.Expires.Sub(h.Expires).Abs().Truncate(closeEnough)
	}
	if x, y := apart(a), apart(b); x != y {
		return x < y
	}
	return a.Obtained.After(b.Obtained)
}

// closeEnough is how far the expiries in two clients' files of one lease may lie apart.
const closeEnough = 15 * time.Second

// order puts those in force first, then by interface and source.
func order(all []Lease) {
	slices.SortStableFunc(all, func(a, b Lease) int {
		rank := func(l Lease) int {
			if l.InForce {
				return 0
			}
			return 1
		}
		return cmp.Or(cmp.Compare(rank(a), rank(b)), cmp.Compare(a.Interface, b.Interface), cmp.Compare(a.Index, b.Index),
			cmp.Compare(a.Source, b.Source))
	})
}

// For gives the lease in force of an interface.
func For(all []Lease, iface string) (Lease, bool) {
	for _, l := range all {
		if l.InForce && l.Interface == iface {
			return l, true
		}
	}
	return Lease{}, false
}
