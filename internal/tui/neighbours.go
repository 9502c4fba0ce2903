package tui

import (
	"context"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"
	"sync"

	tea "charm.land/bubbletea/v2"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/neighbours"
	"passepartout/internal/core/topology"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/guard"
	"passepartout/internal/probe/neighbourwatch"
	"passepartout/internal/report"
)

// neighboursView shows who is on the segment, and how sure that is.
var neighboursView = &view{
	key: "4", name: "neighbours", short: "near", sets: "fixed entries",
	does: "who is on the segment, and how sure that is", at: string(topology.Neighbours), live: true,
	marks: [][2]string{
		{"● ◆", "this machine, the gateway: on the strip of the segment, where their addresses lie"},
		{"• ○ ·", "answered or spoke within a minute; known from the table alone; asked and silent"},
		{"╳", "wrong: two machines answer, the hardware address has changed, or an entry fixed by hand differs"},
		{"╌", "a range of the site sheet"},
	},
	deeds: []deed{
		{"a", "ask all", "ask everybody on the segment, within its rate", false},
		{"f", "is it free?", "is an address free: conflict probes and an echo", false},
		{"m", "is mine used?", "does anybody else use this machine's address", false},
		{"x", "stop", "stop asking", true},
	},
	narrows: "a name, an address, a hardware address, a state",
	kept:    true, replay: lookAtRecordedNeighbours,
	open: (*model).openNeighbours, look: lookAtNeighbours, draw: (*model).neighboursPage, press: (*model).pressNeighbours,
	wheel: func(m *model, _ tea.Mouse, step int) { m.chooseNeighbour(step) },
	say: func(m *model, words string) {
		if v := m.neighbours(); v != nil {
			v.note = words
		}
	},
	note: func(m *model) string {
		if v := m.neighbours(); v != nil {
			return v.note
		}
		return ""
	},
	export: func(m *model) (report.Export, bool) {
		v := m.neighbours()
		if v == nil {
			return report.Export{}, false
		}
		seen := m.segment()
		if seen.watch == nil {
			return report.Export{}, false
		}
		n := report.Neighbours{Interface: v.iface, Home: seen.watch.Home, HasHome: seen.watch.HasHome, Picture: seen.Picture}
		return report.Export{Data: map[string]func(io.Writer) error{".csv": n.WriteCSV, ".json": n.WriteJSON, ".txt": n.WriteText}}, true
	},
	stop: func(m *model) {
		if v := m.neighbours(); v != nil {
			v.end()
		}
	},
}

// neighboursWatch is what the view holds: the watch over the neighbours, for as long as the case is about one interface.
type neighboursWatch struct {
	config   neighbourwatch.Config
	begin    sync.Mutex            // held by a look: one may still be under way when the view is left and shown again
	begun    *neighbourwatch.Watch // by the first look; of looks alone
	ctx      context.Context
	cancel   context.CancelFunc
	iface    string
	own      string // the interface and its addresses, for which the watch was begun
	stopAsk  context.CancelFunc
	large    bool // the question whether to ask a large segment has been put
	selected int
	chosen   netip.Addr // so that new neighbours do not push the choice away
	note     string
}

// neighbours is what the view holds; nil before it was opened.
func (m *model) neighbours() *neighboursWatch { return hold[neighboursWatch](m) }

// segmentSeen is what was known of the neighbours when it was looked last, and who watches over them.
type segmentSeen struct {
	watch *neighbourwatch.Watch
	neighbourwatch.Picture
}

// segment gives that; nobody watches before the first look.
func (m *model) segment() segmentSeen {
	p, _ := lookedAt[segmentSeen](m)
	return p
}

// openNeighbours prepares the watch, or a new one on another interface or with other addresses of its own. It is begun by the first look.
func (m *model) openNeighbours() {
	v := m.neighbours()
	if _, ok := m.set.Endpoint.Interface(m.set.Interface); !ok {
		return // which the page says
	}
	own := fmt.Sprint(m.set.Interface, ownPrefixes(m.set))
	if v != nil && v.own == own {
		return
	}
	if m.recorded != nil {
		keep(m, &neighboursWatch{cancel: func() {}, iface: m.set.Interface, own: own})
		return
	}
	if v != nil {
		v.end()
	}
	forget[segmentSeen](m)
	ctx, cancel := context.WithCancel(m.ctx)
	keep(m, &neighboursWatch{ctx: ctx, cancel: cancel, iface: m.set.Interface, own: own,
		config: neighbourwatch.Config{Machine: m.case_.Machine(),
			Interface: m.set.Interface, Endpoint: m.set.Endpoint, Sheet: m.Ground.Sheet, Known: m.set, Began: m.state.Round.Began}})
}

func ownPrefixes(s *evidence.Set) (out []netip.Prefix) {
	if i, ok := s.Endpoint.Interface(s.Interface); ok {
		for _, a := range i.Addresses {
			out = append(out, a.Prefix)
		}
	}
	return out
}

// lookAtRecordedNeighbours gives what the tests of a recording had found on the segment by the moment where one stands.
func lookAtRecordedNeighbours(m *model) func() any {
	if m.neighbours() == nil {
		return nil
	}
	c := neighbourwatch.Config{Interface: m.set.Interface, Endpoint: m.set.Endpoint, Sheet: m.set.Sheet, Known: m.set,
		Began: m.state.Round.Began, Quiet: true}
	at := m.state.At
	return func() any {
		watch, picture, err := neighbourwatch.Recalled(c, at)
		if err != nil {
			return nil
		}
		return segmentSeen{watch, picture}
	}
}

func lookAtNeighbours(m *model) func() any {
	v := m.neighbours()
	if v == nil {
		return nil
	}
	return func() any {
		v.begin.Lock()
		defer v.begin.Unlock()
		if v.begun == nil {
			var err error
			if v.begun, err = neighbourwatch.Start(v.ctx, v.config); err != nil {
				return nil
			}
		}
		return segmentSeen{v.begun, v.begun.See()}
	}
}

// end ends the watch. What it has under way ends by itself: nobody waits for it here.
func (v *neighboursWatch) end() { v.cancel() }

// pressNeighbours handles the keys of the neighbours view; false for one that is not its own.
func (m *model) pressNeighbours(k tea.KeyPressMsg) (tea.Cmd, bool) {
	v, watch := m.neighbours(), m.segment().watch
	if v == nil || watch == nil {
		return nil, false
	}
	v.note = ""
	was := v.large
	v.large = false
	switch k.String() {
	case "a":
		m.askSegment(was)
	case "esc", "x":
		if k.String() == "esc" && m.narrowed() != "" { // which shows all again
			return nil, false
		}
		if v.stopAsk != nil {
			v.stopAsk()
		}
	case "f":
		value := ""
		if v.chosen.IsValid() {
			value = v.chosen.String()
		}
		return m.offerEntry("is this address free?", value, func(text string) (tea.Cmd, error) {
			a, err := netip.ParseAddr(text)
			if err != nil {
				return nil, fmt.Errorf("%q is no address; give one such as 172.27.40.90", fit(wiretext.Clean(text), 40))
			}
			m.tryAddress(a)
			return nil, nil
		}), true
	case "m":
		if a, ok := watch.OwnAddress(); !ok {
			v.note = "this machine has no address that another could use"
		} else if m.segment().Withheld != "" {
			v.note = "whether anybody else uses this machine's address can only be asked in raw frames"
		} else {
			m.tryAddress(a)
		}
	default:
		step, ok := stepOf(k)
		if !ok {
			return nil, false
		}
		m.chooseNeighbour(step)
	}
	return nil, true
}

func (m *model) tryAddress(a netip.Addr) {
	ctx, watch := m.neighbours().ctx, m.segment().watch
	go func() {
		defer guard.Goroutine()
		watch.Try(ctx, a)
	}()
}

// askSegment asks everybody, on a segment larger than a /24 only when the key is pressed a second time.
func (m *model) askSegment(confirmed bool) {
	v := m.neighbours()
	watch := m.segment().watch
	size, prefix, ok := watch.Size()
	switch {
	case !ok:
		v.note = "the interface has no IPv4 network whose addresses could be asked"
		return
	case size > neighbourwatch.Largest:
		v.note = neighbourwatch.ErrTooLarge{Prefix: prefix, Size: size}.Error()
		return
	case size > 256 && !confirmed:
		v.large = true
		v.note = fmt.Sprintf("%v has %d addresses: a once more asks them all, %d a second; any other key leaves it", prefix.Masked(), size,
			neighbourwatch.LargeRate)
		return
	}
	ctx, cancel := context.WithCancel(v.ctx)
	v.stopAsk = cancel
	go func() {
		defer guard.Goroutine()
		defer cancel()
		_ = watch.Ask(ctx, 0) // its errors have been ruled out above
	}()
}

func (m *model) chooseNeighbour(step int) {
	v := m.neighbours()
	rows := m.neighbourRows()
	if v == nil || len(rows) == 0 {
		return
	}
	v.selected = min(max(v.selected+step, 0), len(rows)-1)
	v.chosen = rows[v.selected].Address
}

// neighbourRows are those that are shown.
func (m *model) neighbourRows() []neighbours.Row {
	words := m.sought()
	if len(words) == 0 {
		return m.segment().Rows
	}
	return slices.DeleteFunc(slices.Clone(m.segment().Rows), func(x neighbours.Row) bool {
		all := []string{x.Address.String(), x.Hardware.String(), x.Words}
		for _, n := range x.Names {
			all = append(all, n.Text)
		}
		for _, k := range x.Marks {
			all = append(all, k.String())
		}
		return !containsAll(strings.ToLower(strings.Join(all, " ")), words)
	})
}

// short is a name without its domain where that is the machine's own.
func (m *model) short(name string) string {
	for _, domain := range m.set.Endpoint.Search {
		if cut, ok := strings.CutSuffix(name, "."+domain); ok {
			return cut
		}
	}
	return name
}
