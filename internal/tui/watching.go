package tui

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/target"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/nap"
	"passepartout/internal/probe/plan"
	"passepartout/internal/probe/watch"
)

// watching is what is probed beside the tests, for as long as the program stands at one machine.
type watching struct {
	cancel   context.CancelFunc
	watcher  *watch.Watcher
	known    map[string]taken // the witnesses that were taken in, by address or name
	selected int
	span     int    // index into spans
	note     string // what the last key did
}

// taken is a witness and what it is called so far: names come later than addresses.
type taken struct {
	id    int
	label string
}

// spans are the parts of the time axis that can be chosen.
var spans = []time.Duration{time.Minute, 5 * time.Minute, 15 * time.Minute, time.Hour, 4 * time.Hour, 24 * time.Hour}

// frame is how often a live view is drawn anew: often enough to be seen moving, and cheap.
const frame = 500 * time.Millisecond

type frameMsg struct{ generation int }

// live begins the drawing of a live view, and its watching if that has not begun.
func (m *model) live() tea.Cmd {
	if m.reach == nil && m.page == pageReach && m.set != nil {
		ctx, cancel := context.WithCancel(m.ctx)
		m.reach = &watching{cancel: cancel, known: map[string]taken{}}
		m.reach.watcher = watch.New(ctx, watch.Config{Machine: m.Ground.Machine, Interface: m.iface, Asleep: nap.Asleep})
	}
	switch m.page {
	case pagePath:
		m.startPath()
	case pageHood:
		m.startHood()
	case pageNames:
		m.startNames()
	case pagePort:
		m.startPort()
	}
	m.witness()
	m.frames++
	return m.nextFrame()
}

func (m *model) nextFrame() tea.Cmd {
	generation := m.frames
	return tea.Tick(frame, func(time.Time) tea.Msg { return frameMsg{generation} })
}

// takeFrame draws a live view once more, as long as one is shown.
func (m *model) takeFrame(msg frameMsg) tea.Cmd {
	if msg.generation != m.frames || !slices.Contains(livePages, m.page) {
		return nil
	}
	return m.nextFrame()
}

// livePages are the views that move by themselves.
var livePages = []page{pageReach, pagePath, pageLease, pageHood, pageNames, pagePort}

// wantsLive reports whether a live view was asked for before there was anything to watch.
func (m *model) wantsLive() bool {
	switch m.page {
	case pageReach:
		return m.reach == nil
	case pagePath:
		return m.path == nil
	case pageHood:
		return m.hood == nil
	case pageNames:
		return m.names == nil
	case pagePort:
		return m.port == nil
	}
	return false
}

// witness takes in the witnesses that the evidence names and that are not watched yet.
func (m *model) witness() {
	if m.reach == nil || m.set == nil || !m.over && m.first == nil {
		return
	}
	for _, s := range plan.Witnesses(m.set) {
		key := s.Target.String()
		was, known := m.reach.known[key]
		switch {
		case !known:
			id, _ := m.reach.watcher.Add(s)
			m.reach.known[key] = taken{id, s.Label}
		case s.Label != "" && s.Label != was.label:
			m.reach.known[key] = taken{was.id, s.Label}
			m.reach.watcher.Rename(was.id, s.Label)
		}
	}
}

// unwatch ends all watching: another machine, or another target.
func (m *model) unwatch() {
	if m.reach != nil {
		m.reach.cancel()
		m.reach = nil
	}
	m.stopPath()
}

// mostAtOnce is how many targets one paste may add; watch.MostTargets bounds them all.
const mostAtOnce = watch.MostTargets

// addTargets reads a list of targets: words, lines, or @file.
func (m *model) addTargets(text string) error {
	words := strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == ',' || r == ';' || r == '\n' || r == '\t' || r == '\r' })
	if len(words) == 1 && strings.HasPrefix(words[0], "@") {
		raw, err := os.ReadFile(words[0][1:])
		if err != nil {
			var p *os.PathError
			if errors.As(err, &p) {
				err = p.Err
			}
			return fmt.Errorf("%s: %w", wiretext.Clean(words[0][1:]), err)
		}
		words = words[:0]
		for line := range strings.Lines(string(raw)) {
			line, _, _ = strings.Cut(line, "#")
			words = append(words, strings.Fields(line)...)
		}
	}
	if len(words) == 0 {
		return errors.New("give names or addresses, or @ and the name of a file that lists them")
	}
	if len(words) > mostAtOnce {
		return fmt.Errorf("%d targets: at most %d are watched at once; none was added", len(words), mostAtOnce)
	}
	var specs []watch.Spec
	for _, w := range words {
		t, err := target.Parse(w)
		if err != nil {
			return err
		}
		s := watch.Spec{Target: t, Zone: fault.Beyond, Families: m.Families}
		if i, ok := m.set.Endpoint.Interface(m.set.Interface); ok && t.Addr.IsValid() && i.OnLink(t.Addr) {
			s.Zone = fault.LocalSubnet
		}
		if t.Addr.IsLoopback() || m.set.Endpoint.Owns(t.Addr) {
			s.Zone = fault.Host
		}
		specs = append(specs, s)
	}
	added := 0
	for _, s := range specs {
		if _, ok := m.reach.watcher.Add(s); !ok {
			return fmt.Errorf("%d of %d added: at most %d are watched at once", added, len(specs), watch.MostTargets)
		}
		added++
	}
	m.reach.note = fmt.Sprintf("%d added", added)
	return nil
}

// settingsOf writes how a target is asked, in the form that applySettings reads.
func settingsOf(s watch.Spec) string {
	parts := []string{"every " + s.Interval.String(), "size " + strconv.Itoa(s.Octets())}
	if s.Count > 0 {
		parts = append(parts, "count "+strconv.Itoa(s.Count))
	}
	if s.Whole {
		parts = append(parts, "whole")
	}
	if s.Method == watch.Connect {
		parts = append(parts, "tcp")
	}
	switch {
	case s.Families.No4:
		parts = append(parts, "ipv6")
	case s.Families.No6:
		parts = append(parts, "ipv4")
	}
	return strings.Join(parts, " ")
}

// readSettings reads "every 0.2s size 1400 count 100 whole tcp ipv4"; what is not named takes its usual value. mtu is the interface's; 0: not known.
func readSettings(text string, s watch.Spec, mtu int) (watch.Spec, error) {
	out := s
	out.Interval, out.Size, out.Count, out.Whole, out.Method, out.Families = 0, 0, 0, false, watch.Echo, evidence.Families{}
	words := strings.Fields(strings.ToLower(text))
	for i := 0; i < len(words); i++ {
		value := ""
		if i+1 < len(words) {
			value = words[i+1]
		}
		switch w := words[i]; w {
		case "every":
			i++
			d, err := time.ParseDuration(value)
			if seconds, ferr := strconv.ParseFloat(value, 64); err != nil && ferr == nil {
				d, err = time.Duration(seconds*float64(time.Second)), nil
			}
			if err != nil || d < watch.ShortestInterval || d > watch.LongestInterval {
				return s, fmt.Errorf("every %q: give a time from %v to %v", wiretext.Clean(value), watch.ShortestInterval, watch.LongestInterval)
			}
			out.Interval = d
		case "size", "count":
			i++
			n, err := strconv.Atoi(value)
			if w == "count" {
				if err != nil || n < 1 {
					return s, fmt.Errorf("count %q: give a number from 1, or leave it out for no end", wiretext.Clean(value))
				}
				out.Count = n
				continue
			}
			if err != nil || n < 0 || n > watch.LargestPayload {
				return s, fmt.Errorf("size %q: give 0 to %d octets", wiretext.Clean(value), watch.LargestPayload)
			}
			if out.Size = n; n == 0 {
				out.Size = -1
			}
		case "whole":
			out.Whole = true
		case "tcp":
			if s.Target.Port == 0 {
				return s, fmt.Errorf("tcp: %s names no port; add it anew as name:port", s.Name())
			}
			out.Method = watch.Connect
		case "ipv4", "ipv6":
			out.Families = evidence.Families{No4: w == "ipv6", No6: w == "ipv4"}
			if a := s.Target.Addr; a.IsValid() && !out.Families.Allows(a) {
				return s, fmt.Errorf("%s: %v is an address of the other family", w, a)
			}
		default:
			return s, fmt.Errorf("%q is not known here; write for example: every 0.2s size 1400 count 100 whole tcp ipv4", wiretext.Clean(w))
		}
	}
	const heads = 28 // of IPv4 and ICMP; IPv6 takes 20 more
	if out.Whole && mtu > 0 && out.Octets()+heads > mtu {
		return s, fmt.Errorf("size %d: with its headers more than the %d octets that the port takes; at most %d, or without \"whole\"", out.Octets(), mtu, mtu-heads)
	}
	return out, nil
}
