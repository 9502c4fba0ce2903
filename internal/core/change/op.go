package change

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/wording"
)

// Do is what one step does.
type Do string

// What steps do: each is one request to the system.
const (
	AddAddress      Do = "add-address"
	RemoveAddress   Do = "remove-address"
	KeepAddress     Do = "keep-address" // one that goes by itself goes later
	AddRoute        Do = "add-route"
	RemoveRoute     Do = "remove-route"
	AddNeighbour    Do = "add-neighbour"
	RemoveNeighbour Do = "remove-neighbour"
	SwitchOn        Do = "switch-on"
	SwitchOff       Do = "switch-off"
	SetMTU          Do = "set-mtu"
	SetResolvers    Do = "set-name-servers"
	AddRule         Do = "add-rule"
	RemoveRule      Do = "remove-rule"
	AddHost         Do = "add-host" // a name of the hosts file
	RemoveHost      Do = "remove-host"
	SetSources      Do = "set-sources" // where programs look for hosts
	RenewLease      Do = "renew-lease" // by the client of DHCP that manages the interface
	ReleaseLease    Do = "release-lease"
	Store           Do = "store" // what its manager keeps of the interface
)

// Op is one step. What it does not need is zero.
type Op struct {
	Do        Do                    `json:"do"`
	Interface string                `json:"interface,omitempty"`
	Prefix    netip.Prefix          `json:"prefix,omitzero"` // an address with its prefix length, or a route's destination
	Via       netip.Addr            `json:"via,omitzero"`
	Source    netip.Addr            `json:"source,omitzero"`
	Metric    int                   `json:"metric,omitempty"`
	OnLink    bool                  `json:"on_link,omitempty"`
	Protocol  int                   `json:"protocol,omitempty"` // of a route; 0: set by hand
	Address   netip.Addr            `json:"address,omitzero"`   // of a neighbour
	Hardware  endpoint.HardwareAddr `json:"hardware,omitzero"`
	MTU       int                   `json:"mtu,omitempty"`
	For       time.Duration         `json:"for,omitempty"` // an address that goes by itself after so long; 0: it stays
	Resolvers []netip.Addr          `json:"name_servers,omitempty"`
	Search    []string              `json:"search,omitempty"`
	Priority  int                   `json:"priority,omitempty"` // of a rule
	From      netip.Prefix          `json:"from,omitzero"`
	Table     int                   `json:"table,omitempty"`
	IPv6      bool                  `json:"ipv6,omitempty"`
	Path      string                `json:"path,omitempty"`
	Text      string                `json:"text,omitempty"` // the part of the file
	// Name is one of the hosts file, the services where hosts are looked for, or who manages the interface.
	Name string `json:"name,omitempty"`
}

func addressOp(do Do, a Address) Op { return Op{Do: do, Interface: a.Interface, Prefix: a.Prefix} }

func routeOp(do Do, r Route) Op {
	return Op{Do: do, Interface: r.Interface, Prefix: r.To, Via: r.Via, Source: r.Source, Metric: r.Metric, Protocol: r.Protocol,
		OnLink: r.OnLink}
}

func neighbourOp(do Do, n Neighbour) Op {
	return Op{Do: do, Interface: n.Interface, Address: n.Address, Hardware: n.Hardware}
}

func ruleOp(do Do, r Rule) Op {
	return Op{Do: do, Priority: r.Priority, From: r.From, Prefix: r.To, Table: r.Table, IPv6: r.IPv6}
}

func hostOp(do Do, h Host) Op { return Op{Do: do, Address: h.Address, Name: h.Name} }

// File is where it is done; "" for the kernel.
func (o Op) File() string {
	switch o.Do {
	case SetResolvers:
		return "/etc/resolv.conf"
	case AddHost, RemoveHost:
		return "/etc/hosts"
	case SetSources:
		return endpoint.SwitchFile
	case Store:
		return o.Path
	}
	return ""
}

// Rule is the one that it adds or removes.
func (o Op) Rule() Rule { return Rule{o.Priority, o.IPv6, o.From, o.Prefix, o.Table} }

// Host is the name that it adds or removes.
func (o Op) Host() Host { return Host{o.Address, o.Name} }

// Route is the one that it adds or removes.
func (o Op) Route() Route {
	return Route{o.Prefix, o.Via, o.Interface, o.Source, o.Metric, o.Protocol, o.OnLink}.asKept()
}

// String says in words what it does.
func (o Op) String() string {
	switch o.Do {
	case AddAddress:
		if o.For > 0 {
			return fmt.Sprintf("gives %s the address %v for %s", o.Interface, o.Prefix, wording.Lasting(o.For))
		}
		return fmt.Sprintf("gives %s the address %v", o.Interface, o.Prefix)
	case KeepAddress:
		if o.For == 0 {
			return fmt.Sprintf("lets %s keep the address %v for good", o.Interface, o.Prefix)
		}
		return fmt.Sprintf("lets %s keep the address %v for %s", o.Interface, o.Prefix, wording.Lasting(o.For))
	case RemoveAddress:
		return fmt.Sprintf("takes the address %v from %s", o.Prefix, o.Interface)
	case AddRoute:
		return "adds the route " + o.Route().String()
	case RemoveRoute:
		return "takes the route " + o.Route().String() + " away"
	case AddNeighbour:
		return fmt.Sprintf("fixes %v at %v on %s", o.Address, o.Hardware, o.Interface)
	case RemoveNeighbour:
		return fmt.Sprintf("takes the entry of %v on %s away", o.Address, o.Interface)
	case SwitchOn:
		return "switches " + o.Interface + " on"
	case SwitchOff:
		return "switches " + o.Interface + " off"
	case SetMTU:
		return fmt.Sprintf("sets the MTU of %s to %d octets", o.Interface, o.MTU)
	case SetResolvers:
		return "sets the name servers to " + listed(o.Resolvers)
	case AddRule:
		return "adds the rule " + o.Rule().String()
	case RemoveRule:
		return "takes the rule " + o.Rule().String() + " away"
	case AddHost:
		return fmt.Sprintf("gives %s the address %v in the hosts file", o.Name, o.Address)
	case RemoveHost:
		return fmt.Sprintf("takes %s at %v out of the hosts file", o.Name, o.Address)
	case Store:
		if o.Text == "" {
			return fmt.Sprintf("takes %s away, and has %s set %s as it did before", o.Path, o.Name, o.Interface)
		}
		return fmt.Sprintf("has %s keep the settings of %s in %s", o.Name, o.Interface, o.Path)
	case RenewLease:
		return fmt.Sprintf("has %s renew the lease of %s", o.Name, o.Interface)
	case ReleaseLease:
		return fmt.Sprintf("has %s give back the lease of %s", o.Name, o.Interface)
	case SetSources:
		return "has hosts looked for in: " + o.Name
	}
	return string(o.Do)
}

// String is a rule in words.
func (r Rule) String() string {
	words := fmt.Sprintf("%d:", r.Priority)
	if r.From.IsValid() {
		words += fmt.Sprintf(" from %v", r.From)
	}
	if r.To.IsValid() {
		words += fmt.Sprintf(" to %v", r.To)
	}
	return words + fmt.Sprintf(" by table %d", r.Table)
}

// String is a name with its address.
func (h Host) String() string { return fmt.Sprintf("%s at %v", h.Name, h.Address) }

func listed(addrs []netip.Addr) string {
	if len(addrs) == 0 {
		return "none"
	}
	return joinedBy(", ", addrs)
}

func (r Route) String() string {
	to := r.To.String()
	if r.IsDefault() {
		to = "to everywhere"
	}
	if r.Via.IsValid() {
		return fmt.Sprintf("%s by %v on %s", to, r.Via, r.Interface)
	}
	return fmt.Sprintf("%s on %s itself", to, r.Interface)
}

// The bounds of an MTU: the least that every IPv4 link takes (RFC 791 §3.2), the least for IPv6 (RFC 8200 §5), and the most of a packet.
const (
	leastMTU    = 68
	leastMTUFor = 1280
	mostMTU     = 65536
)

// What the system refuses.
var (
	errNoInterface = errors.New("there is no such interface")
	errThere       = errors.New("it is there already")
	errNotThere    = errors.New("it is not there")
	errOff         = errors.New("the interface is switched off")
	errUnreached   = errors.New("the gateway lies in no network of the interface")
	errMTU         = fmt.Errorf("an MTU is %d to %d octets", leastMTU, mostMTU)
)

// Apply gives the settings after a step, as the system makes them: with what goes when an address or an interface goes.
func (s *Settings) Apply(o Op) (Settings, error) {
	out := s.Clone()
	if err := out.bench().apply(o); err != nil {
		return *s, fmt.Errorf("%v: %w", o, err)
	}
	out.sort()
	return out, nil
}

func (s *bench) apply(o Op) error {
	if o.Do == SetResolvers {
		s.Resolvers, s.Search = slices.Clone(o.Resolvers), slices.Clone(o.Search)
		return nil
	}
	switch o.Do {
	case AddRule:
		return added(&s.Rules, o.Rule())
	case RemoveRule:
		return removed(&s.Rules, o.Rule())
	case AddHost:
		return added(&s.Hosts, o.Host())
	case RemoveHost:
		return removed(&s.Hosts, o.Host())
	case SetSources:
		s.Sources = o.Name
		return nil
	}
	at := slices.IndexFunc(s.Links, func(l Link) bool { return l.Interface == o.Interface })
	if at < 0 {
		return errNoInterface
	}
	link := &s.Links[at]
	switch o.Do {
	case SwitchOn:
		link.Up = true
	case SwitchOff:
		link.Up = false
		s.lose(o.Interface, false)
	case SetMTU:
		if o.MTU < leastMTU || o.MTU > mostMTU {
			return errMTU
		}
		if link.MTU = o.MTU; o.MTU < leastMTUFor {
			s.lose(o.Interface, true)
		}
	case AddAddress:
		return s.addAddress(Address{o.Interface, o.Prefix}, *link)
	case KeepAddress:
		if !slices.Contains(s.Addresses, Address{o.Interface, o.Prefix}) {
			return errNotThere
		}
	case RemoveAddress:
		return s.removeAddress(Address{o.Interface, o.Prefix})
	case Store:
		kept, ok := s.stored(o.Interface)
		if !ok || kept.Path != o.Path {
			return errNotThere
		}
		kept.Part = o.Text
	case ReleaseLease:
		if a := (Address{o.Interface, o.Prefix}); slices.Contains(s.Addresses, a) {
			return s.removeAddress(a)
		}
	case AddRoute:
		return s.addRoute(o.Route(), *link)
	case RemoveRoute:
		if !s.removeRoute(o.Route()) {
			return errNotThere
		}
	case AddNeighbour:
		n := Neighbour{o.Interface, o.Address, o.Hardware}
		switch {
		case !link.Up:
			return errOff
		case slices.ContainsFunc(s.Neighbours, func(x Neighbour) bool { return x.Interface == n.Interface && x.Address == n.Address }):
			return errThere
		}
		s.Neighbours = append(s.Neighbours, n)
	case RemoveNeighbour:
		return removed(&s.Neighbours, Neighbour{o.Interface, o.Address, o.Hardware})
	}
	return nil
}

func added[T comparable](list *[]T, x T) error {
	if slices.Contains(*list, x) {
		return errThere
	}
	*list = append(*list, x)
	return nil
}

func removed[T comparable](list *[]T, x T) error {
	at := slices.Index(*list, x)
	if at < 0 {
		return errNotThere
	}
	*list = slices.Delete(*list, at, at+1)
	return nil
}

// lose takes away what an interface loses that is switched off, or that can carry no IPv6 any more: an address of IPv4 stays.
func (s *bench) lose(name string, only6 bool) {
	own6 := func(a Address) bool { return a.Interface == name && a.Prefix.Addr().Is6() }
	s.Addresses, s.Made = slices.DeleteFunc(s.Addresses, own6), slices.DeleteFunc(s.Made, own6)
	s.Routes = slices.DeleteFunc(s.Routes, func(r Route) bool { return r.Interface == name && (!only6 || r.To.Addr().Is6()) })
	s.Neighbours = slices.DeleteFunc(s.Neighbours, func(n Neighbour) bool { return n.Interface == name && (!only6 || n.Address.Is6()) })
	s.unspoken()
}

func (s *Settings) owns(a netip.Addr) bool {
	is := func(x Address) bool { return x.Prefix.Addr() == a }
	return slices.ContainsFunc(s.Addresses, is) || slices.ContainsFunc(s.Made, is)
}

// unspoken ends every loss: it takes the hint from where to speak out of routes of IPv6 whose address has gone.
func (s *bench) unspoken() {
	for i, r := range s.Routes {
		if r.Source.Is6() && !s.owns(r.Source) {
			s.Routes[i].Source = netip.Addr{}
		}
	}
	s.index()
}

func (s *bench) addAddress(a Address, link Link) error {
	switch {
	case slices.Contains(s.Addresses, a):
		return errThere
	case a.Prefix.Addr().Is6() && !link.Up:
		return errOff
	case a.Prefix.Addr().Is6() && link.MTU < leastMTUFor:
		return fmt.Errorf("its MTU is less than the %d octets of IPv6", leastMTUFor)
	}
	s.Addresses = append(s.Addresses, a)
	return nil
}

// removeAddress: with the first address of a network go the others of that network, with the last address of IPv4 all routes of the
// interface, and with each those that speak from it.
func (s *bench) removeAddress(a Address) error {
	at := slices.Index(s.Addresses, a)
	if at < 0 {
		return errNotThere
	}
	v6 := a.Prefix.Addr().Is6()
	peers := func(x Address) bool { return x.Interface == a.Interface && x.Prefix.Masked() == a.Prefix.Masked() }
	if first := slices.IndexFunc(s.Addresses, peers) == at; first && !v6 {
		s.Addresses = slices.DeleteFunc(s.Addresses, peers)
	} else {
		s.Addresses = slices.Delete(s.Addresses, at, at+1)
	}
	none := len(s.On(a.Interface, v6)) == 0
	s.Routes = slices.DeleteFunc(s.Routes, func(r Route) bool {
		return !v6 && r.To.Addr().Is4() && (none && r.Interface == a.Interface || r.Source.IsValid() && !s.owns(r.Source))
	})
	s.unspoken()
	return nil
}

func (s *bench) addRoute(r Route, link Link) error {
	switch {
	case !link.Up:
		return errOff
	case s.entries[r.entry()] > 0:
		return errThere
	case r.Via.IsValid() && !r.OnLink && !s.reaches(r.Interface, r.Via):
		return errUnreached
	case r.Source.IsValid() && !s.owns(r.Source):
		return fmt.Errorf("this machine has no address %v to speak from", r.Source)
	case r.To.Addr().Is4() && len(s.On(r.Interface, false)) == 0 && !r.Source.IsValid():
		return errors.New("the interface has no address of IPv4")
	case r.To.Addr().Is6() && link.MTU < leastMTUFor:
		return fmt.Errorf("the interface's MTU is less than the %d octets of IPv6", leastMTUFor)
	}
	s.Routes = append(s.Routes, r)
	s.note(r)
	return nil
}
