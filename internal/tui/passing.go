package tui

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/exchange"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wording"
	"passepartout/internal/machine"
	"passepartout/internal/probe/exchangewatch"
	"passepartout/internal/report"
)

// passingView shows the exchanges that pass the interface, as they pass.
var passingView = &view{
	key: "X", name: "exchanges", short: "pass", lacks: "This is a recording: what passed the interface was not kept.",
	does: "what passes the interface: leases, look-ups, connections, errors told, by whom it was with", live: true,
	marks: [][2]string{
		{"▏ ╳", "on the last minute: something passed; something came to nothing"},
		{"━━ ━╳", "answered, opened, closed in order; unanswered, refused, broken off, told to be unreachable"},
		{"╍╍ ┈┈", "the name is not there, or the server could not; still waiting"},
	},
	deeds: []deed{
		{"enter", "open", "the exchanges with the one that is chosen, each for itself; esc goes back", false},
		{"z", "from zero", "what passed so far is left out", false},
	},
	narrows: "an address, a name, a kind, an outcome",
	open:    (*model).openPassing, look: lookAtPassing, draw: (*model).passingPage, press: (*model).pressPassing,
	wheel: func(m *model, _ tea.Mouse, step int) { m.choosePassing(step) },
	export: func(m *model) (report.Export, bool) {
		s, ok := lookedAt[passingSeen](m)
		if !ok || s.failed != "" {
			return report.Export{}, false
		}
		p := &report.Passing{File: m.set.Interface, List: s.list, More: s.seen.Left}
		return report.Export{Data: map[string]func(io.Writer) error{".csv": p.WriteCSV, ".json": p.WriteJSON, ".txt": p.WriteText}}, true
	},
	stop: func(m *model) {
		if v := hold[passingWatch](m); v != nil {
			v.cancel()
		}
	},
}

// passingWatch is what the view holds: the watch over an interface, and what a person has chosen.
type passingWatch struct {
	machine  machine.Machine
	iface    string
	hardware endpoint.HardwareAddr
	ctx      context.Context
	cancel   context.CancelFunc
	begin    sync.Mutex           // held by a look
	begun    *exchangewatch.Watch // by the first look; of looks alone
	picked   string               // with whom the exchanges are that are chosen
	opened   bool                 // and shown each for itself
	back     int                  // how many of the newest stand below what is shown then
	zero     int                  // how many that had begun before are left out
}

// passingSeen is what had passed when it was looked last; list is what of it is shown, the oldest first.
type passingSeen struct {
	seen    exchangewatch.Seen
	at      time.Time
	list    []exchange.Exchange
	parties []*exchange.Party
	failed  string
}

// partyKey tells one party from another.
func partyKey(p *exchange.Party) string { return fmt.Sprint(p.Kind, " ", p.With, " ", p.Name) }

// chosen is the party that the view's mark stands at; nil while there is none.
func (s *passingSeen) chosen(v *passingWatch) (at int, p *exchange.Party) {
	for i, p := range s.parties {
		if partyKey(p) == v.picked {
			return i, p
		}
	}
	if len(s.parties) == 0 {
		return 0, nil
	}
	return 0, s.parties[0]
}

func (m *model) openPassing() {
	v := hold[passingWatch](m)
	if v != nil && v.iface == m.set.Interface {
		return
	}
	i, ok := m.set.Endpoint.Interface(m.set.Interface)
	if !ok {
		return // which the page says
	}
	if v != nil {
		v.cancel()
	}
	forget[passingSeen](m)
	ctx, cancel := context.WithCancel(m.ctx)
	keep(m, &passingWatch{machine: m.Ground.Machine, iface: i.Name, hardware: i.Hardware, ctx: ctx, cancel: cancel})
}

func lookAtPassing(m *model) func() any {
	v := hold[passingWatch](m)
	if v == nil {
		return nil
	}
	words, zero := m.sought(), v.zero
	mend := m.Ground.Machine.Permissions().Frames.Mend
	return func() any {
		v.begin.Lock()
		defer v.begin.Unlock()
		if v.begun == nil {
			var err error
			if v.begun, err = exchangewatch.Start(v.ctx, v.machine, v.iface, v.hardware); err != nil {
				failed := err.Error()
				if errors.Is(err, fs.ErrPermission) {
					failed = "frames may not be listened to without permission; this gives it: " + mend
				}
				return passingSeen{failed: failed}
			}
		}
		out := passingSeen{seen: v.begun.See(), at: time.Now()}
		all := out.seen.List
		out.list = slices.DeleteFunc(slices.Clone(all[min(max(zero-out.seen.Left, 0), len(all)):]), func(x exchange.Exchange) bool {
			return !passes(x, words)
		})
		out.parties = exchange.Parties(out.list)
		return out
	}
}

// passes reports whether an exchange has each of the words.
func passes(x exchange.Exchange, words []string) bool {
	if len(words) == 0 {
		return true
	}
	who, what, outcome := report.PassingWords(x)
	all := strings.ToLower(strings.Join([]string{string(x.Kind), who, x.To.Addr().String(), what, outcome}, " "))
	return containsAll(all, words)
}

// pressPassing handles the keys of the view; false for one that is not its own.
func (m *model) pressPassing(k tea.KeyPressMsg) (tea.Cmd, bool) {
	v := hold[passingWatch](m)
	s, ok := lookedAt[passingSeen](m)
	if v == nil || !ok {
		return nil, false
	}
	switch k.String() {
	case "z":
		v.zero, v.back = len(s.seen.List)+s.seen.Left, 0
		return m.look(), true
	case "enter":
		if _, p := s.chosen(v); p != nil && !v.opened {
			v.picked, v.opened, v.back = partyKey(p), true, 0
		}
	case "esc":
		if !v.opened {
			return nil, false
		}
		v.opened = false
	default:
		step, ok := stepOf(k)
		if !ok {
			return nil, false
		}
		m.choosePassing(step)
	}
	return nil, true
}

// choosePassing goes through those with whom the exchanges are; where one of them is opened, back in time, or on.
func (m *model) choosePassing(step int) {
	v := hold[passingWatch](m)
	s, ok := lookedAt[passingSeen](m)
	if !ok || v == nil {
		return
	}
	at, p := s.chosen(v)
	switch {
	case p == nil:
	case v.opened:
		v.back = min(max(v.back-step, 0), max(len(p.List)-1, 0))
	default:
		v.picked = partyKey(s.parties[min(max(at+step, 0), len(s.parties)-1)])
	}
}

// outcomeLook is how an outcome looks.
var outcomeLook = map[exchange.Outcome]verdict.State{exchange.Answered: verdict.Holds, exchange.Said: verdict.Holds,
	exchange.Closed: verdict.Holds, exchange.Free: verdict.Holds, exchange.Taken: verdict.Strained,
	exchange.NoSuch: verdict.Strained, exchange.Failed: verdict.Strained, exchange.Waiting: verdict.StateUnknown,
	exchange.Unanswered: verdict.Broken, exchange.Refused: verdict.Broken, exchange.Reset: verdict.Broken, exchange.Told: verdict.Broken}

// kindWords name the kinds in a column.
var kindWords = map[exchange.Kind]string{exchange.Address: "ARP", exchange.Neighbour: "ND", exchange.LookUp: "DNS", exchange.Opening: "TCP",
	exchange.Error: "ICMP", exchange.Lease: "DHCP", exchange.Group: "mDNS", exchange.Device: "LLDP"}

// passingPage lists with whom exchanges are, trouble first; or those with one of them, the newest at the bottom.
func (m *model) passingPage() []string {
	t := m.theme
	lines := m.head()
	v := hold[passingWatch](m)
	s, ok := lookedAt[passingSeen](m)
	switch {
	case v == nil:
		return append(lines, "", "  "+t.faint.Render("This machine has no network interface besides loopback: nothing passes."))
	case !ok:
		return append(lines, "", "  "+t.faint.Render("The interface is being listened to."))
	case s.failed != "":
		return append(lines, append([]string{""}, indent(wrap("What passes cannot be told: "+s.failed+".", m.width-4, 3), t.text)...)...)
	}
	head := &row{}
	head.put(t.loud, "  What passes "+v.iface).put(t.faint, fmt.Sprintf("   since %s, %s, %d under way; these tests' own among them",
		wording.Clock(s.seen.Began), wording.Plural(len(s.seen.List)+s.seen.Left, "exchange", "exchanges"), s.seen.Under))
	head.put(t.accent, m.onlyWords())
	lines = append(lines, head.cut(m.width))
	below := m.passingBelow(s)
	at, p := s.chosen(v)
	switch {
	case p == nil && m.narrowed() != "":
		lines = append(lines, "  "+t.faint.Render(m.nothingHas("exchange")))
	case p == nil:
		lines = append(lines, "  "+t.faint.Render("Nothing has passed yet."))
	case v.opened && partyKey(p) == v.picked: // it may have been left out meanwhile
		lines = m.passingOpened(lines, len(below), v, p)
	default:
		lines = m.passingParties(lines, len(below), s, at)
	}
	for len(lines) < m.height-2-len(below) {
		lines = append(lines, "")
	}
	return append(lines, below...)
}

// passingBelow says what was not heard.
func (m *model) passingBelow(s passingSeen) (below []string) {
	strained := m.theme.state[verdict.Strained]
	if s.seen.Dropped > 0 {
		below = append(below,
			"  "+strained.Render(fmt.Sprintf("%d frames were dropped by the system, which had no room for them", s.seen.Dropped)))
	}
	if s.seen.Why != "" {
		below = append(below, "  "+strained.Render(fit("Nothing is heard any more: "+s.seen.Why, m.width-4)))
	}
	return below
}

// passingParties are those with whom the exchanges are, each with its last minute.
func (m *model) passingParties(lines []string, below int, s passingSeen, picked int) []string {
	t := m.theme
	strip := min(max(m.width-100, 16), 60)
	at := [4]int{5, 11, 36, 36 + strip + 2}
	under := &row{}
	under.at(at[0]).put(t.faint, "by").at(at[1]).put(t.faint, "with").at(at[2]).
		put(t.faint, fit("the last minute", strip-4)).at(at[2]+strip-3).put(t.faint, "now").at(at[3]).put(t.faint, "what came of it")
	lines = append(lines, under.cut(m.width))
	room := max(m.height-2-len(lines)-below, 1)
	first := min(max(picked-room/2, 0), max(len(s.parties)-room, 0))
	for i, p := range s.parties[first:min(first+room, len(s.parties))] {
		r, mark := &row{}, "  "
		if first+i == picked {
			mark = "▸ "
		}
		state := verdict.Holds
		if p.Failed > 0 {
			state = verdict.Broken
		}
		r.put(t.accent, " "+mark).put(t.state[state], map[bool]string{false: "━", true: "╳"}[p.Failed > 0]).at(at[0]).
			put(t.text, kindWords[p.Kind]).at(at[1]).put(t.text, fit(m.partyName(p), at[2]-at[1]-1)).at(at[2])
		for _, c := range p.Columns(s.at, lookBack, strip) {
			switch c {
			case exchange.Nothing:
				r.put(t.faint, "·")
			case exchange.Passed:
				r.put(t.accent, "▏")
			default:
				r.put(t.state[verdict.Broken], "╳")
			}
		}
		r.at(at[3])
		lines = append(lines, r.put(t.text, partyWords(p)).cut(m.width))
	}
	return lines
}

// partyWords say how many exchanges there were, how many of them failed, and what the last one came to.
func partyWords(p *exchange.Party) string {
	last := &p.List[len(p.List)-1]
	_, what, outcome := report.PassingWords(*last)
	switch p.Kind {
	case exchange.Error:
		return fmt.Sprintf("%d told, last: %s, about %s", len(p.List), last.Answer, what)
	case exchange.Device:
		return last.Answer
	case exchange.Lease:
		_, what, _ = strings.Cut(what, ": ")
	}
	words := fmt.Sprint(len(p.List))
	if p.Failed > 0 {
		words = fmt.Sprintf("%d of %d failed", p.Failed, len(p.List))
	}
	return words + ", last: " + what + ": " + outcome
}

// partyName is who it is: a name where one is known, and the address.
func (m *model) partyName(p *exchange.Party) string {
	words := p.Name
	if p.With.IsValid() {
		words = p.With.Addr().String()
		if p.With.Port() > 0 {
			words = p.With.String()
		}
		if name := m.set.NameOf(p.With.Addr()); name != "" {
			label, _, _ := strings.Cut(name, ".")
			words += " " + label
		}
	}
	return words
}

// passingOpened are the exchanges with one party.
func (m *model) passingOpened(lines []string, below int, v *passingWatch, p *exchange.Party) []string {
	t := m.theme
	head := &row{}
	head.put(t.text, "  "+kindWords[p.Kind]+" "+m.partyName(p)).put(t.faint, "   esc shows the others")
	at := [4]int{13, 19, 56, max(m.width-45, 86)}
	if m.width < 110 {
		at = [4]int{13, 18, 36, m.width - 26}
	}
	under := &row{}
	under.at(2)
	for i, words := range []string{"began", "", "who asks whom", "asked", "what came of it"} {
		if i > 0 {
			under.at(at[i-1])
		}
		under.put(t.faint, words)
	}
	lines = append(lines, head.cut(m.width), under.cut(m.width))
	v.back = min(v.back, max(len(p.List)-1, 0))
	room := max(m.height-2-len(lines)-below, 1)
	if v.back > 0 {
		room = max(room-1, 1)
	}
	end := len(p.List) - v.back
	for _, x := range p.List[max(end-room, 0):end] {
		lines = append(lines, m.passingRow(x, at))
	}
	if v.back > 0 {
		lines = append(lines, "  "+t.faint.Render(fmt.Sprintf("%d newer below; end shows the newest", v.back)))
	}
	return lines
}

func (m *model) passingRow(x exchange.Exchange, at [4]int) string {
	t, r := m.theme, &row{}
	who, what, outcome := report.PassingWords(x)
	state := outcomeLook[x.Outcome]
	style := t.text
	if state == verdict.StateUnknown {
		style = t.faint
	}
	r.put(t.faint, x.Began.Format(" 15:04:05.0")).at(at[0]).put(style, kindWords[x.Kind])
	if x.Kind == exchange.Error {
		what = "about " + what
	}
	r.at(at[1]).put(style, fit(who, at[2]-at[1]-1)).at(at[2]).put(style, fit(what, at[3]-at[2]-1)).at(at[3])
	look := t.state[state]
	if state == verdict.Holds {
		look = style
	}
	return r.put(look, outcome).cut(m.width)
}
