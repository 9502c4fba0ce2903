// Package evidence holds typed observations: what was asked, of whom, what came back, and when. It judges nothing.
package evidence

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
	endOfKinds            // what stands before it is a kind
)

// kindNames has a name for each kind: the compiler counts them.
var kindNames = [endOfKinds]string{
	Settings: "settings", RouteLookup: "route-lookup", Loopback: "loopback", GatewayNeighbour: "gateway-neighbour",
	OtherNeighbours: "other-neighbours",
	SegmentFrames:   "segment-frames", DHCPOffer: "dhcp-offer", AddressConflict: "address-conflict", NameLookup: "name-lookup",
	GatewayEcho: "gateway-echo", TargetEcho: "target-echo", ServiceConnect: "service-connect", WebAnswer: "web-answer",
	PathTrace:  "path-trace",
	LossProbes: "loss-probes", PacketSize: "packet-size", Responder: "responder", Handoffs: "hand-offs",
}

// Kinds lists every kind, in order.
func Kinds() []Kind {
	out := make([]Kind, 0, endOfKinds-1)
	for k := Settings; k < endOfKinds; k++ {
		out = append(out, k)
	}
	return out
}

func (k Kind) String() string { return kindNames[k] }
