package verdict_test

import (
	"encoding/json"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/target"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

// A case is a change to the healthy set and what must follow from it.
type testCase struct {
	name       string
	change     func(*evidence.Set)
	zone       zone.Zone
	fault      fault.ID
	confidence verdict.Confidence // "" does not matter
	says       string             // in the sentence
	next       string             // in the first step
	also       []string
	remarks    []string
	cleared    []string
	possible   []string
}

func noAddress(s *evidence.Set) {
	Port(s).Addresses = nil
	s.Endpoint.Routes, s.Endpoint.Resolvers = nil, nil
	s.Routes, s.Neighbours, s.Lookups, s.Connects, s.Hops, s.Echoes, s.Conflicts = nil, nil, nil, nil, nil, nil, nil
}

func none(s *evidence.Set) { s.Discovery.Offers, s.Discovery.Discovers = nil, 3 }

func answeredBy(code string, addrs ...netip.Addr) func(netip.Addr) evidence.Lookup {
	return func(server netip.Addr) evidence.Lookup {
		return evidence.Lookup{RCode: code, Addresses: addrs, Reply: Answer(server, 1)}
	}
}

func unanswered(netip.Addr) evidence.Lookup { return evidence.Lookup{Asks: 3, Reply: Silence()} }

var cases = []testCase{
	{name: "healthy", zone: zone.None, confidence: verdict.Certain, says: "accepts connections on port 443",
		cleared: []string{"gateway-silent", "uplink-down", "service-refused", "address-conflict"}},
	{name: "healthy without frames is only likely", change: WithoutFrames, zone: zone.None, confidence: verdict.Likely},
	{name: "interface down", change: func(s *evidence.Set) { noAddress(s); Port(s).Up = false; s.Discovery = nil }, zone: zone.Host,
		fault: "interface-down", confidence: verdict.Certain, says: "eth0", next: "ip link set dev eth0 up",
		possible: []string{"no-carrier", "gateway-not-set", "dhcp-silent"}},
	{name: "no port at all", change: func(s *evidence.Set) {
		noAddress(s)
		s.Endpoint.Interfaces = s.Endpoint.Interfaces[:1]
		s.Interface = ""
	}, zone: zone.Host, fault: "interface-down", says: "no network port"},
	{name: "no carrier", change: func(s *evidence.Set) { noAddress(s); Port(s).Carrier = endpoint.CarrierAbsent; s.Discovery = nil },
		zone: zone.Host, fault: "no-carrier", confidence: verdict.Certain, next: "cable", cleared: []string{"interface-down"}},
	{name: "no association", change: func(s *evidence.Set) {
		noAddress(s)
		Port(s).Carrier, Port(s).Kind, s.Discovery = endpoint.CarrierAbsent, endpoint.Wireless, nil
	}, zone: zone.Host, fault: "no-carrier", says: "radio"},
	{name: "no address, one offered", change: noAddress, zone: zone.Host, fault: "no-address", confidence: verdict.Certain,
		says: "172.27.40.23/24", next: "automatic (DHCP)", cleared: []string{"dhcp-silent", "no-carrier"}},
	{name: "no address, none offered", change: func(s *evidence.Set) { noAddress(s); none(s) }, zone: zone.LocalSubnet,
		fault: "dhcp-silent", confidence: verdict.Certain, cleared: []string{"no-address", "self-assigned-address"}},
	{name: "no address, nobody may ask", change: func(s *evidence.Set) { noAddress(s); WithoutFrames(s) }, zone: zone.Undetermined,
		confidence: verdict.Maybe, says: "DHCP", next: "allow it", possible: []string{"no-address", "dhcp-silent"}},
	{name: "one discover is not enough to call a server silent", change: func(s *evidence.Set) { noAddress(s); s.Discovery.Offers = nil },
		zone: zone.LocalSubnet, possible: []string{"dhcp-silent"}},
	{name: "self-assigned, one offered", change: func(s *evidence.Set) {
		noAddress(s)
		Port(s).Addresses = []endpoint.Address{{Prefix: netip.MustParsePrefix("169.254.7.7/16")}}
	}, zone: zone.Host, fault: "self-assigned-address", says: "169.254.7.7", cleared: []string{"no-address", "dhcp-silent"}},
	{name: "self-assigned, none offered", change: func(s *evidence.Set) {
		noAddress(s)
		none(s)
		Port(s).Addresses = []endpoint.Address{{Prefix: netip.MustParsePrefix("169.254.7.7/16")}}
	}, zone: zone.LocalSubnet, fault: "dhcp-silent", says: "169.254.7.7"},
	{name: "mask too narrow explains the missing gateway", change: func(s *evidence.Set) {
		Port(s).Addresses[0].Prefix = netip.PrefixFrom(Own, 28)
		s.Endpoint.Routes, s.Routes, s.Connects, s.Hops = nil, []endpoint.RouteAnswer{{To: Bookings, Verdict: endpoint.NoRoute}}, nil, nil
	}, zone: zone.Host, fault: "mask-too-narrow", confidence: verdict.Certain, says: "172.27.40.1",
		next: "172.27.40.23/24, mask 255.255.255.0, gateway 172.27.40.1", possible: []string{"gateway-not-set"}},
	{name: "a single address with its gateway on the link is no fault", change: func(s *evidence.Set) {
		Port(s).Addresses[0].Prefix = netip.PrefixFrom(Own, 32)
	}, zone: zone.None, cleared: []string{"mask-too-narrow", "gateway-outside-subnet"}},
	{name: "no gateway", change: func(s *evidence.Set) {
		s.Endpoint.Routes, s.Routes, s.Connects, s.Hops = nil, []endpoint.RouteAnswer{{To: Bookings, Verdict: endpoint.NoRoute}}, nil, nil
	}, zone: zone.Host, fault: "gateway-not-set", confidence: verdict.Certain, next: "Set the gateway to 172.27.40.1",
		cleared: []string{"mask-too-narrow", "route-blocked"}},
	{name: "no gateway, and none needed", change: func(s *evidence.Set) {
		onSegment(s)
		s.Endpoint.Routes = nil
	}, zone: zone.None, also: []string{"gateway-not-set"}},
	{name: "gateway one octet off", change: func(s *evidence.Set) {
		GatewayGone(s)
		wrong := netip.MustParseAddr("172.27.41.1")
		s.Endpoint.Routes[0].Via, s.Routes[0].Via, s.Neighbours[0].Asked = wrong, wrong, wrong
		s.Endpoint.Routes[0].Origin = endpoint.ByHand
	}, zone: zone.Host, fault: "gateway-outside-subnet", confidence: verdict.Certain, says: "octet 3 is 41", next: "172.27.40.1"},
	{name: "gateway by hand, to an address that nobody has", change: func(s *evidence.Set) {
		GatewayGone(s)
		wrong := netip.MustParseAddr("172.27.40.11")
		s.Endpoint.Routes[0].Via, s.Routes[0].Via, s.Neighbours[0].Asked = wrong, wrong, wrong
		s.Endpoint.Routes[0].Origin = endpoint.ByHand
	}, zone: zone.Host, fault: "gateway-silent", says: "the segment's router is 172.27.40.1", next: "Set the gateway to 172.27.40.1"},
	{name: "a blackhole", change: func(s *evidence.Set) {
		s.Routes[0] = endpoint.RouteAnswer{To: Bookings, Verdict: endpoint.Blackhole}
		s.Connects, s.Hops = nil, Path(NS, Gateway, Edge, Provider, Exchange, NS)
		s.Echoes = s.Echoes[:1]
	}, zone: zone.Host, fault: "route-blocked", says: "203.0.113.80"},
	{name: "sending is forbidden here", change: func(s *evidence.Set) {
		Unnamed(s, func(netip.Addr) evidence.Lookup {
			return evidence.Lookup{Reply: evidence.Reply{Outcome: evidence.LocalError, Forbidden: true, Reason: "rules"}}
		})
	}, zone: zone.Host, fault: "host-firewall", confidence: verdict.Certain, cleared: []string{"gateway-silent"}},
	{name: "answers arrive and are lost", change: func(s *evidence.Set) {
		Unnamed(s, unanswered)
		s.Arrivals = []evidence.Arrival{{From: Core, Proto: "udp", Port: 53}}
	}, zone: zone.Host, fault: "host-firewall", says: "172.27.40.2"},
	{name: "no name server", change: func(s *evidence.Set) { s.Endpoint.Resolvers = nil; Unnamed(s, unanswered); s.Lookups = nil },
		zone: zone.Host, fault: "resolver-not-set", confidence: verdict.Certain, next: "172.27.40.2"},
	{name: "no name server, and none needed", change: func(s *evidence.Set) {
		byAddress(s)
		s.Endpoint.Resolvers, s.Lookups = nil, nil
	}, zone: zone.None, also: []string{"resolver-not-set"}},
	{name: "loopback dead", change: func(s *evidence.Set) { s.Loopback[0].Reply = Silence() }, zone: zone.None,
		also: []string{"stack-broken"}},
	{name: "conflict and nothing reached", change: func(s *evidence.Set) {
		GatewayGone(s)
		s.Conflicts[0] = evidence.Conflict{Address: Own, Hardware: endpoint.HardwareAddr{2, 9}, Reply: Answer(Own, 1)}
	}, zone: zone.LocalSubnet, fault: "address-conflict", says: "172.27.40.23", also: []string{"gateway-silent"}},
	{name: "conflict beside a target that works: it takes connections away by turns", change: func(s *evidence.Set) {
		s.Conflicts[0] = evidence.Conflict{Address: Own, Hardware: endpoint.HardwareAddr{2, 9}, Reply: Answer(Own, 1)}
	}, zone: zone.LocalSubnet, fault: "address-conflict", confidence: verdict.Certain},
	{name: "nobody on the segment", change: func(s *evidence.Set) {
		isolated(s)
	}, zone: zone.LocalSubnet, fault: "segment-isolated", confidence: verdict.Certain, possible: []string{"gateway-silent"},
		cleared: []string{"no-carrier"}},
	{name: "nobody, and who speaks here cannot be heard: the address may be another network's", change: func(s *evidence.Set) {
		isolated(s)
		WithoutFrames(s)
	}, zone: zone.Undetermined, possible: []string{"segment-isolated", "wrong-network"}},
	{name: "nobody asked yet proves nothing", change: func(s *evidence.Set) {
		isolated(s)
		s.SweepDone = false
	}, zone: zone.Undetermined, possible: []string{"segment-isolated", "gateway-silent"}},
	{name: "silent gateway", change: GatewayGone, zone: zone.LocalSubnet, fault: "gateway-silent", confidence: verdict.Certain,
		says: "1 neighbour", cleared: []string{"segment-isolated", "no-address"},
		possible: []string{"uplink-down", "gateway-does-not-forward"}},
	{name: "gateway that drops all", change: func(s *evidence.Set) {
		GatewayGone(s)
		s.Neighbours[0] = evidence.Neighbour{Asked: Gateway, Method: "arp", Asks: 1, Reply: Answer(Gateway, 0.4)}
	}, zone: zone.LocalSubnet, fault: "gateway-does-not-forward", confidence: verdict.Likely, cleared: []string{"gateway-silent"}},
	{name: "gateway that drops all, without frames", change: func(s *evidence.Set) {
		GatewayGone(s)
		s.Neighbours[0] = evidence.Neighbour{Asked: Gateway, Method: "by the kernel", Asks: 1, Reply: Answer(Gateway, 0.4)}
		WithoutFrames(s)
	}, zone: zone.Undetermined, says: "what arrives at the port", possible: []string{"host-firewall", "gateway-does-not-forward"}},
	{name: "uplink down", change: func(s *evidence.Set) {
		cutAfter(s, Gateway)
	}, zone: zone.Beyond, fault: "uplink-down", confidence: verdict.Certain, cleared: []string{"gateway-silent", "segment-isolated"}},
	{name: "uplink down, and the gateway says so with its outer address", change: func(s *evidence.Set) {
		GatewayGone(s)
		s.Neighbours[0].Reply, s.Echoes[0].Reply = Answer(Gateway, 0.4), Answer(Gateway, 0.4)
		s.Connects[0].Reply = Said(netip.MustParseAddr("198.51.100.2"), evidence.NoHost, 1)
	}, zone: zone.Beyond, fault: "uplink-down", confidence: verdict.Certain, cleared: []string{"gateway-silent"}},
	{name: "a kernel's own word is nobody else's", change: func(s *evidence.Set) {
		GatewayGone(s)
		for i := range s.Hops {
			s.Hops[i].Reply = Said(Own, evidence.NoHost, 1)
		}
		s.Connects[0].Reply = Said(Own, evidence.NoHost, 1)
	}, zone: zone.LocalSubnet, fault: "gateway-silent"},
	{name: "path stops", change: func(s *evidence.Set) {
		cutAfter(s, Gateway, Edge, Provider)
	}, zone: zone.Beyond, fault: "path-stops", confidence: verdict.Certain, says: "198.51.100.9, hop 3",
		cleared: []string{"uplink-down"}, possible: []string{"resolver-silent", "destination-silent"}},
	{name: "one target alone cannot tell a cut path from a dead host", change: func(s *evidence.Set) {
		cutAfter(s, Gateway, Edge)
		s.Hops = Path(Bookings, Gateway, Edge, netip.Addr{}, netip.Addr{})
		s.Endpoint.Resolvers = s.Endpoint.Resolvers[:1]
		s.Lookups = s.Lookups[:1]
	}, zone: zone.Beyond, confidence: verdict.Maybe, possible: []string{"path-stops", "destination-silent"},
		cleared: []string{"uplink-down"}},
	{name: "routing loop", change: func(s *evidence.Set) {
		cutAfter(s, Gateway, Edge, Provider)
		s.Hops = slices.Concat(Path(Bookings, Gateway, Edge, Provider, Edge, Provider, Edge), Path(NS, Gateway, Edge, Provider, Edge))
	}, zone: zone.Beyond, fault: "routing-loop", confidence: verdict.Certain, says: "198.51.100.1", cleared: []string{"path-stops"}},
	{name: "unreachable", change: func(s *evidence.Set) {
		alone(s, Said(Exchange, evidence.NoHost, 4))
	}, zone: zone.Beyond, fault: "destination-unreachable", confidence: verdict.Certain, says: "198.51.100.13",
		cleared: []string{"uplink-down", "path-stops"}},
	{name: "prohibited", change: func(s *evidence.Set) {
		alone(s, Said(Edge, evidence.Prohibited, 2))
	}, zone: zone.Beyond, fault: "prohibited-by-policy", confidence: verdict.Certain, says: "198.51.100.1"},
	{name: "a filter that plays a closed port", change: func(s *evidence.Set) {
		alone(s, Said(Edge, evidence.NoPort, 2))
	}, zone: zone.Beyond, fault: "prohibited-by-policy", confidence: verdict.Likely},
	{name: "silent target, others answer", change: func(s *evidence.Set) {
		alone(s, Silence())
	}, zone: zone.Beyond, fault: "destination-silent", confidence: verdict.Likely, says: "after 198.51.100.13, hop 4",
		cleared: []string{"path-stops", "service-refused"}},
	{name: "refused", change: func(s *evidence.Set) {
		s.Connects[0].Reply = evidence.Reply{Outcome: evidence.Refused, From: Bookings, RTT: 20 * time.Millisecond}
	}, zone: zone.Beyond, fault: "service-refused", confidence: verdict.Certain,
		cleared: []string{"service-filtered", "destination-unreachable", "routing-loop"}},
	{name: "refused by a neighbour lies in the local subnet", change: func(s *evidence.Set) {
		onSegment(s)
		s.Connects[0].Reply = evidence.Reply{Outcome: evidence.Refused, From: Core, RTT: time.Millisecond}
	}, zone: zone.LocalSubnet, fault: "service-refused"},
	{name: "filtered", change: Unserved, zone: zone.Beyond, fault: "service-filtered", confidence: verdict.Certain,
		cleared: []string{"service-refused", "path-stops"}},
	{name: "echo ignored, service works", change: func(s *evidence.Set) {
		s.Echoes[1].Reply = Silence()
	}, zone: zone.None, remarks: []string{"echo-filtered"}, cleared: []string{"destination-silent"}},
	{name: "gateway ignores echo", change: func(s *evidence.Set) { s.Echoes[0].Reply = Silence() }, zone: zone.None,
		remarks: []string{"gateway-ignores-echo"}, cleared: []string{"gateway-silent"}},
	{name: "silent hop", change: func(s *evidence.Set) { s.Hops = Path(Bookings, Gateway, netip.Addr{}, Provider, Exchange, Bookings) },
		zone: zone.None, remarks: []string{"hop-silent"}},
	{name: "no such name", change: func(s *evidence.Set) { Unnamed(s, answeredBy("NXDOMAIN")) }, zone: zone.Beyond,
		fault: "name-not-found", confidence: verdict.Certain, says: "bookings.kittiwake.example"},
	{name: "a name without an address", change: func(s *evidence.Set) { Unnamed(s, answeredBy("NOERROR")) }, zone: zone.Beyond,
		fault: "name-not-found"},
	{name: "no such name, one server silent", change: func(s *evidence.Set) {
		Unnamed(s, answeredBy("NXDOMAIN"))
		s.Lookups[0].Reply = Silence()
	}, zone: zone.Beyond, fault: "name-not-found", confidence: verdict.Likely, also: []string{"resolver-silent-local"}},
	{name: "servers fail", change: func(s *evidence.Set) { Unnamed(s, answeredBy("SERVFAIL")) }, zone: zone.Beyond,
		fault: "name-server-failing"},
	{name: "servers fail because they are cut off", change: func(s *evidence.Set) {
		Unnamed(s, answeredBy("SERVFAIL"))
		s.Endpoint.Resolvers, s.Lookups = s.Endpoint.Resolvers[:1], s.Lookups[:1]
		s.Hops = Path(NS, Gateway, netip.Addr{}, netip.Addr{})
	}, zone: zone.Beyond, fault: "uplink-down", possible: []string{"name-server-failing"}},
	{name: "the server on the segment is dead, the other has the name", change: func(s *evidence.Set) {
		s.Lookups[0].Reply, s.Lookups[0].Addresses = Silence(), nil
	}, zone: zone.None, also: []string{"resolver-silent-local"}},
	{name: "the only server is on the segment and dead", change: func(s *evidence.Set) {
		s.Endpoint.Resolvers = s.Endpoint.Resolvers[:1]
		Unnamed(s, unanswered)
	}, zone: zone.LocalSubnet, fault: "resolver-silent-local", cleared: []string{"resolver-silent", "resolver-not-set"}},
	{name: "the only server is beyond, there, and closed", change: func(s *evidence.Set) {
		s.Endpoint.Resolvers = s.Endpoint.Resolvers[1:]
		Unnamed(s, func(server netip.Addr) evidence.Lookup {
			return evidence.Lookup{Reply: evidence.Reply{Outcome: evidence.Refused, From: server, Why: evidence.NoPort}}
		})
	}, zone: zone.Beyond, fault: "resolver-silent", confidence: verdict.Certain,
		cleared: []string{"resolver-silent-local", "uplink-down"}},
	{name: "the only server is beyond and gone, routers answer", change: func(s *evidence.Set) {
		s.Endpoint.Resolvers = s.Endpoint.Resolvers[1:]
		Unnamed(s, unanswered)
		s.Hops = Path(NS, Gateway, Edge, Provider, Exchange, netip.Addr{})
	}, zone: zone.Beyond, fault: "resolver-silent", confidence: verdict.Likely},
	{name: "a forwarder that lives, and nothing behind the gateway", change: func(s *evidence.Set) {
		forwarder(s)
		s.Hops = Path(evidence.Unassigned, Gateway, netip.Addr{}, netip.Addr{})
	}, zone: zone.Beyond, fault: "uplink-down", confidence: verdict.Likely, cleared: []string{"gateway-silent"},
		possible: []string{"name-server-failing"}},
	{name: "a forwarder that lives, and routers behind the gateway", change: func(s *evidence.Set) {
		forwarder(s)
		s.Hops = Path(evidence.Unassigned, Gateway, Edge, netip.Addr{})
	}, zone: zone.Beyond, fault: "name-server-failing", cleared: []string{"uplink-down", "resolver-silent-local"}},
	{name: "silence from nowhere proves nothing", change: func(s *evidence.Set) {
		s.Hops = append(s.Hops, Path(evidence.Unassigned, Gateway, netip.Addr{}, netip.Addr{})...)
	}, zone: zone.None, cleared: []string{"uplink-down", "path-stops"}},
	{name: "a stub that works", change: func(s *evidence.Set) { stub(s, "NOERROR", true); s.Lookups[0].Addresses = []netip.Addr{Bookings} },
		zone: zone.None},
	{name: "a stub that is dead, though the servers behind it answer", change: func(s *evidence.Set) {
		stub(s, "", true)
		s.Lookups[0].Reply = evidence.Reply{Outcome: evidence.Refused, From: localStub, Why: evidence.NoPort}
		Unserved(s)
		s.Connects, s.Routes = nil, nil
	}, zone: zone.Host, fault: "resolver-silent-local", says: "127.0.0.53", next: "Restart the name service"},
	{name: "a stub that fails because the server behind it is silent", change: func(s *evidence.Set) {
		stub(s, "SERVFAIL", false)
		s.Connects, s.Routes = nil, nil
	}, zone: zone.Beyond, fault: "resolver-silent", says: "203.0.113.53", possible: []string{"name-server-failing"}},
	{name: "a server that answers names and nothing about itself", change: func(s *evidence.Set) {
		s.Lookups = append(s.Lookups, evidence.Lookup{Server: Core, Type: "CH", Reply: Silence()},
			evidence.Lookup{Server: NS, Type: "CH", RCode: "REFUSED", Reply: Answer(NS, 20)})
	}, zone: zone.None},
	{name: "no target: in order as far as the gateway",
		change: func(s *evidence.Set) { s.Target = target.Target{}; s.Connects, s.Routes = nil, nil }, zone: zone.None,
		says: "nothing beyond was asked for"},
	{name: "no target, no gateway", change: func(s *evidence.Set) {
		s.Target = target.Target{}
		s.Endpoint.Routes, s.Connects, s.Routes, s.Hops = nil, nil, nil, nil
	}, zone: zone.Host, fault: "gateway-not-set"},
	{name: "hosts file names the target", change: func(s *evidence.Set) {
		s.Endpoint.Hosts = []endpoint.HostsLine{{Address: Bookings, Names: []string{"bookings.kittiwake.example"}}}
		s.Endpoint.Resolvers, s.Lookups = nil, nil
	}, zone: zone.None, also: []string{"resolver-not-set"}},
	{name: "one family of two fails", change: func(s *evidence.Set) {
		six := netip.MustParseAddr("2001:db8:113::70")
		s.Lookups = append(s.Lookups,
			evidence.Lookup{Server: Core, Name: "bookings.kittiwake.example", Type: "AAAA", RCode: "NOERROR", Addresses: []netip.Addr{six},
				Reply: Answer(Core, 1)})
		s.Routes = append(s.Routes,
			endpoint.RouteAnswer{To: six, Verdict: endpoint.Forward, Interface: "eth0", Via: netip.MustParseAddr("fe80::1")})
		s.Connects = append(s.Connects, evidence.Connect{To: netip.AddrPortFrom(six, 443), Reply: Silence()})
	}, zone: zone.Beyond, fault: "one-family-broken"},
	{name: "a family without a route does not count", change: func(s *evidence.Set) {
		six := netip.MustParseAddr("2001:db8:113::70")
		s.Lookups = append(s.Lookups,
			evidence.Lookup{Server: Core, Name: "bookings.kittiwake.example", Type: "AAAA", RCode: "NOERROR", Addresses: []netip.Addr{six},
				Reply: Answer(Core, 1)})
		s.Routes = append(s.Routes, endpoint.RouteAnswer{To: six, Verdict: endpoint.NoRoute})
	}, zone: zone.None},
}

var localStub = netip.MustParseAddr("127.0.0.53")

// stub puts a forwarder of this machine before the name server beyond: what it says, and whether that one answers.
func stub(s *evidence.Set, code string, behind bool) {
	s.Endpoint.Resolvers = []endpoint.Resolver{{Address: localStub, Stub: true, Source: "/etc/resolv.conf"},
		{Address: NS, Behind: true, Source: "behind"}}
	s.Lookups = []evidence.Lookup{
		{Server: localStub, Name: s.Target.Name, Type: "A", RCode: code, Reply: Answer(localStub, 1)},
		{Server: NS, Name: s.Target.Name, Type: "A", RCode: "NOERROR", Addresses: []netip.Addr{Bookings}, Reply: Answer(NS, 20)},
	}
	if !behind {
		s.Lookups[1] = evidence.Lookup{Server: NS, Name: s.Target.Name, Type: "A", Reply: Silence()}
	}
}

// forwarder leaves one name server, on the segment, that lives and gives no answer about the name.
func forwarder(s *evidence.Set) {
	s.Endpoint.Resolvers = s.Endpoint.Resolvers[:1]
	Unnamed(s, unanswered)
	s.Lookups = append(s.Lookups, evidence.Lookup{Server: Core, Type: "CH", RCode: "REFUSED", Reply: Answer(Core, 1)})
	s.Discovery.Offers[0].Resolvers = s.Discovery.Offers[0].Resolvers[:1]
}

func byAddress(s *evidence.Set) { s.Target, _ = target.Parse("203.0.113.80:443") }

func onSegment(s *evidence.Set) {
	s.Target, _ = target.Parse("172.27.40.2:443")
	s.Routes = []endpoint.RouteAnswer{{To: Core, Verdict: endpoint.Forward, Interface: "eth0", Source: Own}}
	s.Connects = []evidence.Connect{{To: netip.AddrPortFrom(Core, 443), Reply: Answer(Core, 1)}}
	s.Hops = nil
}

func isolated(s *evidence.Set) {
	GatewayGone(s)
	none(s)
	s.Neighbours[1].Reply, s.Neighbours[1].Hardware = Silence(), nil
	Unnamed(s, unanswered)
	s.Swept, s.SweepDone = 253, true
}

// cutAfter lets every path end after these hops, for good.
func cutAfter(s *evidence.Set, hops ...netip.Addr) {
	GatewayGone(s)
	s.Neighbours[0].Reply, s.Echoes[0].Reply = Answer(Gateway, 0.4), Answer(Gateway, 0.4)
	silent := append(slices.Clone(hops), netip.Addr{}, netip.Addr{})
	s.Hops = slices.Concat(Path(Bookings, silent...), Path(NS, silent...))
}

// alone lets the target fail in one way while all others answer.
func alone(s *evidence.Set, r evidence.Reply) {
	s.Connects[0].Reply = r
	s.Echoes[1].Reply = Silence()
	s.Hops = slices.Concat(Path(Bookings, Gateway, Edge, Provider, Exchange, netip.Addr{}), Path(NS, Gateway, Edge, Provider, Exchange, NS))
}

func standing(r verdict.Result, id string) string {
	s, ok := r.Suspect(fault.ID(id))
	if !ok {
		return "not in the catalogue"
	}
	return s.Standing.String()
}

func TestJudge(t *testing.T) {
	for _, c := range slices.Concat(cases, leaseCases, planeCases, waysCases, webCases) {
		t.Run(c.name, func(t *testing.T) {
			s := Healthy()
			if c.change != nil {
				c.change(s)
			}
			r := verdict.Judge(s)
			assert.Equal(t, c.zone, r.Zone, r.Sentence)
			assert.Equal(t, c.fault, r.Fault, r.Sentence)
			if c.confidence != "" {
				assert.Equal(t, c.confidence, r.Confidence)
			}
			assert.Contains(t, r.Sentence, c.says)
			if c.next != "" && assert.NotEmpty(t, r.Next) {
				assert.Contains(t, r.Next[0], c.next)
			}
			var also, remarks []string
			for _, a := range r.Also {
				also = append(also, string(a.Fault))
			}
			for _, m := range r.Remarks {
				remarks = append(remarks, string(m.Fault.ID))
			}
			assert.Equal(t, c.also, also, "also")
			assert.Equal(t, c.remarks, remarks, "remarks")
			for _, id := range c.cleared {
				assert.Equal(t, "cleared", standing(r, id), id)
			}
			for _, id := range c.possible {
				assert.Equal(t, "possible", standing(r, id), id)
			}
			assert.True(t, r.Settled, "nothing is under way")
			if r.Zone == zone.None {
				assert.Empty(t, r.Fault)
			}
		})
	}
}

// arrivals gives a copy of a set in which every list of observations has been treated so.
func arrivals(s *evidence.Set, treat func(list reflect.Value) reflect.Value) *evidence.Set {
	c := *s
	for _, f := range reflect.ValueOf(&c).Elem().Fields() {
		if f.Kind() == reflect.Slice {
			list := reflect.MakeSlice(f.Type(), f.Len(), f.Len())
			reflect.Copy(list, f)
			f.Set(treat(list))
		}
	}
	return &c
}

// shuffled gives the same evidence in another order of arrival.
func shuffled(s *evidence.Set, rng *rand.Rand) *evidence.Set {
	return arrivals(s, func(list reflect.Value) reflect.Value {
		rng.Shuffle(list.Len(), reflect.Swapper(list.Interface()))
		return list
	})
}

// soFar gives a part of the evidence, as it would be known while all the rest is still under way.
func soFar(s *evidence.Set, rng *rand.Rand) *evidence.Set {
	c := arrivals(s, func(list reflect.Value) reflect.Value {
		kept := reflect.MakeSlice(list.Type(), 0, list.Len())
		for i := range list.Len() {
			if rng.IntN(2) == 0 {
				kept = reflect.Append(kept, list.Index(i))
			}
		}
		return kept
	})
	c.Withheld, c.Said, c.Open = s.Withheld, s.Said, evidence.Kinds()
	if rng.IntN(2) == 0 {
		c.Discovery, c.SweepDone = nil, false
	}
	return c
}

// What a fault brings about never clears it, however little of it has come: everything in these sets follows from their fault.
func TestPredictedEvidenceNeverClears(t *testing.T) {
	all := slices.DeleteFunc(slices.Concat(cases, leaseCases, planeCases, waysCases, webCases),
		func(c testCase) bool { return c.fault == "" })
	rapid.Check(t, func(t *rapid.T) {
		c := rapid.SampledFrom(all).Draw(t, "case")
		seed := rapid.Uint64().Draw(t, "seed")
		s := Healthy()
		if c.change != nil {
			c.change(s)
		}
		part := verdict.Judge(soFar(s, rand.New(rand.NewPCG(seed, 2))))
		if x, _ := part.Suspect(c.fault); x.Standing == fault.Cleared {
			t.Fatalf("%s: %s is cleared while the rest is under way: %v", c.name, c.fault, x.Against)
		}
	})
}

func TestOrderOfArrivalDoesNotMatter(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := rapid.SampledFrom(slices.Concat(cases, leaseCases, planeCases, waysCases, webCases)).Draw(t, "case")
		seed := rapid.Uint64().Draw(t, "seed")
		s := Healthy()
		if c.change != nil {
			c.change(s)
		}
		a, b := verdict.Judge(s), verdict.Judge(shuffled(s, rand.New(rand.NewPCG(seed, 1))))
		if a.Zone != b.Zone || a.Fault != b.Fault || a.Confidence != b.Confidence || a.Sentence != b.Sentence {
			t.Fatalf("%s: %s %s %q, in another order %s %s %q", c.name, a.Zone, a.Fault, a.Sentence, b.Zone, b.Fault, b.Sentence)
		}
	})
}

// Evidence that is missing clears nobody of what only it could tell, and never blames anybody.
func TestWithheldClearsNobody(t *testing.T) {
	nothing := &evidence.Set{Target: Healthy().Target, Interface: "eth0", Endpoint: Healthy().Endpoint}
	r := verdict.Judge(nothing)
	for _, s := range r.Suspects {
		assert.False(t, s.Standing.Holds(), "%s is %v with no probe answered", s.Fault.ID, s.Standing)
	}
	for _, id := range []string{"address-conflict", "segment-isolated", "gateway-silent", "gateway-does-not-forward", "uplink-down",
		"path-stops", "service-filtered", "name-not-found"} {
		assert.Equal(t, "possible", standing(r, id), id)
	}
	assert.Equal(t, zone.Undetermined, r.Zone)
	empty := verdict.Judge(&evidence.Set{})
	assert.Equal(t, zone.Undetermined, empty.Zone, "nothing at all is known")
}

func TestSettled(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(*evidence.Set)
		open   []evidence.Kind
		want   bool
	}{
		{"healthy does not wait for the trace", nil, []evidence.Kind{evidence.PathTrace, evidence.OtherNeighbours, evidence.DHCPOffer},
			true},
		{"healthy waits for silence", nil, []evidence.Kind{evidence.AddressConflict}, false},
		{"healthy waits for every name server", nil, []evidence.Kind{evidence.NameLookup}, false},
		{"nothing is nearer than a port that is down", func(s *evidence.Set) { noAddress(s); Port(s).Up = false }, evidence.Kinds(), true},
		{"a silent gateway waits for what is nearer", GatewayGone, []evidence.Kind{evidence.ServiceConnect}, false},
		{"a silent gateway does not wait for what lies behind", GatewayGone, []evidence.Kind{evidence.TargetEcho, evidence.PathTrace},
			true},
		{"a silent gateway that came by DHCP waits for other routers, also beside another fault", func(s *evidence.Set) {
			GatewayGone(s)
			s.Conflicts[0] = evidence.Conflict{Address: Own, Reply: Answer(Own, 1)}
		}, []evidence.Kind{evidence.Handoffs}, false},
		{"a supported fault waits for what may confirm or clear it", func(s *evidence.Set) { alone(s, Silence()) },
			[]evidence.Kind{evidence.NameLookup}, false},
	} {
		s := Healthy()
		if c.change != nil {
			c.change(s)
		}
		s.Open = c.open
		assert.Equal(t, c.want, verdict.Judge(s).Settled, c.name)
	}
}

func TestChecksTellWhatWasAskedAndHeard(t *testing.T) {
	for _, c := range slices.Concat(cases, leaseCases, planeCases, waysCases, webCases) {
		s := Healthy()
		if c.change != nil {
			c.change(s)
		}
		r := verdict.Judge(s)
		z := zone.Unknown
		for _, check := range r.Checks {
			assert.NotEmpty(t, check.Fact, "%s: %s", c.name, check.ID)
			assert.NotEmpty(t, check.Asked, "%s: %s", c.name, check.ID)
			assert.NotEmpty(t, check.Means, "%s: %s", c.name, check.ID)
			assert.GreaterOrEqual(t, check.Zone, z, "%s: %s comes in the order of the zones", c.name, check.ID)
			z = check.Zone
		}
		if s, ok := r.Suspect(r.Fault); ok && r.Fault != "" {
			i := slices.IndexFunc(r.Checks, func(k verdict.Check) bool { return k.ID == s.Fault.Check })
			if i >= 0 {
				assert.Equal(t, verdict.Broken, r.Checks[i].State, "%s: the fault's own check is broken", c.name)
				assert.NotEmpty(t, r.Checks[i].Mend, c.name)
			}
		}
	}
}

func TestWordsOfTheContract(t *testing.T) {
	for _, s := range []verdict.State{verdict.StateUnknown, verdict.Holds, verdict.Strained, verdict.Broken, verdict.Skipped} {
		b, err := json.Marshal(s)
		require.NoError(t, err)
		assert.Contains(t, []string{`"holds"`, `"strained"`, `"broken"`, `"unknown"`, `"skipped"`}, string(b))
	}
}
