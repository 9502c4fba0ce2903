package evidence

import "net/netip"

// FarEnd is what became of datagrams to our own responder at the far end.
type FarEnd struct {
	To       netip.AddrPort
	Sent     int
	Answered int
	Told     bool // the responder has said how many arrived
	ToldBy   netip.Addr
	Arrived  int
}
