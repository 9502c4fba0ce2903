package tui

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"passepartout/internal/capture"
	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/topology"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/plainfile"
	"passepartout/internal/probe"
	"passepartout/internal/report"
)

// leaseView shows the lease in its time, what is offered beside it, and the DHCP exchanges.
var leaseView = &view{
	key: "3", name: "lease", short: "dhcp", sets: "lease",
	does: "the lease in its time, offers beside it, and the DHCP exchanges", at: string(topology.DHCP), live: true, kept: true,
	marks: [][2]string{
		{"━ ● ┈", "the lease's life: past, now, to come; ┊ T1 and T2, when the client renews; ╳ past its end"},
		{"╍╍", "held here and offered differ in this line"},
		{"─▸ ─▸▸", "a message to one, to everybody; ● its sender. The same message seen again, behind a relay, is faint"},
	},
	deeds: []deed{
		{"d", "ask servers", "ask the DHCP servers now, for four seconds; no lease is taken", false},
		{"n", "renew", "have the lease renewed by the client that manages the interface, or take one where none does: the plan first", false},
		{"o", "open a capture", "read a capture file in place of what is heard", false},
		{"/", "filter", "only some exchanges: an address, a host name, a hardware address, a relay", false},
		{"u", "own questions", "show this program's own questions, which are left out otherwise", true},
		{"tab", "exchanges", "comparison or exchanges, where the window is too small for both", true},
	},
	open: func(m *model) { m.lease() }, look: lookAtLease, draw: (*model).leasePage, press: (*model).pressLease,
	wheel: func(m *model, _ tea.Mouse, step int) { m.choose(step) },
	say:   func(m *model, words string) { m.lease().note = words },
	export: func(m *model) (report.Export, bool) {
		shown, _, _ := m.talks()
		var chosen *dhcp.Exchange
		if len(shown) > 0 {
			chosen = shown[m.lease().selected]
		}
		return report.LeaseExport(m.set.Endpoint, m.set.Interface, chosen, shown, m.now), true
	},
	stop: func(m *model) {
		if v := hold[leaseChoice](m); v != nil {
			v.cancel()
		}
	},
}

// leaseChoice is what the view holds: what is chosen in it, a capture file, and what servers answered when they were asked anew.
type leaseChoice struct {
	file     *capturedFile
	filter   dhcp.Filter
	words    string // the filter as it was typed
	selected int
	anchor   talkKey // of the chosen exchange, so that new ones do not push it away; zero: the first, whichever it is
	talk     bool    // on a small screen: the exchanges are shown in place of the comparison
	own      bool    // this program's own questions are shown as well
	note     string
	ctx      context.Context
	cancel   context.CancelFunc

	asking bool
	began  time.Time
	fresh  answers
}

// answers are what servers said when they were asked by the d key, later than the tests.
type answers struct {
	mu        sync.Mutex
	discovery *evidence.Discovery
}

// offersNow are the offers that are known, the latest first.
func (m *model) offersNow() (out []evidence.Offer) {
	fresh := &m.lease().fresh
	fresh.mu.Lock()
	defer fresh.mu.Unlock()
	for _, d := range []*evidence.Discovery{fresh.discovery, m.set.Discovery} {
		if d != nil {
			out = append(out, d.Offers...)
		}
	}
	return out
}

// lease is what the view holds.
func (m *model) lease() *leaseChoice {
	v := hold[leaseChoice](m)
	if v == nil {
		v = &leaseChoice{}
		v.ctx, v.cancel = context.WithCancel(m.ctx)
		keep(m, v)
	}
	return v
}

// leaseSeen is what was heard of DHCP when it was looked last.
type leaseSeen struct {
	exchanges []*dhcp.Exchange
	counts    [dhcp.Inform + 1]int
	hears     bool
	since     time.Time
	deaf      string
	asked     *evidence.Discovery
}

func (m *model) heard() leaseSeen {
	s, _ := lookedAt[leaseSeen](m)
	return s
}

func lookAtLease(m *model) func() any {
	v, c := m.lease(), m.case_
	if c == nil {
		return nil
	}
	return func() any {
		var s leaseSeen
		listener, deaf := c.DHCPListener()
		if s.deaf = deaf; listener != nil {
			s.hears, s.since = true, listener.Since
			s.exchanges, s.counts = listener.Exchanges()
		}
		v.fresh.mu.Lock()
		defer v.fresh.mu.Unlock()
		s.asked = v.fresh.discovery
		return s
	}
}

// talkKey tells an exchange again in the next picture of what was heard.
type talkKey struct {
	began  time.Time
	client dhcp.Hardware
	xid    uint32
}

func keyOf(e *dhcp.Exchange) talkKey { return talkKey{e.Began(), e.Client, e.XID} }

// capturedFile is a capture whose exchanges are shown in place of what is heard.
type capturedFile struct {
	name      string
	exchanges []*dhcp.Exchange
	counts    [dhcp.Inform + 1]int
}

// discovery is what servers said when they were asked last.
func (m *model) discovery() *evidence.Discovery {
	if asked := m.heard().asked; asked != nil {
		return asked
	}
	return m.set.Discovery
}

// askFor is how long the d key collects offers: servers that test an address first take up to three seconds (RFC 2131 §2.2).
const askFor = 4 * time.Second

// askServers puts the DHCP question again, for longer than the tests do.
func (m *model) askServers() tea.Cmd {
	v := m.lease()
	if m.set == nil || m.set.Endpoint == nil || !m.heard().hears {
		v.note = "DHCP servers cannot be asked here: it needs permission to send raw frames"
		return nil
	}
	if v.asking {
		return nil
	}
	v.asking, v.began = true, m.now
	iface := m.set.Interface
	q := probe.DHCPQuestion{Interface: iface, At: []time.Duration{0, time.Second}}
	if i, ok := m.set.Endpoint.Interface(iface); ok {
		if own := i.Usable(false); len(own) > 0 {
			q.Held = own[0].Prefix.Addr()
		}
	}
	note := func(d evidence.Discovery) {
		v.fresh.mu.Lock()
		defer v.fresh.mu.Unlock()
		v.fresh.discovery = &d
	}
	q.Changed = note
	ground, owns, generation := m.case_.Machine(), m.set.Endpoint.Owns, m.generation
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(v.ctx, askFor)
		defer cancel()
		segment, err := probe.OpenSegment(ground, iface, owns, func(evidence.Heard) {}, nil)
		if err == nil {
			note(segment.Discover(ctx, q))
			segment.Close()
		}
		return doneMsg{generation: generation, take: func(m *model) tea.Cmd {
			if v.asking = false; err != nil {
				v.note = "DHCP servers could not be asked: " + err.Error()
			}
			return m.look()
		}}
	}
}

// mostFromFile is how many exchanges of a file are shown: a filter, or the dhcp command, finds others.
const mostFromFile = 5000

// readFile shows a capture in place of what is heard. It is read away from the screen.
func (m *model) readFile(path string) (tea.Cmd, error) {
	v := m.lease()
	v.note = "reading " + wiretext.Clean(filepath.Base(path)) + " …"
	return m.inBackground("a capture is being read", func() func(*model) tea.Cmd {
		f, note, err := readCapture(v.ctx, path)
		return func(m *model) tea.Cmd {
			if err != nil {
				v.note = err.Error()
				return nil
			}
			v.file, v.filter, v.words, v.selected, v.anchor, v.talk, v.note = f, dhcp.Filter{}, "", 0, talkKey{}, true, note
			return nil
		}
	}), nil
}

// readCapture reads the exchanges in a file.
func readCapture(ctx context.Context, path string) (*capturedFile, string, error) {
	file, err := plainfile.Open(path)
	if err != nil {
		return nil, "", err
	}
	defer file.Close()
	if info, err := file.Stat(); err == nil && info.Size() > 256<<20 {
		return nil, "",
			fmt.Errorf("%d MiB are too many for this view: passepartout dhcp --read %s reads it", info.Size()>>20, wiretext.Clean(path))
	}
	f := &capturedFile{name: wiretext.Clean(filepath.Base(path))}
	dropped, skipped := 0, 0
	tracker := dhcp.NewTracker(dhcp.Config{Ended: func(e *dhcp.Exchange) {
		if len(f.exchanges) == mostFromFile {
			dropped++
			return
		}
		f.exchanges = append(f.exchanges, e)
	}})
	frames, err := capture.DHCP(ending{ctx, file}, tracker, func(int, string) { skipped++ })
	if err != nil {
		return nil, "", fmt.Errorf("%s: %w", wiretext.Clean(path), err)
	}
	tracker.Close()
	f.counts = tracker.Counts
	slices.SortStableFunc(f.exchanges, func(a, b *dhcp.Exchange) int { return a.Began().Compare(b.Began()) })
	note := fmt.Sprintf("%d frames read", frames)
	if skipped > 0 {
		note += fmt.Sprintf(", %d could not be", skipped)
	}
	if dropped > 0 {
		note += fmt.Sprintf("; the first %d exchanges are shown, %d are not", mostFromFile, dropped)
	}
	return f, note + "; esc goes back to what is heard", nil
}

// choose moves the choice among the exchanges.
func (m *model) choose(step int) {
	v := m.lease()
	shown, _, _ := m.talks()
	v.talk = true
	v.selected = min(max(v.selected+step, 0), max(len(shown)-1, 0))
	v.anchor = talkKey{}
	if v.selected > 0 {
		v.anchor = keyOf(shown[v.selected])
	}
}

// pressLease handles the keys of the lease view; false for one that is not its own.
func (m *model) pressLease(k tea.KeyPressMsg) (tea.Cmd, bool) {
	v := m.lease()
	v.note = ""
	switch k.String() {
	case "up", "k":
		m.choose(-1)
	case "down", "j":
		m.choose(1)
	case "pgup":
		m.choose(-10)
	case "pgdown":
		m.choose(10)
	case "tab":
		v.talk = !v.talk
	case "d":
		return m.askServers(), true
	case "n":
		return m.renewHere(), true
	case "u":
		v.own = !v.own
	case "o":
		return m.openEntry("capture file", "", m.readFile), true
	case "/":
		return m.openEntry("only (address, host name, hardware address, 0x…, relay …)", v.words, func(text string) (tea.Cmd, error) {
			f, bad := dhcp.ParseFilter(text)
			if bad != "" {
				return nil, fmt.Errorf("%q is no address", wiretext.Clean(bad))
			}
			v.filter, v.words, v.selected, v.anchor, v.talk = f, wiretext.Clean(text), 0, talkKey{}, true
			return nil, nil
		}), true
	case "esc":
		switch {
		case v.words != "":
			v.filter, v.words = dhcp.Filter{}, ""
		default:
			v.file = nil
		}
	default:
		return nil, false
	}
	return nil, true
}
