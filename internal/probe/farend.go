package probe

import (
	"context"
	"crypto/rand"
	"net/netip"
	"sync"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/farend"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
	"passepartout/internal/nap"
)

// The pace of the questions to the far end.
const (
	farSends = 5
	farPace  = 40 * time.Millisecond
	farWait  = 500 * time.Millisecond // for answers to the last of them, and for each report
	farAsks  = 3
)

// AskFarEnd sends datagrams to an address at which our responder listens, and asks it, by every address under which it is known, how many
// have arrived.
func AskFarEnd(ctx context.Context, m machine.Machine, to netip.AddrPort, known []netip.AddrPort) evidence.FarEnd {
	var random [8]byte
	_, _ = rand.Read(random[:]) // never fails (crypto/rand)
	token := farend.Token(random)
	out := evidence.FarEnd{To: to}
	out.Sent, out.Answered = countAnswers(ctx, m, to, token)
	for range farAsks {
		if said, by, ok := askReports(ctx, m, known, token); ok {
			out.Told, out.ToldBy, out.Arrived = true, by, said.IPv4
			if to.Addr().Is6() {
				out.Arrived = said.IPv6
			}
			break
		}
	}
	return out
}

// countAnswers sends a run's datagrams and counts what comes back.
func countAnswers(ctx context.Context, m machine.Machine, to netip.AddrPort, token string) (sent, answered int) {
	port, err := m.OpenDatagram(machine.DatagramConfig{To: to})
	if err != nil {
		return 0, 0
	}
	defer port.Close()
	ctx, cancel := nap.Within(ctx, farSends*farPace+farWait)
	defer cancel()
	var wg sync.WaitGroup
	wg.Go(func() {
		defer guard.Goroutine()
		for ctx.Err() == nil && answered < farSends {
			payload, _, err := port.Receive(ctx)
			if m, ok := farend.Read(payload); err == nil && ok && m.Token == token {
				answered++
			}
		}
		cancel()
	})
	for range farSends {
		if _, err := port.Send(farend.Question(token, false)); err == nil {
			sent++
		}
		Sleep(ctx, farPace)
	}
	wg.Wait()
	return sent, answered
}

// askReports asks at every address at once; the first that tells is enough.
func askReports(ctx context.Context, m machine.Machine, known []netip.AddrPort, token string) (said farend.Message, by netip.Addr,
	ok bool) {
	ctx, cancel := nap.Within(ctx, farWait)
	defer cancel()
	var mu sync.Mutex
	var wg sync.WaitGroup
	for _, to := range known {
		wg.Go(func() {
			defer guard.Goroutine()
			port, err := m.OpenDatagram(machine.DatagramConfig{To: to})
			if err != nil {
				return
			}
			defer port.Close()
			if _, err := port.Send(farend.Question(token, true)); err != nil {
				return
			}
			payload, _, err := port.Receive(ctx)
			if m, is := farend.Read(payload); err == nil && is && m.Token == token {
				mu.Lock()
				said, by, ok = m, to.Addr(), true
				mu.Unlock()
				cancel()
			}
		})
	}
	wg.Wait()
	return said, by, ok
}
