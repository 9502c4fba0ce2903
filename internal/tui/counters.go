package tui

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/site"
	"passepartout/internal/core/topology"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
	"passepartout/internal/probe"
	"passepartout/internal/report"
)

// portEvery is how often the counters are read while the view is open; portKept how many readings are kept.
const (
	portEvery = time.Second
	portKept  = 300
)

// reading is the state of all ports at a moment.
type reading struct {
	at    time.Time
	ports []endpoint.Interface
}

// countersView shows what goes through the interface, and what it loses.
var countersView = &view{
	key: "8", name: "counters", short: "port", sets: "MTU",
	does: "what goes through the interface, and what it loses", at: string(topology.Interface), live: true,
	marks: [][2]string{
		{"▁▄█", "octets a second, received and sent, on one scale"},
	},
	deeds: []deed{
		{"z", "from zero", "count from zero: only what grows matters, totals since the start of the machine say nothing", false},
	},
	kept: true, replay: lookAtRecordedCounters,
	open: (*model).openCounters, look: lookAtCounters, draw: (*model).countersPage, press: (*model).pressCounters,
	say: func(m *model, words string) {
		if v := hold[counters](m); v != nil {
			v.note = words
		}
	},
	note: func(m *model) string {
		if v := hold[counters](m); v != nil {
			return v.note
		}
		return ""
	},
	export: func(m *model) (report.Export, bool) {
		seen, _, ok := m.counted(m.set.Interface)
		return report.Export{Data: map[string]func(io.Writer) error{".json": seen.WriteJSON, ".txt": seen.WriteText}}, ok
	},
	stop: func(m *model) {
		if v := hold[counters](m); v != nil {
			v.cancel()
		}
	},
}

// counters is what the view holds: the readings since it was opened.
type counters struct {
	cancel context.CancelFunc
	note   string
	zero   *reading // from which changes are counted; nil: the first

	mu       sync.Mutex
	readings []reading
}

func (m *model) openCounters() {
	if m.recorded != nil {
		forget[[]reading](m)
		keep(m, &counters{cancel: func() {}})
		return
	}
	if hold[counters](m) != nil {
		return
	}
	ctx, cancel := context.WithCancel(m.ctx)
	v := &counters{cancel: cancel}
	keep(m, v)
	machine := m.case_.Machine()
	go func() {
		defer guard.Goroutine()
		v.watch(ctx, machine)
	}()
}

// lookAtCounters fetches the readings.
func lookAtCounters(m *model) func() any {
	v := hold[counters](m)
	if v == nil {
		return nil
	}
	return func() any {
		v.mu.Lock()
		defer v.mu.Unlock()
		return slices.Clone(v.readings)
	}
}

// lookAtRecordedCounters gives two readings: as the tests of a recording began, and as they had read the counters last.
func lookAtRecordedCounters(m *model) func() any {
	if m.set == nil || m.set.Endpoint == nil {
		return nil
	}
	ports, counts, began := m.set.Endpoint.Interfaces, m.set.Counted, m.state.Round.Began
	return func() any {
		first, last := reading{began, slices.Clone(ports)}, reading{began, slices.Clone(ports)}
		seen := map[string]bool{}
		for _, c := range counts {
			i := slices.IndexFunc(ports, func(p endpoint.Interface) bool { return p.Name == c.Interface })
			if i < 0 {
				continue
			}
			if !seen[c.Interface] {
				first.ports[i].Counters, seen[c.Interface] = c.Before, true
			}
			last.ports[i].Counters = c.After
			if at := began.Add(c.Over); at.After(last.at) {
				last.at = at
			}
		}
		if len(seen) == 0 {
			return []reading{}
		}
		return []reading{first, last}
	}
}

func (v *counters) watch(ctx context.Context, ground machine.Machine) {
	for {
		if ports, err := ground.Interfaces(ctx); err == nil {
			v.mu.Lock()
			if v.readings = append(v.readings, reading{time.Now(), ports}); len(v.readings) > portKept {
				v.readings = append(v.readings[:0], v.readings[1:]...)
			}
			v.mu.Unlock()
		}
		if !probe.Sleep(ctx, portEvery) {
			return
		}
	}
}

func (r reading) port(name string) (endpoint.Interface, bool) {
	for _, i := range r.ports {
		if i.Name == name {
			return i, true
		}
	}
	return endpoint.Interface{}, false
}

// pressCounters handles the keys of the view; false for one that is not its own.
func (m *model) pressCounters(k tea.KeyPressMsg) (tea.Cmd, bool) {
	v := hold[counters](m)
	readings, _ := lookedAt[[]reading](m)
	if v == nil || k.String() != "z" || len(readings) == 0 {
		return nil, false
	}
	v.zero = &readings[len(readings)-1]
	v.note = "counted from zero since " + wording.Clock(v.zero.at)
	return nil, true
}

// counted is what an interface has done since the view was opened or counted anew.
func (m *model) counted(name string) (out report.InterfaceSeen, readings []reading, ok bool) {
	v := hold[counters](m)
	readings, _ = lookedAt[[]reading](m)
	if v == nil || len(readings) == 0 {
		return out, nil, false
	}
	zero, last := readings[0], readings[len(readings)-1]
	if v.zero != nil {
		zero = *v.zero
	}
	now, ok := last.port(name)
	was, _ := zero.port(name)
	out = report.InterfaceSeen{At: zero.at, Over: last.at.Sub(zero.at), Port: now, Grown: now.Counters.Since(was.Counters)}
	out.Home, out.HasHome = m.home(now)
	return out, readings, ok
}

// home is the documented network of this machine.
func (m *model) home(i endpoint.Interface) (site.Network, bool) {
	return m.Ground.Sheet.Home(m.set.Endpoint.Host, i.Hardware)
}

// countersPage shows what goes through the port now, what it has lost since the view was opened, and at what it runs beside what is usual.
func (m *model) countersPage() []string {
	t := m.theme
	lines := append(m.head(), "")
	if m.set == nil || m.set.Endpoint == nil || hold[counters](m) == nil {
		return append(lines, "  "+t.faint.Render("The machine's settings are being read."))
	}
	seen, readings, ok := m.counted(m.set.Interface)
	if !ok {
		lines = append(lines, "  "+t.faint.Render("There is no such interface, or its counters have not been read yet."))
		if m.recorded != nil {
			lines = append(append(lines, ""), m.duringTests()...)
		}
		return lines
	}
	lines = append(lines, m.portHead(seen)...)
	lines = append(lines, m.rates(readings, m.set.Interface)...)
	lines = append(lines, "")
	lines = append(lines, m.troubles(seen)...)
	lines = append(lines, "")
	lines = append(lines, m.duringTests()...)
	lines = append(lines, "", "  "+t.loud.Render("The other interfaces"))
	others := 0
	for _, i := range readings[len(readings)-1].ports {
		if i.Name == m.set.Interface {
			continue
		}
		others++
		x, _, _ := m.counted(i.Name)
		r := &row{}
		r.at(4).put(t.text, fit(i.Name, 14)).at(20).put(t.faint, fit(describePort(i), 62)).at(84).
			put(t.faint, fmt.Sprintf("in %s  out %s", report.Bits(x.Grown.ReceivedBytes, x.Over), report.Bits(x.Grown.SentBytes, x.Over)))
		if trouble := x.Trouble(); trouble != "" {
			r.put(t.state[verdict.Strained], "   lost "+trouble)
		}
		lines = append(lines, r.cut(m.width))
	}
	if others == 0 {
		lines = append(lines, "    "+t.faint.Render("none"))
	}
	if m.recorded != nil {
		lines = append(lines, "", "  "+t.faint.Render("read by the tests that began at "+wording.Clock(seen.At)))
	}
	return lines
}

func (m *model) portHead(p report.InterfaceSeen) []string {
	t, r := m.theme, &row{}
	r.put(t.loud, "  "+p.Port.Name).put(t.text, "   "+describePort(p.Port))
	usual := p.Usual()
	switch {
	case usual != "" && p.Port.SpeedMbit > 0 &&
		(p.Port.SpeedMbit < p.Home.SpeedMbit || p.Home.Duplex != endpoint.DuplexUnknown && p.Port.Duplex != p.Home.Duplex):
		r.put(t.state[verdict.Strained], "   ╍╍ documented: "+usual)
	case usual != "":
		r.put(t.faint, "   as documented")
	case p.Port.Duplex == endpoint.HalfDuplex:
		r.put(t.state[verdict.Strained], "   ╍╍ half duplex is unusual")
	}
	return append(r.fold(m.width, 4), "")
}

// rates draws received and sent over time, one column a reading.
func (m *model) rates(readings []reading, name string) []string {
	t := m.theme
	const label = 14
	width := max(m.width-label-26, 20)
	var in, out, lost []uint64
	from := max(len(readings)-width-1, 0)
	top := uint64(1)
	for k := from + 1; k < len(readings); k++ {
		a, _ := readings[k-1].port(name)
		b, _ := readings[k].port(name)
		g := b.Counters.Since(a.Counters)
		span := readings[k].at.Sub(readings[k-1].at)
		in, out = append(in, uint64(report.PerSecond(g.ReceivedBytes, span))), append(out, uint64(report.PerSecond(g.SentBytes, span)))
		lost = append(lost, g.Errors()+g.Drops()+g.CarrierLosses)
		top = max(top, in[len(in)-1], out[len(out)-1])
	}
	head := &row{}
	head.at(2).put(t.loud, "Traffic").put(t.faint, fmt.Sprintf("   the last %d s, up to %s", len(in), report.Bits(top, time.Second)))
	lines := []string{head.cut(m.width)}
	for k, values := range [][]uint64{in, out} {
		r := &row{}
		r.at(4).put(t.text, [2]string{"received", "sent"}[k]).at(label)
		r.fill(t.faint, " ", label+width-len(values))
		var b strings.Builder
		for _, v := range values {
			b.WriteRune(bar(v, top))
		}
		r.put([2]paint{t.state[verdict.Holds], t.zone[zone.Beyond]}[k], b.String())
		last := uint64(0)
		if len(values) > 0 {
			last = values[len(values)-1]
		}
		r.at(label+width+2).put(t.text, report.Bits(last, time.Second))
		lines = append(lines, r.cut(m.width))
	}
	r, sum, b := &row{}, uint64(0), strings.Builder{}
	r.at(4).put(t.text, "lost").at(label).fill(t.faint, " ", label+width-len(lost))
	for _, n := range lost {
		sum += n
		b.WriteString(map[bool]string{true: "╳", false: "·"}[n > 0])
	}
	r.put(t.state[map[bool]verdict.State{true: verdict.Broken, false: verdict.Skipped}[sum > 0]], b.String()).at(label+width+2).
		put(t.text, fmt.Sprintf("%d frames in this time", sum))
	return append(lines, r.cut(m.width))
}

// bar is a column of eighths; a value above zero shows at least the lowest.
func bar(v, top uint64) rune {
	if v == 0 {
		return ' '
	}
	return []rune("▁▂▃▄▅▆▇█")[min(int(float64(v)/float64(top)*8), 7)]
}

// troubles lists what the port has lost since the view was opened: changes, never totals since the machine was started.
func (m *model) troubles(p report.InterfaceSeen) []string {
	t := m.theme
	head := &row{}
	head.at(2).put(t.loud, "Lost at the interface").
		put(t.faint,
			fmt.Sprintf("   since %s, while %d frames passed", wording.Clock(p.At), p.Grown.ReceivedPackets+p.Grown.SentPackets))
	lines := []string{head.cut(m.width)}
	var quiet []string
	for _, x := range []struct {
		n     uint64
		words string
		usual string
		mild  bool
	}{
		{p.Grown.ReceiveErrors, "receive errors", "", false}, {p.Grown.SendErrors, "send errors", "", false},
		{p.Grown.Damaged, "damaged frames", "wrong checksum or length: cable, plug, socket", false},
		{p.Grown.Overruns, "overruns", "the interface or the system had no room in time", false},
		{p.Grown.CarrierLosses, "losses of signal", "", false},
		{p.Grown.Collisions, "collisions", "on half duplex some are usual", true},
		{p.Grown.ReceiveDrops, "dropped on receipt", "some are usual: frames whose protocol nobody here speaks", true},
		{p.Grown.SendDrops, "dropped on sending", "", false},
	} {
		if x.n == 0 {
			quiet = append(quiet, x.words)
			continue
		}
		state := verdict.Broken
		if x.mild {
			state = verdict.Strained
		}
		r := &row{}
		r.at(4).put(t.state[state], strands[state]).at(8).put(t.text, x.words).at(30).put(t.text, fmt.Sprintf("%8d", x.n)).
			put(t.faint, "   "+x.usual)
		lines = append(lines, r.cut(m.width))
	}
	r := &row{}
	r.at(4).put(t.state[verdict.Holds], strands[verdict.Holds]).at(8).put(t.faint, "none: "+strings.Join(quiet, ", "))
	return append(lines, r.fold(m.width, 8)...)
}

// duringTests says what the port lost while the tests ran.
func (m *model) duringTests() []string {
	t := m.theme
	lines := []string{"  " + t.loud.Render("While the tests ran")}
	var last *report.InterfaceSeen
	for _, c := range m.set.Counted {
		if c.Interface == m.set.Interface && (last == nil || c.Over > last.Over) {
			last = &report.InterfaceSeen{Over: c.Over, Grown: c.After.Since(c.Before)}
		}
	}
	if last == nil {
		words := "the counters have not been read again yet"
		if m.recorded == nil {
			words += "; r runs the tests once more"
		}
		return append(lines, "    "+t.faint.Render(words))
	}
	words, style := "nothing was lost at the interface", t.text
	if trouble := last.Trouble(); trouble != "" {
		words, style = trouble, t.state[verdict.Strained]
	}
	r := &row{}
	r.at(4).put(style, words).
		put(t.faint,
			fmt.Sprintf("   within %s, %d frames received and %d sent", wording.Millis(last.Over), last.Grown.ReceivedPackets,
				last.Grown.SentPackets))
	return append(lines, r.cut(m.width))
}
