package probe

import (
	"context"
	"math/rand/v2"
	"net/netip"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/machine"
	"passepartout/internal/machine/wire"
)

// HandTo hands a packet for an address to one neighbour, in a frame of its own: an echo request, and a request for a connection if a port
// is given, since many ignore echo. It tells what came back first; ctx ends the wait. A hop limit of 1 asks whether the neighbour passes
// traffic on at all.
func (s *Segment) HandTo(ctx context.Context, by netip.Addr, hw endpoint.HardwareAddr, from netip.Addr, to netip.AddrPort,
	hopLimit int) evidence.Handoff {
	out := evidence.Handoff{To: to.Addr(), By: by, HopLimit: hopLimit}
	id, number := uint16(rand.Uint32()), uint16(rand.Uint32())
	own := uint16(40000 + rand.IntN(20000))
	came := make(chan evidence.Reply, 1)
	began := time.Now()
	stop := s.onFrame(func(f *wire.Frame, frame []byte) {
		if f.To.Addr() != from || len(frame) < 14 {
			return
		}
		r := evidence.Reply{}
		switch f.Proto {
		case "icmp":
			report, ok := wire.ParsePacket(frame[14:])
			mine := ok &&
				(report.About.EchoFamily && report.About.ID == id || !report.About.EchoFamily && report.About.From.Port() == own &&
					report.About.To == to)
			if !mine || report.About.To.Addr() != to.Addr() {
				return
			}
			r = evidence.Reply{Outcome: report.Outcome, From: report.From, Why: report.Why, ICMPType: report.Type, ICMPCode: report.Code,
				HopLimitLeft: report.HopLimitLeft, MTU: report.MTU}
		case "tcp":
			if to.Port() == 0 || f.From != to || f.To.Port() != own {
				return
			}
			answered, refused, ok := wire.SYNAnswer(f.Segment, own, to.Port())
			if !ok || answered != number {
				return
			}
			r = evidence.Reply{Outcome: wire.AnsweredFlow(refused), From: to.Addr()}
		default:
			return
		}
		r.RTT = time.Since(began)
		select {
		case came <- r:
		default:
		}
	})
	defer stop()
	err := s.port.Send(wire.EchoFrame(s.port.Hardware(), hw, from, to.Addr(), hopLimit, id, 1))
	if err == nil && to.Port() != 0 {
		err = s.port.Send(wire.SYNFrame(s.port.Hardware(), hw, netip.AddrPortFrom(from, own), to, hopLimit, number))
	}
	if err != nil {
		out.Reply = machine.LocalError(err)
		return out
	}
	select {
	case out.Reply = <-came:
	case <-ctx.Done():
		out.Reply = evidence.Reply{Outcome: evidence.Silent, Waited: time.Since(began)}
	}
	return out
}
