// Package machine states what a machine offers to the probes: its own settings, and the ways in which it can ask the network.
// The live Linux machine and every simulated one implement it; nobody above can tell them apart.
package machine

import (
	"context"
	"crypto/x509"
	"errors"
	"net"
	"net/netip"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
)

// Machine is one endpoint. All methods may be called concurrently.
//
// Errors: one that satisfies errors.Is(err, fs.ErrPermission) means that the system does not allow it; ErrNoRoute that the system knows no
// way to the destination; ErrGone that the interface is not, or no longer, there; ErrDown that it is there and off. No method blocks for
// longer than its context allows.
type Machine interface {
	// Read takes in everything the machine says of itself. What cannot be read becomes a remark, not an error.
	Read(ctx context.Context) (*endpoint.Endpoint, error)
	// Interfaces reads the network ports alone, with their counters and without loopback: cheap enough to be repeated.
	Interfaces(ctx context.Context) ([]endpoint.Interface, error)
	// Neighbours reads the neighbour tables alone, which is cheap enough to be repeated.
	Neighbours(ctx context.Context) ([]endpoint.Neighbour, error)
	// Route gives the system's own answer to "how would you reach this?". iface confines the question to one interface, or is empty.
	Route(ctx context.Context, to netip.Addr, iface string) (endpoint.RouteAnswer, error)
	// Watch sends, never blocking, when interfaces, addresses, routes or neighbours may have changed: the receiver reads all again.
	// The channel is closed when ctx ends.
	Watch(ctx context.Context) (<-chan struct{}, error)
	// Permissions says what the system lets this process do, tried out and not guessed.
	Permissions() Permissions
	// OpenEcho opens a socket for echo requests of one family.
	OpenEcho(EchoConfig) (EchoSocket, error)
	// OpenFlow opens a socket for packets of one flow. TCP needs permission for raw frames.
	OpenFlow(FlowConfig) (FlowSocket, error)
	// OpenDatagram opens a UDP socket towards one address.
	OpenDatagram(DatagramConfig) (DatagramSocket, error)
	// Connect opens a TCP connection. The reply tells how it went; the connection is nil unless the outcome is Answered.
	// A context that ends before anything came gives Silent.
	Connect(context.Context, ConnectConfig) (net.Conn, evidence.Reply)
	// OpenFrames opens a port for whole Ethernet frames.
	OpenFrames(FrameConfig) (FrameSocket, error)
	// Roots are the authorities whose certificates the machine trusts; nil means the system's own.
	Roots() *x509.CertPool
}

// Errors that callers act on. They are reported by a socket's first use as well as by its opening.
var (
	ErrNoRoute = errors.New("no route")
	ErrGone    = errors.New("no such interface")
	ErrDown    = errors.New("the interface is down")
	ErrTooLong = errors.New("larger than the interface's MTU")
)

// Permissions are the abilities that a system may withhold.
type Permissions struct {
	Echo   Permission // ICMP echo
	Frames Permission // whole Ethernet frames: ARP and DHCP probes, listening
}

// Permission is one ability. Why and Mend are set when it is withheld.
type Permission struct {
	Granted bool
	How     string // "raw" or "datagram", when granted
	Why     string
	Mend    string // the one command that would allow it
}

// EchoConfig describes a socket for echo requests.
type EchoConfig struct {
	V6           bool
	Interface    string // "" leaves the choice to the routing table
	DontFragment bool   // never in fragments (DF, RFC 791 §2.3), whatever is remembered of the path's MTU
}

// EchoRequest is one echo request to send.
type EchoRequest struct {
	To       netip.Addr
	Seq      uint16
	HopLimit int // 0: the system's default
	Payload  []byte
}

// EchoSocket sends echo requests of one family and hands out all that comes back to them. Send and Receive may run concurrently; Receive
// has one caller. Close ends a Receive with net.ErrClosed.
type EchoSocket interface {
	// Send returns the moment just before the packet was handed to the system.
	Send(EchoRequest) (time.Time, error)
	// Receive blocks until something comes. Packets that answer no request of this port are passed over.
	Receive() (EchoArrival, error)
	Close() error
}

// EchoArrival is what came back to an echo request.
type EchoArrival struct {
	Seq uint16
	To  netip.Addr // whom the request had asked
	// of a reply: what the request carried, or its beginning; until the next one is received
	Data []byte
	Arrival
}

// Arrival is one packet that came back.
type Arrival struct {
	Outcome      evidence.Outcome // Answered, Refused, Unreachable, Expired, or LocalError from the system's own queue
	From         netip.Addr
	Why          evidence.Why
	ICMPType     uint8
	ICMPCode     uint8
	HopLimitLeft int
	Size         int       // octets of payload
	At           time.Time // when this process learnt of it, with a monotonic reading
	Stamp        time.Time // when the kernel got it, wall clock; zero if it does not say
	Departed     time.Time // when the kernel sent what this answers, wall clock; zero if it does not say
	Reason       string    // with LocalError
	MTU          int       // of the link that it did not fit, with TooBig, also by this machine itself; 0: not said
}

// DatagramConfig describes a UDP socket.
type DatagramConfig struct {
	To           netip.AddrPort
	HopLimit     int    // 0: the system's default
	Interface    string // "" leaves the choice to the routing table
	DontFragment bool   // as with EchoConfig
	// OnLink sends past the routing table, as if the address were on the link of the interface, whatever network it is of (IPv4).
	OnLink bool
}

// DatagramSocket is a UDP socket towards one address. Send and Receive may run concurrently.
type DatagramSocket interface {
	Send(payload []byte) (time.Time, error)
	// Receive blocks for a datagram or an ICMP error; when ctx ends it returns ctx's error. The caller owns the payload.
	Receive(ctx context.Context) (payload []byte, a Arrival, err error)
	Close() error
}

// ConnectConfig describes a TCP connection to open.
type ConnectConfig struct {
	To        netip.AddrPort
	HopLimit  int
	Interface string
}

// FlowProto is the protocol of a flow.
type FlowProto string

// The protocols of flows.
const (
	FlowUDP FlowProto = "udp"
	FlowTCP FlowProto = "tcp"
)

// FlowConfig describes a flow: packets with the same addresses, protocol and ports, so that every router on the way treats them alike.
type FlowConfig struct {
	To        netip.AddrPort
	Proto     FlowProto
	Interface string // "" leaves the choice to the routing table
}

// FlowSocket sends packets of one flow, each with a number of its own, and hands out what comes back to them. Send and Receive may run
// concurrently; Receive has one caller. Close ends a Receive with net.ErrClosed.
type FlowSocket interface {
	// Send returns the moment just before the packet was handed to the system. A TCP flow sends SYN segments; the system resets what
	// answers.
	Send(number uint16, hopLimit int) (time.Time, error)
	// Receive blocks until something comes back that tells its packet's number.
	Receive() (number uint16, a Arrival, err error)
	Close() error
}

// FrameConfig describes a port for frames.
type FrameConfig struct {
	Interface string
	Own       bool // frames that this machine sends are heard too, but for those sent through this very port
	Only      Filter
}

// Filter is what of an interface's traffic is heard: on a busy one, everything costs much.
type Filter uint8

// The filters. Zero: everything is heard.
const (
	Everything Filter = iota
	OnlyDHCP          // DHCP over IPv4
	// by which machines find each other and are set up: ARP, ICMPv6, DHCP of both families, LLDP, and who may use the port (EAPOL)
	OnlyHousekeeping
)

// FrameSocket sends and hears whole Ethernet frames. Send may be called concurrently with Receive, which has one caller.
type FrameSocket interface {
	Hardware() endpoint.HardwareAddr
	Send(frame []byte) error
	// Receive fails when the interface goes down or away; it is then to be opened anew. It blocks for the next frame, those sent by this
	// machine left out unless they were asked for. The caller owns the bytes. Close ends it with net.ErrClosed.
	Receive() (frame []byte, at time.Time, err error)
	Close() error
}
