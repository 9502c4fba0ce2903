package tui

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"passepartout/internal/capture"
	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/machine"
	"passepartout/internal/probe"
)

// leaseView is what view 3 holds beside the evidence: what is heard of DHCP, or read from a file, and what servers answered when they were asked anew.
type leaseView struct {
	file     *capturedFile
	filter   dhcp.Filter
	words    string // the filter as it was typed
	selected int
	anchor   talkKey // of the chosen exchange, so that new ones do not push it away; zero: the first, whichever it is
	talk     bool    // on a small screen: the exchanges are shown in place of the comparison
	note     string
	cancel   context.CancelFunc // of the question under way

	mu     sync.Mutex
	iface  string
	ear    *probe.Ear
	deaf   string // why nothing can be heard
	closed bool
	asking bool
	asked  *evidence.Discovery // by the d key, later than the tests
	began  time.Time
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
func (v *leaseView) discovery(set *evidence.Set) *evidence.Discovery {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.asked != nil {
		return v.asked
	}
	return set.Discovery
}

// listen opens an ear on the port that was chosen, before the tests ask anything, so that what they say is heard as well. It is called by the run.
func (v *leaseView) listen(m machine.Machine, iface string) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if iface == "" || v.iface == iface || v.closed {
		return
	}
	if v.ear != nil {
		v.ear.Close()
		v.ear = nil
	}
	ear, err := probe.Listen(m, iface)
	v.iface, v.deaf = iface, ""
	switch {
	case err == nil:
		v.ear = ear
	case errors.Is(err, fs.ErrPermission):
		v.deaf = "it needs permission for raw frames"
	default:
		v.deaf = err.Error()
	}
}

// hearing is the ear, nil with the reason where nothing can be heard.
func (v *leaseView) hearing() (*probe.Ear, string) {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.ear, v.deaf
}

// close ends the listening: the technician goes to another machine.
func (v *leaseView) close() {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.closed = true
	if v.ear != nil {
		v.ear.Close()
		v.ear = nil
	}
	if v.cancel != nil {
		v.cancel()
	}
}

// askFor is how long the d key collects offers: servers that test an address first take up to three seconds (RFC 2131 §2.2).
const askFor = 4 * time.Second

// askServers puts the DHCP question again, for longer than the tests do.
func (m *model) askServers() {
	v := m.lease
	ear, _ := v.hearing()
	if m.set == nil || ear == nil {
		v.note = "DHCP servers cannot be asked here: it needs permission to send raw frames"
		return
	}
	v.mu.Lock()
	busy := v.asking
	if !busy {
		v.asking, v.began = true, time.Now()
	}
	v.mu.Unlock()
	if busy {
		return
	}
	iface := m.set.Interface
	q := probe.DHCPQuestion{Interface: iface, At: []time.Duration{0, time.Second}}
	if i, ok := m.set.Endpoint.Interface(iface); ok {
		if own := i.Usable(false); len(own) > 0 {
			q.Held = own[0].Prefix.Addr()
		}
	}
	end := func(d *evidence.Discovery) {
		v.mu.Lock()
		defer v.mu.Unlock()
		v.asking = false
		if d != nil {
			v.asked = d
		}
	}
	q.Changed = func(d evidence.Discovery) {
		v.mu.Lock()
		defer v.mu.Unlock()
		v.asked = &d
	}
	segment, err := probe.OpenSegment(m.Ground.Machine, iface, m.set.Endpoint.Owns, func(evidence.Heard) {}, nil)
	if err != nil {
		end(nil)
		v.note = "DHCP servers could not be asked: " + err.Error()
		return
	}
	ctx, cancel := context.WithTimeout(m.ctx, askFor)
	v.cancel = cancel
	go func() {
		defer cancel()
		d := segment.Discover(ctx, q)
		segment.Close()
		end(&d)
	}()
}

// mostFromFile is how many exchanges of a file are shown: a filter, or the dhcp command, finds others.
const mostFromFile = 5000

// readFile shows a capture in place of what is heard.
func (m *model) readFile(path string) error {
	file, err := os.Open(path)
	if err != nil {
		var p *fs.PathError
		if errors.As(err, &p) {
			err = p.Err
		}
		return fmt.Errorf("%s: %w", wiretext.Clean(path), err)
	}
	defer file.Close()
	if info, err := file.Stat(); err == nil && info.Size() > 256<<20 {
		return fmt.Errorf("%d MiB are too many for this view: passepartout dhcp --read %s reads it", info.Size()>>20, wiretext.Clean(path))
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
	frames, err := capture.DHCP(file, tracker, func(int, string) { skipped++ })
	if err != nil {
		return fmt.Errorf("%s: %w", wiretext.Clean(path), err)
	}
	tracker.Close()
	f.counts = tracker.Counts
	slices.SortStableFunc(f.exchanges, func(a, b *dhcp.Exchange) int { return a.Began().Compare(b.Began()) })
	v := m.lease
	v.file, v.filter, v.words, v.selected, v.anchor, v.talk = f, dhcp.Filter{}, "", 0, talkKey{}, true
	v.note = fmt.Sprintf("%d frames read", frames)
	if skipped > 0 {
		v.note += fmt.Sprintf(", %d could not be", skipped)
	}
	if dropped > 0 {
		v.note += fmt.Sprintf("; the first %d exchanges are shown, %d are not", mostFromFile, dropped)
	}
	v.note += "; esc goes back to what is heard"
	return nil
}

// choose moves the choice among the exchanges.
func (m *model) choose(step int) {
	v := m.lease
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
	v := m.lease
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
		m.askServers()
	case "o":
		return m.openEntry("capture file", "", m.readFile), true
	case "/":
		return m.openEntry("only (address, host name, hardware address, 0x…, relay …)", v.words, func(text string) error {
			f, bad := dhcp.ParseFilter(text)
			if bad != "" {
				return fmt.Errorf("%q is no address", wiretext.Clean(bad))
			}
			v.filter, v.words, v.selected, v.anchor, v.talk = f, wiretext.Clean(text), 0, talkKey{}, true
			return nil
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
