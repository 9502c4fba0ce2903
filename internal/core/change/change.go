package change

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/subnet"
)

// Change is what shall be different, in one value.
type Change struct {
	// Set is an address with all that goes with it: mask, gateway, name servers. What is not given of those is carried along.
	Set *Static
	// Steps are single things to be added, taken away or set.
	Steps []Op
}

// Lease is the one that it stands on, or nil.
func (c Change) Lease() *dhcp.Terms {
	if c.Set == nil {
		return nil
	}
	return c.Set.Leased
}

// Proposal is a change that could be made, and why these values.
type Proposal struct {
	Title  string
	From   string // who says so
	Change Change
}

// Static are an interface's settings as one set.
type Static struct {
	Interface string
	Address   netip.Prefix  // host bits kept
	For       time.Duration // the address goes by itself after so long; 0: it stays
	ForGood   bool          // its manager is to keep it too
	Leased    *dhcp.Terms   // the lease that all of this is of; nil: set by hand
	Gateway   netip.Addr    // zero: the one there is, or none in a lease
	Resolvers []netip.Addr  // nil: those there are
	Search    []string      // nil: the list there is
}

// To gives the settings as they shall be. What no machine can be told is refused, in one line that says how to mend it.
func (c Change) To(s Settings) (Settings, error) {
	out := s.Clone()
	if c.Set != nil {
		if err := c.Set.on(&out); err != nil {
			return s, err
		}
	}
	for _, o := range c.Steps {
		if err := sensible(o); err != nil {
			return s, err
		}
		next, err := out.Apply(o)
		if err != nil {
			return s, err
		}
		out = next
	}
	out.sort()
	return out, nil
}

// usable refuses an address that no host can have: of no network, of a group, of a network itself or of all of it.
func usable(p netip.Prefix) error {
	a := p.Addr()
	switch kind := subnet.KindOf(a); {
	case !p.IsValid():
		return errors.New("give an address with its prefix length, such as 172.27.40.23/24")
	case p.Bits() == 0:
		return fmt.Errorf("%v: a prefix length of 0 makes everybody a neighbour; give that of the network, such as /24", p)
	case a.IsUnspecified() || a.IsMulticast() || a.IsLoopback() || kind == subnet.Reserved:
		return fmt.Errorf("%v is no host's address on a network; give one of the network's", a)
	case subnet.Usable(p, a):
		return nil
	case a == p.Masked().Addr():
		return fmt.Errorf("%v is the network itself; its hosts begin at %v", a, a.Next())
	}
	return fmt.Errorf("%v means all hosts of %v; its hosts end at %v", a, p.Masked(), a.Prev())
}

// gateway refuses one that cannot be: of another family, or no host.
func gateway(via netip.Addr, v6 bool) error {
	switch {
	case via.Is6() != v6:
		return fmt.Errorf("the gateway %v is of the other address family; give one of the same", via)
	case via.IsUnspecified() || via.IsMulticast() || via.IsLoopback():
		return fmt.Errorf("%v is no gateway; give the address of a router on the segment", via)
	}
	return nil
}

// sensible refuses steps that the system would take, or refuse without a reason that helps.
func sensible(o Op) error {
	switch o.Do {
	case AddAddress:
		return usable(o.Prefix)
	case AddRoute:
		if o.Prefix != o.Prefix.Masked() {
			return fmt.Errorf("%v has bits beyond its length set; give %v", o.Prefix, o.Prefix.Masked())
		}
		if o.Via.IsValid() {
			return gateway(o.Via, o.Prefix.Addr().Is6())
		}
	case AddNeighbour:
		if o.Address.IsUnspecified() || o.Address.IsMulticast() {
			return fmt.Errorf("%v is no neighbour's address", o.Address)
		}
		if o.Hardware[0]&1 != 0 || o.Hardware == [6]byte{} {
			return fmt.Errorf("%v is no single station's hardware address", o.Hardware)
		}
	case SetResolvers:
		for _, a := range o.Resolvers {
			if a.IsUnspecified() || a.IsMulticast() {
				return fmt.Errorf("%v is no name server's address", a)
			}
		}
	}
	return nil
}

// on puts a set of settings in the place of the interface's own of that family. Routes are carried along: what led by the old gateway leads
// by the new one, and only what no network carries any more goes.
func (c *Static) on(s *Settings) error {
	v6 := c.Address.Addr().Is6()
	if err := usable(c.Address); err != nil {
		return err
	}
	via := c.Gateway
	if via.IsValid() {
		if err := gateway(via, v6); err != nil {
			return err
		}
		if via == c.Address.Addr() {
			return fmt.Errorf("%v is to be the machine itself, and its gateway as well; give the router's address", via)
		}
	}
	at := slices.IndexFunc(s.Links, func(l Link) bool { return l.Interface == c.Interface })
	if at < 0 {
		return fmt.Errorf("%q: %w", c.Interface, errNoInterface)
	}
	s.Links[at].Up = true
	own := func(a Address) bool { return a.Interface == c.Interface && a.Prefix.Addr().Is6() == v6 }
	s.Addresses = slices.DeleteFunc(s.Addresses, own)
	if set := (Address{c.Interface, c.Address}); !slices.Contains(s.Made, set) {
		s.Addresses = append(s.Addresses, set)
	}
	var had Route // the default route that there is
	kept := s.Routes[:0]
	for _, r := range s.Routes {
		mine := r.Interface == c.Interface && r.To.Addr().Is6() == v6
		switch {
		case mine && r.IsDefault() && r.Via.IsValid():
			if !had.Via.IsValid() || r.Via == via {
				had = r
			}
			continue
		case mine:
			r.Source = netip.Addr{}
		case r.Source.IsValid() && !s.owns(r.Source):
			r.Source = netip.Addr{}
		}
		kept = append(kept, r)
	}
	if !via.IsValid() && c.Leased == nil {
		via = had.Via
	}
	s.Routes = kept
	carried := s.bench()
	s.Routes = slices.DeleteFunc(kept, func(r Route) bool {
		return r.Interface == c.Interface && r.To.Addr().Is6() == v6 && r.Via.IsValid() && !r.OnLink && !carried.reaches(c.Interface, r.Via)
	})
	if via.IsValid() {
		everywhere := Route{To: netip.PrefixFrom(netip.IPv4Unspecified(), 0), Via: via, Interface: c.Interface}
		if v6 {
			everywhere.To = netip.PrefixFrom(netip.IPv6Unspecified(), 0)
		}
		if everywhere = everywhere.asKept(); had.Via == via { // it stays as it is
			everywhere.Metric, everywhere.Protocol = had.Metric, had.Protocol
		}
		if !carried.reaches(c.Interface, via) {
			return fmt.Errorf("the gateway %v lies outside %v; correct one of them", via, c.Address.Masked())
		}
		s.Routes = append(slices.DeleteFunc(s.Routes, func(r Route) bool { return r.entry() == everywhere.entry() }), everywhere)
	}
	if c.Resolvers != nil || c.Search != nil {
		o := Op{Do: SetResolvers, Resolvers: c.Resolvers, Search: c.Search}
		if o.Resolvers == nil {
			o.Resolvers = s.Resolvers
		}
		if o.Search == nil {
			o.Search = s.Search
		}
		if err := sensible(o); err != nil {
			return err
		}
		if err := s.bench().apply(o); err != nil {
			return err
		}
	}
	if c.ForGood {
		return c.keep(s, via)
	}
	return nil
}
