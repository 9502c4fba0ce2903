package tui

import (
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"passepartout/internal/core/endpoint"
)

// nextChange waits for a notification, lets the burst that it belongs to pass, and reads the machine again.
func (m *model) nextChange() tea.Cmd {
	ctx, changes, ground, generation := m.ctx, m.changes, m.Ground.Machine, m.generation
	return func() tea.Msg {
		if _, open := <-changes; !open {
			return changedMsg{generation: generation, ended: true}
		}
		select {
		case <-time.After(300 * time.Millisecond):
		case <-ctx.Done():
			return nil
		}
		e, err := ground.Read(ctx)
		if err != nil {
			return changedMsg{generation: generation}
		}
		return changedMsg{generation: generation, endpoint: e}
	}
}

func (m *model) takeChange(msg changedMsg) tea.Cmd {
	if msg.ended {
		return nil
	}
	if msg.endpoint != nil && m.set != nil {
		if d := endpoint.Differences(m.set.Endpoint, msg.endpoint); len(d) > 0 {
			m.notice = fmt.Sprintf("%s at %s; r runs the tests again", d[0].What, time.Now().Format("15:04:05"))
			set := *m.set
			set.Endpoint = msg.endpoint
			m.set = &set
		}
	}
	return m.nextChange()
}
