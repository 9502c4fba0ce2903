package tui

import (
	"context"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/verdict"
	"passepartout/internal/probe/plan"
)

// batch is how long news is gathered before the screen is drawn again.
const batch = 40 * time.Millisecond

// runner is one run of the plan beside the screen. The screen takes the latest state when it is told that there is one.
type runner struct {
	generation int
	cancel     context.CancelFunc
	news       chan struct{} // holds a token when something is new

	mu     sync.Mutex
	set    *evidence.Set
	result verdict.Result
	err    error
	over   bool
}

// newsMsg says that a runner has something new, or is over.
type newsMsg struct{ generation int }

func startRun(ctx context.Context, generation int, c plan.Config, deadline time.Duration) *runner {
	ctx, cancel := context.WithTimeout(ctx, deadline)
	r := &runner{generation: generation, cancel: cancel, news: make(chan struct{}, 1)}
	c.Thorough = true
	go func() {
		defer cancel()
		set, result, err := plan.Run(ctx, c, func(s *evidence.Set, v verdict.Result) { r.put(s, v, nil, false) })
		r.put(set, result, err, true)
	}()
	return r
}

func (r *runner) put(s *evidence.Set, v verdict.Result, err error, over bool) {
	r.mu.Lock()
	if s != nil {
		r.set, r.result = s, v
	}
	r.err, r.over = err, over
	r.mu.Unlock()
	select {
	case r.news <- struct{}{}:
	default:
	}
}

func (r *runner) latest() (*evidence.Set, verdict.Result, error, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.set, r.result, r.err, r.over
}

// wait is the command that ends with the next news, a batch of it at once.
func (r *runner) wait(ctx context.Context) tea.Cmd {
	return func() tea.Msg {
		select {
		case <-r.news:
		case <-ctx.Done():
			return nil
		}
		select {
		case <-time.After(batch):
		case <-ctx.Done():
			return nil
		}
		return newsMsg{r.generation}
	}
}
