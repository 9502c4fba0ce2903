package tui

import (
	"context"
	"fmt"
	"io"
	"net/netip"
	"strconv"
	"strings"
	"sync"

	tea "charm.land/bubbletea/v2"

	"passepartout/internal/core/sockets"
	"passepartout/internal/core/topology"
	"passepartout/internal/machine"
	"passepartout/internal/probe/socketwatch"
	"passepartout/internal/report"
)

// socketsView shows what this machine's programs do on the network.
var socketsView = &view{
	key: "S", name: "sockets", short: "sock", lacks: "This is a recording: what that machine's programs had open was not kept.",
	does: "this machine's programs: whom they try, what is stuck and at whose end, who listens", at: string(topology.Service), live: true,
	marks: [][2]string{
		{"━╳ ╍╍", "stuck: nobody answers, or nothing is acknowledged; a program is late, or much is sent again"},
		{"▏ ╷", "a connection was opened, was closed, in the last minute"},
	},
	deeds: []deed{
		{"enter", "ask what stands in the way", "the other end becomes the target; on a program: its connections", false},
	},
	narrows: "a program, an address, a port, a state",
	open:    (*model).openSockets, look: lookAtSockets, draw: (*model).socketsPage, press: (*model).pressSockets,
	wheel: func(m *model, _ tea.Mouse, step int) { m.chooseSocket(step) },
	export: func(m *model) (report.Export, bool) {
		s, ok := lookedAt[socketsSeen](m)
		if !ok || s.seen == nil {
			return report.Export{}, false
		}
		n := report.Sockets{Seen: s.seen, Changes: true, Name: m.nameOf}
		return report.Export{Data: map[string]func(io.Writer) error{".csv": n.WriteCSV, ".json": n.WriteJSON, ".txt": n.WriteText}}, true
	},
	stop: func(m *model) {
		if v := hold[socketsWatch](m); v != nil {
			v.cancel()
		}
	},
}

// socketsWatch is what the view holds: the watch over the sockets, and what a person has chosen.
type socketsWatch struct {
	machine  machine.Machine
	ctx      context.Context
	cancel   context.CancelFunc
	begin    sync.Mutex         // held by a look: one may still be under way when the view is left and shown again
	begun    *socketwatch.Watch // by the first look; of looks alone
	selected int
	chosen   string       // what the chosen row is about, so that others do not push the choice away
	open     map[int]bool // programs whose connections are shown, or not, by their process identifiers
}

// socketsSeen is what was seen of the sockets when it was looked last, in the rows in which it is shown.
type socketsSeen struct {
	seen   *sockets.Seen
	failed string
	rows   []socketRow

	connections, listening, left int // of all programs; of no program any more
}

// socketRow is one row that can be chosen: something stuck, a program, one of its ends, or a listener.
type socketRow struct {
	key      string
	stuck    *sockets.Stuck
	group    *sockets.Group
	open     bool
	end      *sockets.End
	listener *sockets.Listener
}

// target is the other end that the row is about.
func (x socketRow) target() (netip.AddrPort, bool) {
	switch {
	case x.stuck != nil:
		return x.stuck.Remote, x.stuck.Protocol == sockets.TCP && x.stuck.Remote.IsValid()
	case x.end != nil:
		return x.end.At, x.end.Protocol == sockets.TCP && !x.end.Comes
	}
	return netip.AddrPort{}, false
}

func (m *model) openSockets() {
	if hold[socketsWatch](m) != nil {
		return
	}
	ctx, cancel := context.WithCancel(m.ctx)
	keep(m, &socketsWatch{machine: m.Ground.Machine, ctx: ctx, cancel: cancel, open: map[int]bool{}})
}

func lookAtSockets(m *model) func() any {
	v := hold[socketsWatch](m)
	if v == nil {
		return nil
	}
	words, open := m.sought(), map[int]bool{}
	for pid, is := range v.open {
		open[pid] = is
	}
	return func() any {
		v.begin.Lock()
		defer v.begin.Unlock()
		if v.begun == nil {
			var err error
			if v.begun, err = socketwatch.Start(v.ctx, v.machine); err != nil {
				if v.ctx.Err() != nil {
					return nil
				}
				return socketsSeen{failed: err.Error()}
			}
		}
		seen, err := v.begun.See()
		out := socketsSeen{seen: seen}
		if err != nil {
			out.failed = err.Error()
		}
		if seen != nil {
			out.rows = rowsOf(seen, words, open)
			out.connections, out.listening, out.left = seen.Count()
		}
		return out
	}
}

// fewEnds are shown of a program without being asked for.
const fewEnds = 3

// rowsOf lays out what has been seen: what is stuck, the connections by program, the listeners.
func rowsOf(seen *sockets.Seen, words []string, open map[int]bool) (out []socketRow) {
	for i := range seen.Stuck {
		x := &seen.Stuck[i]
		if p, _ := seen.Program(&x.Socket); matches(words, p, &x.Socket) {
			out = append(out, socketRow{key: fmt.Sprint("stuck ", x.ID), stuck: x})
		}
	}
	groups := seen.Groups(sockets.Filter{})
	for i := range groups {
		g := &groups[i]
		var ends []socketRow
		for j := range g.Ends {
			e := &g.Ends[j]
			if matches(words, g.Program, &seen.Sockets[e.Sockets[0]]) {
				ends = append(ends, socketRow{key: fmt.Sprint("end ", g.Program.PID, e.Protocol, e.At, e.Comes), end: e})
			}
		}
		if len(ends) == 0 {
			continue
		}
		is, said := open[g.Program.PID]
		if !said {
			is = len(ends) <= fewEnds || len(words) > 0
		}
		out = append(out, socketRow{key: fmt.Sprint("program ", g.Program.PID), group: g, open: is})
		if is {
			out = append(out, ends...)
		}
	}
	listeners := seen.Listeners(sockets.Filter{})
	for i := range listeners {
		l := &listeners[i]
		if matches(words, l.Program, l.Socket) {
			out = append(out, socketRow{key: fmt.Sprint("listens ", l.Socket.Protocol, l.Socket.Local), listener: l})
		}
	}
	return out
}

// matches reports whether a socket has each of the words: in its program, an address, a port or its state.
func matches(words []string, p sockets.Program, s *sockets.Socket) bool {
	if len(words) == 0 {
		return true
	}
	all := strings.ToLower(strings.Join([]string{p.Name, strconv.Itoa(p.PID), s.Protocol.String(), s.Local.String(), s.Remote.String(),
		s.State.String(), s.State.Words()}, " "))
	return containsAll(all, words)
}

// nameOf gives the name that was looked up for an address; "" if none was.
func (m *model) nameOf(a netip.Addr) string {
	if m.set == nil {
		return ""
	}
	for _, l := range m.set.Lookups {
		for _, x := range l.Addresses {
			if x == a {
				return l.Name
			}
		}
	}
	return ""
}

// pressSockets handles the keys of the view; false for one that is not its own.
func (m *model) pressSockets(k tea.KeyPressMsg) (tea.Cmd, bool) {
	v := hold[socketsWatch](m)
	s, ok := lookedAt[socketsSeen](m)
	if v == nil || !ok {
		return nil, false
	}
	switch k.String() {
	case "enter":
		if len(s.rows) == 0 {
			return nil, true
		}
		x := s.rows[min(max(v.selected, 0), len(s.rows)-1)]
		if x.group != nil {
			v.open[x.group.Program.PID] = !x.open
			return m.look(), true
		}
		if at, ok := x.target(); ok {
			m.input.SetValue(at.String())
			return m.ask(), true
		}
	default:
		step, ok := stepOf(k)
		if !ok {
			return nil, false
		}
		m.chooseSocket(step)
	}
	return nil, true
}

func (m *model) chooseSocket(step int) {
	v := hold[socketsWatch](m)
	s, ok := lookedAt[socketsSeen](m)
	if v == nil || !ok || len(s.rows) == 0 {
		return
	}
	v.selected = min(max(v.selected+step, 0), len(s.rows)-1)
	v.chosen = s.rows[v.selected].key
}
