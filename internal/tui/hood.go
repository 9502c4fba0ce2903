package tui

import (
	"context"
	"fmt"
	"net/netip"
	"strings"

	tea "charm.land/bubbletea/v2"

	"passepartout/internal/core/wiretext"
	"passepartout/internal/probe/patrol"
)

// hoodView is what view 4 holds: the watch over the neighbours, for as long as the program stands at one machine and port.
type hoodView struct {
	patrol   *patrol.Patrol
	ctx      context.Context
	cancel   context.CancelFunc
	iface    string
	stopAsk  context.CancelFunc
	large    bool // the question whether to ask a large segment has been put
	selected int
	chosen   netip.Addr // so that new neighbours do not push the choice away
	note     string
}

// startHood begins the watch, or begins it anew on another port.
func (m *model) startHood() {
	if m.set == nil || m.set.Endpoint == nil || m.hood != nil && m.hood.iface == m.set.Interface {
		return
	}
	m.stopHood()
	ctx, cancel := context.WithCancel(m.ctx)
	p, err := patrol.Start(ctx, patrol.Config{Machine: m.Ground.Machine, Interface: m.set.Interface, Endpoint: m.set.Endpoint, Sheet: m.Ground.Sheet, Known: m.set, Began: m.began})
	if err != nil {
		cancel()
		return // a machine without a port, which the page says
	}
	m.hood = &hoodView{patrol: p, ctx: ctx, cancel: cancel, iface: m.set.Interface}
}

func (m *model) stopHood() {
	if m.hood != nil {
		m.hood.cancel()
		m.hood.patrol.Wait()
		m.hood = nil
	}
}

// pressHood handles the keys of the neighbours view; false for one that is not its own.
func (m *model) pressHood(k tea.KeyPressMsg) (tea.Cmd, bool) {
	v := m.hood
	if v == nil {
		return nil, false
	}
	v.note = ""
	was := v.large
	v.large = false
	switch k.String() {
	case "up", "k":
		m.chooseNeighbour(-1)
	case "down", "j":
		m.chooseNeighbour(1)
	case "pgup":
		m.chooseNeighbour(-10)
	case "pgdown":
		m.chooseNeighbour(10)
	case "a":
		m.askSegment(was)
	case "esc", "x":
		if v.stopAsk != nil {
			v.stopAsk()
		}
	case "f":
		value := ""
		if v.chosen.IsValid() {
			value = v.chosen.String()
		}
		return m.openEntry("is this address free?", value, func(text string) error {
			a, err := netip.ParseAddr(text)
			if err != nil {
				return fmt.Errorf("%q is no address; give one such as 172.27.40.90", fit(wiretext.Clean(text), 40))
			}
			m.tryAddress(a)
			return nil
		}), true
	case "m":
		if a, ok := v.patrol.OwnAddress(); !ok {
			v.note = "this machine has no address that another could use"
		} else if v.patrol.See().Withheld != "" {
			v.note = "whether anybody else uses this machine's address can only be asked in raw frames"
		} else {
			m.tryAddress(a)
		}
	default:
		return nil, false
	}
	return nil, true
}

func (m *model) tryAddress(a netip.Addr) {
	v := m.hood
	go v.patrol.Try(v.ctx, a)
}

// askSegment asks everybody, on a segment larger than a /24 only when the key is pressed a second time.
func (m *model) askSegment(confirmed bool) {
	v := m.hood
	size, prefix, ok := v.patrol.Size()
	switch {
	case !ok:
		v.note = "the port has no IPv4 network whose addresses could be asked"
		return
	case size > patrol.Largest:
		v.note = patrol.ErrTooLarge{Prefix: prefix, Size: size}.Error()
		return
	case size > 256 && !confirmed:
		v.large = true
		v.note = fmt.Sprintf("%v has %d addresses: a once more asks them all, %d a second; any other key leaves it", prefix.Masked(), size, patrol.LargeRate)
		return
	}
	ctx, cancel := context.WithCancel(v.ctx)
	v.stopAsk = cancel
	go func() {
		defer cancel()
		_ = v.patrol.Ask(ctx, 0) // its errors have been ruled out above
	}()
}

func (m *model) chooseNeighbour(step int) {
	v := m.hood
	rows := v.patrol.See().Rows
	if len(rows) == 0 {
		return
	}
	v.selected = min(max(v.selected+step, 0), len(rows)-1)
	v.chosen = rows[v.selected].Address
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
