package probe

import (
	"context"
	"net/netip"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/machine"
)

// Ports that nobody listens on by custom. 33434 upwards has long been used for datagrams whose only purpose is the ICMP error they cause;
// 9 is discard (RFC 863).
const (
	unusedPort  = 33434
	discardPort = 9
)

// DatagramQuestion is one UDP datagram sent for the sake of what comes back.
type DatagramQuestion struct {
	To        netip.AddrPort
	HopLimit  int
	Interface string
	Payload   []byte
}

// AskDatagram sends one datagram and waits for an answer or an ICMP error, until ctx ends.
func AskDatagram(ctx context.Context, m machine.Machine, q DatagramQuestion) evidence.Reply {
	port, err := m.OpenDatagram(machine.DatagramConfig{To: q.To, HopLimit: q.HopLimit, Interface: q.Interface})
	if err != nil {
		return machine.LocalError(err)
	}
	defer port.Close()
	sent, err := port.Send(q.Payload)
	if err != nil {
		return machine.LocalError(err)
	}
	return hear(ctx, port, sent)
}

// hear waits for what comes back to the one datagram that was sent, until ctx ends.
func hear(ctx context.Context, port machine.DatagramSocket, sent time.Time) evidence.Reply {
	_, a, err := port.Receive(ctx)
	if err != nil {
		if ctx.Err() != nil {
			return evidence.Reply{Outcome: evidence.Silent, Waited: time.Since(sent)}
		}
		return machine.LocalError(err)
	}
	return reply(a, sent)
}

// AskConnect opens a connection and closes it at once.
func AskConnect(ctx context.Context, m machine.Machine, c machine.ConnectConfig) evidence.Reply {
	conn, r := m.Connect(ctx, c)
	if conn != nil {
		conn.Close()
	}
	return r
}

// AskEcho asks for echo, or, where echo is withheld, sends a datagram to an unused port: the "port unreachable" of the asked host itself is
// as good an answer. It gives the method with the reply.
func (e *Echoer) AskEcho(ctx context.Context, q EchoQuestion) (evidence.Echo, time.Time) {
	out := evidence.Echo{Asked: q.To, Method: "icmp", Size: q.Size}
	if e.m.Permissions().Echo.Granted {
		r, sent := e.Ask(ctx, q)
		out.Reply = r
		return out, sent
	}
	out.Method = "udp"
	sent := time.Now()
	out.Reply = AskDatagram(ctx, e.m,
		DatagramQuestion{To: netip.AddrPortFrom(q.To, unusedPort), HopLimit: q.HopLimit, Interface: e.iface, Payload: payload(q.Size)})
	if out.Outcome == evidence.Refused {
		out.Outcome = evidence.Answered
	}
	return out, sent
}
