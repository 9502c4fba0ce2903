package evidence

import (
	"cmp"
	"net/netip"
	"slices"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/site"
	"passepartout/internal/core/target"
)

// Kind is a sort of evidence: what a fault may need to know, and what a probe can gather. Its text is part of the contract (`withheld`).
type Kind uint8

// The kinds of evidence. Zero is none.
const (
	_                Kind = iota
	Settings              // what the machine itself says: ports, addresses, routes, resolvers
	RouteLookup           // how the system would reach an address
	Loopback              // the machine's own stack answers itself
	GatewayNeighbour      // the gateway's link-layer address, asked for on the segment
	OtherNeighbours       // the same of other machines on the segment
	SegmentFrames         // what is heard on the segment unasked, and what arrives at the port
	DHCPOffer             // what DHCP servers offer now
	AddressConflict       // whether another machine holds our address
	NameLookup            // what the resolvers say
	GatewayEcho           // echo of the gateway
	TargetEcho            // echo of the target
	ServiceConnect        // a connection to the target's port
	WebAnswer             // an answer to a web request
	PathTrace             // routers on the way, by hop limit
	LossProbes            // loss and delay: many small probes to gateway, target and what lies between
	PacketSize            // the largest packet that reaches gateway and target
	Responder             // what our own responder at the far end says has arrived there
	Handoffs              // what becomes of packets that are handed to other neighbours than the routing table says
	EndOfKinds            // what stands before it is a kind
)

// kindNames has a name for each kind: the compiler counts them.
var kindNames = [EndOfKinds]string{
	Settings: "settings", RouteLookup: "route-lookup", Loopback: "loopback", GatewayNeighbour: "gateway-neighbour",
	OtherNeighbours: "other-neighbours",
	SegmentFrames:   "segment-frames", DHCPOffer: "dhcp-offer", AddressConflict: "address-conflict", NameLookup: "name-lookup",
	GatewayEcho: "gateway-echo", TargetEcho: "target-echo", ServiceConnect: "service-connect", WebAnswer: "web-answer",
	PathTrace:  "path-trace",
	LossProbes: "loss-probes", PacketSize: "packet-size", Responder: "responder", Handoffs: "hand-offs",
}

// Kinds lists every kind, in order.
func Kinds() []Kind {
	out := make([]Kind, 0, EndOfKinds-1)
	for k := Settings; k < EndOfKinds; k++ {
		out = append(out, k)
	}
	return out
}

func (k Kind) String() string { return kindNames[k] }

// Set is all that is known at one moment. It is a value: a collector hands out copies, and nobody changes one that was handed out.
// The order of its slices is the order of arrival and carries no meaning.
type Set struct {
	Target    target.Target
	Interface string // the one that the local checks are about
	Endpoint  *endpoint.Endpoint
	Sheet     *site.Sheet  // the documented network to compare with; nil if there is none
	Families  Families     // which address families were allowed
	Before    []netip.Addr // the addresses that the target's name had when it was looked up last

	Routes     []endpoint.RouteAnswer
	Loopback   []Echo
	Neighbours []Neighbour
	Swept      int // how many addresses of the segment were asked to their end
	SweepDone  bool
	Heard      []Heard
	Arrivals   []Arrival
	Discovery  *Discovery
	Conflicts  []Conflict
	Lookups    []Lookup
	Elsewhere  []Lookup // at servers that are not set here, to see whether they would do better
	Counted    []InterfaceCount
	Echoes     []Echo
	Connects   []Connect
	Webs       []Web
	Shorts     []ShortConnect
	Portals    []Portal
	Scripts    []ProxyScript
	FarEnds    []FarEnd
	Answers    []Answer
	OtherWays  []OtherWay
	Hops       []Hop
	Bursts     []Burst
	Sizings    []Sizing
	Handoffs   []Handoff
	Routers6   []Advertisement
	Informed6  []Information

	Chosen   []Chosen // further tests that were made, and why
	Names    []Named  // of addresses that were met, for showing
	Changed  string   // what of this machine's settings has changed while the questions were under way, in words
	Withheld []Withheld
	Open     []Kind // kinds of which more may still come
	Elapsed  time.Duration
}

// sorts is the table of all observations there are.
var sorts = []*sort{
	sortAs("route", func(s *Set) *[]endpoint.RouteAnswer { return &s.Routes },
		func(o Route) endpoint.RouteAnswer { return endpoint.RouteAnswer(o) },
		func(a, b endpoint.RouteAnswer) int { return a.To.Compare(b.To) }, RouteLookup),
	sortAs("loopback", func(s *Set) *[]Echo { return &s.Loopback }, func(o OwnEcho) Echo { return Echo(o) }, byEcho, Loopback),
	sortOf("neighbour", func(s *Set) *[]Neighbour { return &s.Neighbours }, func(a, b Neighbour) int {
		return cmp.Or(a.Asked.Compare(b.Asked), byReply(a.Reply, b.Reply))
	}, GatewayNeighbour, OtherNeighbours),
	sortTaken("sweep", func(s *Set, o Sweep) { s.Swept, s.SweepDone = max(s.Swept, o.Asked), s.SweepDone || o.Done }, OtherNeighbours),
	sortOf("heard", func(s *Set) *[]Heard { return &s.Heard }, func(a, b Heard) int { return a.Address.Compare(b.Address) }, SegmentFrames),
	sortOf("arrival", func(s *Set) *[]Arrival { return &s.Arrivals }, func(a, b Arrival) int {
		return cmp.Or(a.From.Compare(b.From), cmp.Compare(a.Proto, b.Proto), cmp.Compare(a.Port, b.Port))
	}, SegmentFrames),
	discoverySort(),
	sortOf("conflict", func(s *Set) *[]Conflict { return &s.Conflicts }, func(a, b Conflict) int {
		return cmp.Or(a.Address.Compare(b.Address), byReply(a.Reply, b.Reply))
	}, AddressConflict),
	lookupSort(),
	sortAs("lookup-elsewhere", func(s *Set) *[]Lookup { return &s.Elsewhere }, func(o ElsewhereLookup) Lookup { return Lookup(o) },
		byLookup, Handoffs),
	sortOf("interface-count", func(s *Set) *[]InterfaceCount { return &s.Counted }, func(a, b InterfaceCount) int {
		return cmp.Or(cmp.Compare(a.Interface, b.Interface), cmp.Compare(a.Over, b.Over))
	}, LossProbes),
	sortOf("echo", func(s *Set) *[]Echo { return &s.Echoes }, byEcho, GatewayEcho, TargetEcho),
	sortOf("connect", func(s *Set) *[]Connect { return &s.Connects }, func(a, b Connect) int {
		return cmp.Or(a.To.Compare(b.To), byReply(a.Reply, b.Reply))
	}, ServiceConnect),
	sortOf("web", func(s *Set) *[]Web { return &s.Webs }, func(a, b Web) int {
		return cmp.Or(cmp.Compare(a.Via, b.Via), a.To.Compare(b.To), cmp.Compare(a.URL, b.URL), byReply(a.Reply, b.Reply))
	}, WebAnswer),
	sortOf("short-connect", func(s *Set) *[]ShortConnect { return &s.Shorts }, func(a, b ShortConnect) int {
		return cmp.Or(a.To.Compare(b.To), cmp.Compare(a.HopLimit, b.HopLimit), byReply(a.Reply, b.Reply))
	}, ServiceConnect),
	sortOf("portal", func(s *Set) *[]Portal { return &s.Portals }, func(a, b Portal) int {
		return cmp.Or(cmp.Compare(a.URL, b.URL), cmp.Compare(a.Captive, b.Captive), cmp.Compare(a.Page, b.Page))
	}, WebAnswer),
	sortOf("proxy-script", func(s *Set) *[]ProxyScript { return &s.Scripts },
		func(a, b ProxyScript) int { return cmp.Compare(a.URL, b.URL) }, WebAnswer),
	sortOf("far-end", func(s *Set) *[]FarEnd { return &s.FarEnds }, func(a, b FarEnd) int {
		return cmp.Or(a.To.Compare(b.To), cmp.Compare(a.Arrived, b.Arrived), cmp.Compare(a.Answered, b.Answered))
	}, Responder),
	answerSort(),
	sortOf("other-way", func(s *Set) *[]OtherWay { return &s.OtherWays }, func(a, b OtherWay) int {
		return cmp.Or(cmp.Compare(a.Interface, b.Interface), a.To.Compare(b.To), byReply(a.Reply, b.Reply))
	}, ServiceConnect),
	sortOf("hop", func(s *Set) *[]Hop { return &s.Hops }, func(a, b Hop) int {
		return cmp.Or(a.To.Compare(b.To), cmp.Compare(a.HopLimit, b.HopLimit), byReply(a.Reply, b.Reply))
	}, PathTrace),
	sortOf("burst", func(s *Set) *[]Burst { return &s.Bursts }, func(a, b Burst) int {
		return cmp.Or(a.To.Compare(b.To), cmp.Compare(b.Received, a.Received), cmp.Compare(a.Method, b.Method))
	}, LossProbes),
	sortOf("sizing", func(s *Set) *[]Sizing { return &s.Sizings }, func(a, b Sizing) int { return a.To.Compare(b.To) }, PacketSize),
	sortOf("hand-off", func(s *Set) *[]Handoff { return &s.Handoffs }, func(a, b Handoff) int {
		return cmp.Or(a.To.Compare(b.To), a.By.Compare(b.By), cmp.Compare(a.HopLimit, b.HopLimit), byReply(a.Reply, b.Reply))
	}, Handoffs),
	sortOf("advertisement", func(s *Set) *[]Advertisement { return &s.Routers6 },
		func(a, b Advertisement) int { return a.Router.Compare(b.Router) }, SegmentFrames),
	sortOf("information", func(s *Set) *[]Information { return &s.Informed6 }, func(a, b Information) int {
		return cmp.Or(a.From.Compare(b.From), cmp.Compare(a.Server, b.Server))
	}, DHCPOffer),
	sortOf("chosen", func(s *Set) *[]Chosen { return &s.Chosen }, inTurn[Chosen]),
	namedSort(),
	sortTaken("change", func(s *Set, o Change) { s.Changed = string(o) }, Settings),
	sortOf("withheld", func(s *Set) *[]Withheld { return &s.Withheld }, func(a, b Withheld) int {
		return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Why, b.Why))
	}),
}

// lookupSort: silence lasts until an answer to the same question comes, or a longer silence.
func lookupSort() *sort {
	s := sortOf("lookup", func(s *Set) *[]Lookup { return &s.Lookups }, byLookup, NameLookup)
	s.take = func(set *Set, o Observation) {
		is := o.(Lookup)
		i := slices.IndexFunc(set.Lookups, func(old Lookup) bool {
			return old.Server == is.Server && old.Name == is.Name && old.Type == is.Type
		})
		switch {
		case i < 0:
		case is.Outcome == Silent && (set.Lookups[i].Outcome != Silent || is.Waited <= set.Lookups[i].Waited):
			return
		case set.Lookups[i].Outcome == Silent:
			set.Lookups = slices.Delete(slices.Clone(set.Lookups), i, i+1)
		}
		set.Lookups = append(set.Lookups, is)
	}
	return s
}

// discoverySort: what was found out so far takes the place of what was known before.
func discoverySort() *sort {
	s := sortTaken("discovery", func(s *Set, o Discovery) { s.Discovery = &o }, DHCPOffer)
	s.order = func(set *Set) {
		if set.Discovery == nil {
			return
		}
		d := *set.Discovery
		d.Refusals, d.Serving, d.Offers = slices.Clone(d.Refusals), slices.Clone(d.Serving), slices.Clone(d.Offers)
		slices.SortFunc(d.Refusals, netip.Addr.Compare)
		slices.SortFunc(d.Serving, netip.Addr.Compare)
		slices.SortStableFunc(d.Offers, func(a, b Offer) int { return a.Server.Compare(b.Server) })
		set.Discovery = &d
	}
	return s
}

// sortLatest makes the row of a sort of which the latest with the same key counts, and takes the place of the earlier one.
func sortLatest[T Observation, K comparable](name string, list func(*Set) *[]T, key func(T) K, empty func(T) bool,
	by func(a, b T) int) *sort {
	s := sortOf(name, list, by)
	s.take = func(set *Set, o Observation) {
		l, is := list(set), o.(T)
		*l = slices.DeleteFunc(slices.Clone(*l), func(old T) bool { return key(old) == key(is) })
		if !empty(is) {
			*l = append(*l, is)
		}
	}
	return s
}

// answerSort: an answer takes the place of an earlier one to the same question; an empty one takes it back.
func answerSort() *sort {
	return sortLatest("answer", func(s *Set) *[]Answer { return &s.Answers }, func(a Answer) string { return a.Question },
		func(a Answer) bool { return a.Answer == "" },
		func(a, b Answer) int {
			return cmp.Or(cmp.Compare(a.Question, b.Question), cmp.Compare(a.Answer, b.Answer))
		})
}

// namedSort: an address goes by the name that was learned last.
func namedSort() *sort {
	return sortLatest("named", func(s *Set) *[]Named { return &s.Names }, func(n Named) netip.Addr { return n.Address },
		func(n Named) bool { return n.Name == "" },
		func(a, b Named) int { return a.Address.Compare(b.Address) })
}

func byReply(a, b Reply) int {
	return cmp.Or(cmp.Compare(a.Outcome, b.Outcome), cmp.Compare(a.RTT, b.RTT), a.From.Compare(b.From), cmp.Compare(a.Waited, b.Waited))
}

func byEcho(a, b Echo) int { return cmp.Or(a.Asked.Compare(b.Asked), byReply(a.Reply, b.Reply)) }

func byLookup(a, b Lookup) int {
	return cmp.Or(a.Server.Compare(b.Server), cmp.Compare(a.Name, b.Name), cmp.Compare(a.Type, b.Type), byReply(a.Reply, b.Reply))
}

// inTurn keeps what was done in the order in which it was done.
func inTurn[T any](_, _ T) int { return 0 }
