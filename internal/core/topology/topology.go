// Package topology puts a case on a line: the stations between this machine and the target, by zone, and how the strand between them holds.
package topology

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

// Station is one place on the line, with the state of the strand that leads to it.
type Station struct {
	Role  Role
	Label string
	Note  string // what it is or says, in a word or two
	State verdict.State
}

// Role is what a station is on the line for.
type Role string

// The roles, in the order in which they stand.
const (
	Loopback   Role = "loopback"
	Interface  Role = "port"
	Address    Role = "address"
	DHCP       Role = "dhcp"
	Neighbours Role = "neighbours"
	Gateway    Role = "gateway"
	Names      Role = "names"
	Path       Role = "path"
	Service    Role = "service"
)

// Line is the whole: the host's stations in a row, the segment's as branches with the gateway last, and beyond it the name service and the
// stations on the way to the target.
type Line struct {
	Host    []Station
	Segment string // the prefix of the segment
	Local   []Station
	Names   []Station // name servers beyond the gateway
	Beyond  []Station
	Broken  zone.Zone // the zone in which the fault lies
}

// Of draws the line from the evidence and what was judged of it.
func Of(s *evidence.Set, r verdict.Result) Line {
	p := facts.New(s)
	l := Line{Broken: r.Zone.Blamed()}
	if s.Endpoint == nil {
		return l
	}
	state := map[string]verdict.State{}
	for _, c := range r.Checks {
		state[c.ID] = c.State
	}
	l.host(p, state)
	l.local(p, s, state, r)
	l.beyond(p, s, state, r)
	l.behind(r)
	l.marked()
	return l
}

// marked has the break stand somewhere in its zone, also where no station is for it: this machine's own filter shows at the address, and
// on the segment it is the last station.
func (l *Line) marked() {
	stations := map[zone.Zone][]Station{zone.Host: l.Host, zone.LocalSubnet: l.Local}[l.Broken]
	if len(stations) > 0 && !slices.ContainsFunc(stations, Station.wrong) {
		stations[len(stations)-1].State = verdict.Broken
	}
}

// wrong reports whether something is amiss at a station.
func (s Station) wrong() bool { return s.State == verdict.Strained || s.State == verdict.Broken }

// behind takes back what is said of stations behind the zone with the fault: that they fail there follows from the fault, and tells nothing
// of them. The service stays, it is what was asked about.
func (l *Line) behind(r verdict.Result) {
	check := ""
	if suspect, ok := r.Suspect(r.Fault); ok {
		check = suspect.Fault.Check
	}
	for i := range l.Host { // without DHCP there is no address: wrong, and not what is broken
		if st := &l.Host[i]; st.Role == Address && st.State == verdict.Broken && check == "dhcp" {
			st.State = verdict.Strained
		}
	}
	for _, part := range []struct {
		zone     zone.Zone
		stations []Station
	}{{zone.LocalSubnet, l.Local}, {zone.Beyond, l.Names}, {zone.Beyond, l.Beyond}} {
		if l.Broken == zone.Unknown || part.zone <= l.Broken {
			continue
		}
		for i := range part.stations {
			st := &part.stations[i]
			if st.State == verdict.Broken && st.Role != Service && string(st.Role) != check {
				st.State = verdict.StateUnknown
			}
		}
	}
}

func (l *Line) host(p *facts.Facts, state map[string]verdict.State) {
	port := Station{Role: Interface, Label: "no interface", State: state["link"]}
	if p.Iface != nil {
		port.Label = p.Iface.Name
	}
	address := Station{Role: Address, Label: "no address", State: state["address"]}
	if p.Iface != nil {
		for _, a := range slices.Concat(p.Iface.Usable(false), p.Iface.Usable(true)) {
			address.Label = Tail(a.Prefix.Addr()) + fmt.Sprintf("/%d", a.Prefix.Bits())
			l.Segment = a.Prefix.Masked().String()
			break
		}
		if own, self := p.Iface.SelfAssigned(); self && address.Label == "no address" {
			address.Label = own.Prefix.Addr().String()
		}
	}
	if address.State == verdict.Holds && state["route"] == verdict.Broken {
		address.Note, address.State = "no gateway", verdict.Broken
		if p.Gateway.IsValid() {
			address.Note = "wrong route"
		}
	}
	if address.State == verdict.Holds && state["resolvers"] == verdict.Broken {
		address.Note, address.State = "names", verdict.Broken
	}
	l.Host = []Station{{Role: Loopback, Label: "loopback", State: state["loopback"]}, port, address}
}

func (l *Line) local(p *facts.Facts, s *evidence.Set, state map[string]verdict.State, result verdict.Result) {
	if n := len(p.Others); n > 0 {
		l.Local = append(l.Local, Station{Role: Neighbours, Label: counted(n, "neighbour"), State: verdict.Holds})
	} else if st, known := state["neighbours"]; known {
		l.Local = append(l.Local,
			Station{Role: Neighbours, Label: "neighbours", State: st,
				Note: map[bool]string{true: "nobody", false: ""}[st == verdict.Broken]})
	}
	if state["conflict"] == verdict.Broken { // one of them holds this machine's address too
		if len(l.Local) == 0 {
			l.Local = append(l.Local, Station{Role: Neighbours, Label: "neighbours"})
		}
		l.Local[0].State, l.Local[0].Note = verdict.Broken, "the same address"
	}
	roles := map[netip.Addr][]string{}
	states := map[netip.Addr]verdict.State{}
	var order []netip.Addr
	add := func(a netip.Addr, role string, st verdict.State) {
		if _, ok := roles[a]; !ok {
			order = append(order, a)
		}
		roles[a] = append(roles[a], role)
		states[a] = max(states[a], st)
	}
	if offers, over := p.OffersSeen(); len(offers) > 0 {
		for _, o := range offers {
			add(o.Server, "DHCP", verdict.Holds)
		}
	} else if over && state["dhcp"] == verdict.Broken {
		l.Local = append(l.Local, Station{Role: DHCP, Label: "DHCP", Note: "silent", State: verdict.Broken})
	}
	for _, r := range p.Resolvers {
		if r.OnLink && !p.Owns(r.Address) { // the machine's own stands in the host
			add(r.Address, "names", standing(r, result))
		}
	}
	for _, a := range order {
		if a == p.Gateway {
			continue // one station: its further roles stand beside "gateway"
		}
		role := Names
		if slices.Contains(roles[a], "DHCP") {
			role = DHCP
		}
		l.Local = append(l.Local, Station{Role: role, Label: name(s, a), Note: strings.Join(roles[a], " · "), State: states[a]})
	}
	if p.Gateway.IsValid() {
		gw := Station{Role: Gateway, Label: name(s, p.Gateway), Note: "gateway", State: state["gateway"]}
		if also := roles[p.Gateway]; len(also) > 0 {
			gw.Note += " · " + strings.Join(also, " · ")
			gw.State = max(gw.State, states[p.Gateway])
		}
		if state["gateway"] == verdict.Broken && p.Alive != facts.Yes {
			gw.Note = "silent"
		}
		l.Local = append(l.Local, gw)
	} else if state["route"] != verdict.Skipped {
		st := state["route"]
		if state["address"] != verdict.Holds {
			st = verdict.StateUnknown // without an address there can be none
		}
		l.Local = append(l.Local, Station{Role: Gateway, Label: "no gateway", State: st})
	}
}

func speaking(r facts.ResolverFact) verdict.State {
	switch {
	case r.Speaks == facts.Yes && r.RCode == "":
		return verdict.Holds
	case r.Speaks == facts.Yes:
		return verdict.Strained
	case r.Speaks == facts.No:
		return verdict.Broken
	}
	return verdict.StateUnknown
}

// standing is how a name server stands in the light of the verdict: where the break lies elsewhere, it fails because of that; where nothing
// stands in the way, it is in nobody's.
func standing(r facts.ResolverFact, result verdict.Result) verdict.State {
	st, blamed := speaking(r), false
	if suspect, ok := result.Suspect(result.Fault); ok {
		blamed = suspect.Fault.Check == "names"
	}
	switch elsewhere := !r.OnLink || result.Zone.Blamed() == zone.Beyond; {
	case st != verdict.Broken || blamed:
		return st
	case result.Zone == zone.None:
		return verdict.Strained
	case elsewhere:
		return verdict.StateUnknown
	}
	return st
}

func (l *Line) beyond(p *facts.Facts, s *evidence.Set, state map[string]verdict.State, result verdict.Result) {
	reached := state["forwarding"] == verdict.Holds
	for _, r := range p.Resolvers {
		if !r.OnLink {
			l.Names = append(l.Names, Station{Role: Names, Label: name(s, r.Address), Note: "names", State: standing(r, result)})
		}
	}
	if s.Target.IsZero() {
		return
	}
	for _, t := range p.Trails {
		if !slices.Contains(p.Addresses, t.To) && (len(p.Addresses) > 0 || !p.NeedsName()) {
			continue
		}
		for _, st := range t.Stations {
			if st.HopLimit > 1 && st.From.IsValid() && st.From != t.To && slices.Contains(p.Outside, st.From) {
				l.Beyond = append(l.Beyond, Station{Role: Path, Label: name(s, st.From), State: verdict.Holds})
			}
		}
		break
	}
	target := Station{Role: Service, Label: Short(s.Target.Host(), s), State: state["service"]}
	if s.Target.Port != 0 {
		target.Note = fmt.Sprintf(":%d", s.Target.Port)
	}
	if !p.TargetOnLink() && !reached {
		target.State = verdict.StateUnknown
	}
	if p.NameFailed() {
		target.State = verdict.StateUnknown
		if l.Broken == zone.Beyond && reached {
			target.State = verdict.Broken
		}
	}
	switch result.Fault {
	case fault.PathLossy.ID, fault.PathSlow.ID, fault.MTUBlackHole.ID:
		target.State = verdict.Broken
	}
	if target.State == verdict.Skipped {
		target.State = verdict.StateUnknown
	}
	if state["forwarding"] == verdict.Broken {
		l.Beyond = append(l.Beyond, Station{Role: Path, Label: "uplink", State: verdict.Broken})
	}
	l.Beyond = append(l.Beyond, target)
}

// name is how a station is called: by its name without the site's domain and the end of its address.
func name(s *evidence.Set, a netip.Addr) string {
	if n := s.NameOf(a); n != "" {
		short := Short(n, s)
		if a.Is4() && onSegment(s, a) {
			return short + " " + Tail(a)
		}
		return short
	}
	if onSegment(s, a) {
		return Tail(a)
	}
	return a.String()
}

func onSegment(s *evidence.Set, a netip.Addr) bool {
	i, ok := s.Endpoint.Interface(s.Interface)
	return ok && i.OnLink(a)
}

// Short drops from a name the domain of the search list that it ends with, or else the target's own domain.
func Short(name string, s *evidence.Set) string {
	if s.Endpoint != nil {
		for _, d := range s.Endpoint.Search {
			if short, ok := strings.CutSuffix(name, "."+d); ok {
				return short
			}
		}
	}
	return name
}

// Tail is the last octet of an IPv4 address with its dot; IPv6 addresses come whole.
func Tail(a netip.Addr) string {
	if !a.Is4() {
		return a.String()
	}
	return fmt.Sprintf(".%d", a.As4()[3])
}

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
