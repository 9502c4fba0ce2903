package probe

import (
	"context"
	"net/netip"
	"slices"
	"sync"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/neighbours"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
	"passepartout/internal/machine/wire"
)

// OnFrame has f called for every frame that arrives, from the receiving goroutine, until stop. f must not keep the bytes.
func (s *Segment) OnFrame(f func(*wire.Frame, []byte)) (stop func()) { return s.onFrame(f) }

// Try asks whether anybody uses an address: three conflict probes that leave no trace in anybody's table, and an echo. It takes about five
// seconds when nobody does (RFC 5227 §2.1.1), less when somebody answers. With a nil segment the system asks on our behalf, which shows one
// holder at most.
func Try(ctx context.Context, m machine.Machine, s *Segment, iface string, t neighbours.Trial,
	changed func(neighbours.Trial)) neighbours.Trial {
	began := time.Now()
	var mu sync.Mutex
	note := func(f func()) {
		mu.Lock()
		f()
		t.Took = time.Since(began)
		now := t
		now.Holders, now.Rivals = slices.Clone(t.Holders), slices.Clone(t.Rivals)
		mu.Unlock()
		if changed != nil {
			changed(now)
		}
	}
	taken := func() bool {
		mu.Lock()
		defer mu.Unlock()
		return len(t.Holders) > 0 || t.Echo.Came() && t.Echo.From == t.Address && !t.Own
	}
	add := func(list *[]endpoint.HardwareAddr, h endpoint.HardwareAddr) {
		if !slices.Contains(*list, h) && len(*list) < 8 {
			note(func() { *list = append(*list, h) })
		}
	}
	if !t.OnLink && !t.Own {
		note(func() { t.Over = true })
		return t
	}
	if s == nil {
		trySystem(ctx, m, iface, &t, note)
		note(func() { t.Over = ctx.Err() == nil })
		return t
	}
	t.Frames = true
	stop := s.OnFrame(func(f *wire.Frame, _ []byte) {
		switch {
		case f.Source == s.port.Hardware():
		case f.Claim == t.Address:
			add(&t.Holders, f.Hardware)
		case f.Asks == t.Address && !f.Claim.IsValid(): // somebody else's conflict probe
			add(&t.Rivals, f.Source)
		}
	})
	defer stop()
	for i := range neighbours.ProbeNumber {
		frame := wire.ARPRequest(s.port.Hardware(), netip.Addr{}, t.Address)
		if t.Address.Is6() {
			frame = wire.NeighbourSolicitation(s.port.Hardware(), netip.IPv6Unspecified(), t.Address)
		}
		if err := s.port.Send(frame); err != nil {
			note(func() { t.Echo = machine.LocalError(err) })
			break
		}
		note(func() { t.Probes++ })
		wait := neighbours.ProbeApart
		if i == neighbours.ProbeNumber-1 {
			wait = neighbours.AnnounceWait
		}
		for until := time.Now().Add(wait); time.Now().Before(until) && ctx.Err() == nil; {
			if taken() { // a moment longer: a second holder answers at about the same time
				Sleep(ctx, 300*time.Millisecond)
				note(func() { t.Over = true })
				return t
			}
			Sleep(ctx, 20*time.Millisecond)
		}
	}
	note(func() { t.Over = ctx.Err() == nil })
	return t
}

// trySystem has the system resolve the address, and asks it for an echo, for as long as a conflict probe would take.
func trySystem(ctx context.Context, m machine.Machine, iface string, t *neighbours.Trial, note func(func())) {
	if t.Own {
		return // a system does not ask for its own addresses
	}
	echoer := NewEchoer(m, iface)
	defer echoer.Close()
	var wg sync.WaitGroup
	wg.Go(func() {
		defer guard.Goroutine()
		ask, cancel := context.WithTimeout(ctx, neighbours.AnnounceWait)
		defer cancel()
		e, _ := echoer.AskEcho(ask, EchoQuestion{To: t.Address, Size: 24})
		note(func() { t.Echo = e.Reply })
	})
	Provoke(ctx, m, iface, []netip.Addr{t.Address}, neighbours.AnnounceWait+neighbours.ProbeApart, func(n evidence.Neighbour) {
		note(func() {
			t.Probes = neighbours.ProbeNumber
			if n.Outcome == evidence.Answered {
				t.Holders = append(t.Holders, n.Hardware...)
			}
		})
	})
	wg.Wait()
}
