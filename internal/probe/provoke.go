package probe

import (
	"context"
	"net/netip"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/machine"
	"passepartout/internal/nap"
)

// provokePoll is how often the kernel's neighbour table is looked at while it asks on our behalf.
const provokePoll = 25 * time.Millisecond

// Provoke makes the kernel ask for neighbours, by a datagram to each past the routing table (those of IPv4 may be of any network), and
// reads its table: what anybody may do. At most 128 addresses are
// asked at a time, so that the table (512 entries before the kernel clears it out) is not crowded. done is called for each that ends, in no
// order.
//
// An entry that was resolved before proves nothing about now: it counts as answered only once the kernel has asked anew, and
// is not known otherwise.
func Provoke(ctx context.Context, m machine.Machine, iface string, targets []netip.Addr, patience time.Duration,
	done func(evidence.Neighbour)) {
	known, _ := m.Neighbours(ctx)
	ProvokeSince(ctx, m, iface, known, targets, patience, done)
}

// ProvokeSince is Provoke where the table was read before: who was resolved since, for whatever reason, has answered.
func ProvokeSince(ctx context.Context, m machine.Machine, iface string, known []endpoint.Neighbour, targets []netip.Addr,
	patience time.Duration, done func(evidence.Neighbour)) {
	const most = 128
	before := byAddress(known, iface)
	for len(targets) > 0 && ctx.Err() == nil {
		n := min(most, len(targets))
		provoke(ctx, m, iface, before, targets[:n], patience, done)
		targets = targets[n:]
	}
}

func provoke(ctx context.Context, m machine.Machine, iface string, before map[netip.Addr]endpoint.Neighbour, targets []netip.Addr,
	patience time.Duration, done func(evidence.Neighbour)) {
	patient, cancel := nap.Within(ctx, patience)
	defer cancel()
	began := time.Now()
	open := map[netip.Addr]bool{}
	for _, target := range targets {
		target = target.WithZone("")
		to := target
		if to.IsLinkLocalUnicast() && to.Is6() {
			to = to.WithZone(iface)
		}
		port, err := m.OpenDatagram(machine.DatagramConfig{To: netip.AddrPortFrom(to, discardPort), Interface: iface, OnLink: true})
		if err == nil {
			defer port.Close()
			_, err = port.Send(nil)
		}
		if err != nil {
			done(evidence.Neighbour{Asked: target, Method: evidence.ByKernel, Reply: machine.LocalError(err)})
			continue
		}
		open[target] = true
	}
	for len(open) > 0 {
		more := Sleep(patient, provokePoll)
		entries, _ := m.Neighbours(ctx)
		now := byAddress(entries, iface)
		if ctx.Err() != nil { // what cannot be read any more is no silence
			return
		}
		for target := range open {
			out := evidence.Neighbour{Asked: target, Method: evidence.ByKernel, Asks: 1}
			was, is := before[target], now[target]
			waited := time.Since(began)
			switch {
			case is.State == endpoint.Reachable && was.State != endpoint.Reachable, is.State.Resolved() && !was.State.Resolved():
				out.Hardware = []endpoint.HardwareAddr{is.Hardware}
				out.Reply = evidence.Reply{Outcome: evidence.Answered, From: target, RTT: waited}
			case is.State == endpoint.Failed && waited > provokePoll, !more && !is.State.Resolved():
				out.Reply = evidence.Reply{Outcome: evidence.Silent, Waited: waited}
			case !more:
				out.Reason = evidence.Remembered
			default:
				continue
			}
			delete(open, target)
			done(out)
		}
	}
}

func byAddress(entries []endpoint.Neighbour, iface string) map[netip.Addr]endpoint.Neighbour {
	out := map[netip.Addr]endpoint.Neighbour{}
	for _, n := range entries {
		if n.Interface == iface {
			out[n.Address] = n
		}
	}
	return out
}
