package nap

import (
	"context"
	"time"
)

type meterKey struct{}

// With gives a context under which Within knows how late this process is.
func With(ctx context.Context, m *Meter) context.Context {
	return context.WithValue(ctx, meterKey{}, m)
}

// mostPatience is how many times as long as it was meant to be a wait may become.
const mostPatience = 3

// Within gives a context for the wait for an answer. Patience is counted in this process's own turns: what it spends waiting for them comes
// on top, since whoever is not heard in time by our own fault is not silent. Without a meter it is context.WithTimeout.
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
		if left := min(patience+m.Since(asked), mostPatience*patience) - time.Since(asked); left > 0 {
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
