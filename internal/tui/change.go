package tui

import (
	"fmt"
	"slices"
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
		if what := difference(m.set.Endpoint, msg.endpoint); what != "" {
			m.notice = fmt.Sprintf("%s at %s; r runs the tests again", what, time.Now().Format("15:04:05"))
			set := *m.set
			set.Endpoint = msg.endpoint
			m.set = &set
		}
	}
	return m.nextChange()
}

// difference says in words what changed in a machine's settings between two readings; "" for nothing that matters.
func difference(was, is *endpoint.Endpoint) string {
	for _, old := range was.Interfaces {
		now, ok := is.Interface(old.Name)
		switch {
		case !ok:
			return old.Name + " has gone"
		case old.Up != now.Up || old.Carrier != now.Carrier:
			return old.Name + " changed its state"
		case !slices.EqualFunc(old.Addresses, now.Addresses, func(a, b endpoint.Address) bool { return a.Prefix == b.Prefix }):
			return "the addresses of " + old.Name + " changed"
		}
	}
	if len(is.Interfaces) > len(was.Interfaces) {
		return "a network port has come"
	}
	if !slices.Equal(was.Routes, is.Routes) {
		return "the routes changed"
	}
	if !slices.Equal(was.Resolvers, is.Resolvers) {
		return "the name servers changed"
	}
	return ""
}
