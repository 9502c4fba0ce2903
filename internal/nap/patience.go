package nap

import (
	"context"
	"time"
)

// turnsOfAnAnswer is how many turns of this process a question may have to wait for until its answer is read: those that send, those that
// hear, and, where the network is simulated in this process, those of every link on the way.
const turnsOfAnAnswer = 8

// Allowance is by how much longer is to be waited for an answer to what was asked at a moment, since this process itself was late.
func (m *Meter) Allowance(asked time.Time) time.Duration { return turnsOfAnAnswer * m.Since(asked) }

type meterKey struct{}

// With gives a context under which Within knows how late this process is.
func With(ctx context.Context, m *Meter) context.Context {
	return context.WithValue(ctx, meterKey{}, m)
}

// mostPatience is how many times as long as it was meant to be a wait may become.
const mostPatience = 3

// Within gives a context for the wait for an answer: it ends after patience, and later where this process had to wait for its turn
// meanwhile. Whoever is not heard in time by our own fault is not silent. Without a meter it is context.WithTimeout.
func Within(ctx context.Context, patience time.Duration) (context.Context, context.CancelFunc) {
	m, measured := ctx.Value(meterKey{}).(*Meter)
	if !measured {
		return context.WithTimeout(ctx, patience)
	}
	ctx, cancel := context.WithCancel(ctx)
	asked := time.Now()
	var timer *time.Timer
	ready := make(chan struct{})
	timer = time.AfterFunc(patience, func() {
		<-ready
		if left := min(patience+m.Allowance(asked), mostPatience*patience) - time.Since(asked); left > 0 {
			timer.Reset(left)
			return
		}
		cancel()
	})
	close(ready)
	return ctx, func() {
		timer.Stop()
		cancel()
	}
}
