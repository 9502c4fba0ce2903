// Package socketwatch keeps watch over the sockets of this machine's programs: it reads them again and again, and takes in what the system
// tells of connections that end meanwhile.
package socketwatch

import (
	"context"
	"errors"
	"io/fs"
	"sync"
	"time"

	"passepartout/internal/core/sockets"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
)

// ErrNotTold is given for a machine that does not tell of its sockets.
var ErrNotTold = errors.New("this machine does not tell of its sockets")

// Reading takes at most one part in so many of the time: of 100,000 sockets, every few seconds.
const (
	readEvery = time.Second
	share     = 5
)

// Watch is at work until its context ends and Wait has returned.
type Watch struct {
	from machine.SocketTeller
	wg   sync.WaitGroup
	news chan struct{}

	mu      sync.Mutex
	tracker sockets.Tracker
	seen    *sockets.Seen
	changed bool // since seen was made
	failed  error
}

// Start reads the sockets for the first time, and goes on.
func Start(ctx context.Context, m machine.Machine) (*Watch, error) {
	from, ok := m.(machine.SocketTeller)
	if !ok {
		return nil, ErrNotTold
	}
	w := &Watch{from: from, news: make(chan struct{}, 1)}
	ends, err := from.Closings(ctx) // before the first look: what ends after that is missed by nobody
	if err != nil && !errors.Is(err, fs.ErrPermission) && !errors.Is(err, ErrNotTold) {
		return nil, err
	}
	took, err := w.read(ctx)
	if err != nil {
		return nil, err
	}
	if ends != nil {
		w.tracker.Telling()
		w.wg.Go(func() {
			defer guard.Goroutine()
			for c := range ends {
				w.ended(c)
			}
		})
	}
	w.wg.Go(func() {
		defer guard.Goroutine()
		timer := time.NewTimer(pause(took))
		defer timer.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-timer.C:
			}
			took, err := w.read(ctx)
			if ctx.Err() != nil {
				return
			}
			w.mu.Lock()
			w.failed = err
			w.mu.Unlock()
			timer.Reset(pause(took))
		}
	})
	return w, nil
}

func pause(took time.Duration) time.Duration { return max(readEvery, share*took) - took }

func (w *Watch) read(ctx context.Context) (time.Duration, error) {
	began := time.Now()
	t, err := w.from.Sockets(ctx)
	if err != nil {
		return time.Since(began), err
	}
	w.mu.Lock()
	w.tracker.Take(t)
	w.changed = true
	w.mu.Unlock()
	select {
	case w.news <- struct{}{}:
	default:
	}
	return time.Since(began), nil
}

func (w *Watch) ended(c machine.Closing) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if c.Missed {
		w.tracker.Missed()
		return
	}
	w.tracker.Closed(time.Now(), c.Socket)
	w.changed = true
}

// News holds a token when the sockets were read again.
func (w *Watch) News() <-chan struct{} { return w.news }

// See gives what has been seen so far, and why the last look failed, if it did.
func (w *Watch) See() (*sockets.Seen, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.changed {
		w.seen, w.changed = w.tracker.See(), false
	}
	return w.seen, w.failed
}

// Wait returns when everything has ended.
func (w *Watch) Wait() { w.wg.Wait() }
