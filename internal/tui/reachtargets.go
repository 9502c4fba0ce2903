package tui

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/series"
	"passepartout/internal/core/target"
	"passepartout/internal/core/topology"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/core/zone"
	"passepartout/internal/plainfile"
	"passepartout/internal/probe/watch"
	"passepartout/internal/report"
)

// reachView shows the witnesses of each zone over time, and whose loss it was.
var reachView = &view{
	key: "6", name: "reach", short: "loss", does: "who answers in each zone over time, and whose loss it was", at: string(topology.Gateway), live: true,
	marks: [][2]string{
		{"⠤⠒⠉", "a reply: the higher, the longer; each zone has its own scale, named at the right"},
		{"├4┤ ┼", "a run of probes without answer, and its length; ┼ where there is no room for it"},
		{marksOf[series.Late].shape + " " + again, "an answer after its time; more than one answer"},
		{marksOf[series.Unreachable].shape + " " + marksOf[series.NotSent].shape, "somebody said unreachable; this machine did not send"},
		{"▁ ▄ █", "whose loss: this host, the local subnet, beyond. The nearest that failed at that moment"},
	},
	deeds: []deed{
		{"a", "add", "add targets: names, addresses, a pasted list, or @ and a file that lists them", false},
		{"enter", "how asked", "how the chosen one is asked: every 0.2s size 1400 count 100 whole tcp ipv4", false},
		{"+", "nearer", "a shorter span of time on the axis", false},
		{"-", "wider", "a longer span of time on the axis", false},
		{"p", "pause", "ask the chosen one no more for a while, or again", false},
		{"x", "remove", "watch the chosen one no longer", false},
		{"z", "from zero", "count from zero, all of them", false},
	},
	open: func(m *model) { m.reach() }, look: lookAtReach, replay: lookAtRecordedReach, kept: true,
	draw: (*model).reachPage, press: (*model).pressReach,
	wheel: func(m *model, _ tea.Mouse, step int) { m.reach().selected += step },
	say:   func(m *model, words string) { m.reach().note = words },
	note:  func(m *model) string { return m.reach().note },
	export: func(m *model) (report.Export, bool) {
		s, ok := lookedAt[reachShot](m)
		return s.export(wiretext.Clean(m.set.Endpoint.Host)), ok && s.export != nil
	},
}

// watching is what the view holds: the case has its watcher, here is what is chosen.
type watching struct {
	selected int
	span     int    // index into spans
	note     string // what the last key did
}

// reach is what the view holds.
func (m *model) reach() *watching {
	if hold[watching](m) == nil {
		keep(m, &watching{})
	}
	return hold[watching](m)
}

// spans are the parts of the time axis that can be chosen.
var spans = []time.Duration{time.Minute, 5 * time.Minute, 15 * time.Minute, time.Hour, 4 * time.Hour, 24 * time.Hour}

// mostAtOnce is how many targets one paste may add; watch.MostTargets bounds them all.
const mostAtOnce = watch.MostTargets

// addTargets reads a list of targets: words, lines, or @file.
func (m *model) addTargets(text string) (tea.Cmd, error) {
	words := strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == ',' || r == ';' || r == '\n' || r == '\t' || r == '\r' })
	if len(words) == 1 && strings.HasPrefix(words[0], "@") {
		path := words[0][1:]
		m.reach().note = "reading " + wiretext.Clean(path) + " …"
		return m.inBackground("a list is being read", func() func(*model) tea.Cmd {
			words, err := readList(path)
			return func(m *model) tea.Cmd {
				cmd := tea.Cmd(nil)
				if err == nil {
					cmd, err = m.watchToo(words)
				}
				if err != nil {
					m.reach().note = err.Error()
				}
				return cmd
			}
		}), nil
	}
	return m.watchToo(words)
}

// mostInList bounds what is read of a list of targets.
const mostInList = 1 << 20

// readList reads a file that lists targets, in words or lines; what follows # on a line is left out.
func readList(path string) (words []string, err error) {
	raw, err := plainfile.Read(path, mostInList)
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(string(raw)) {
		line, _, _ = strings.Cut(line, "#")
		words = append(words, strings.Fields(line)...)
	}
	return words, nil
}

// watchToo watches targets beside the witnesses.
func (m *model) watchToo(words []string) (tea.Cmd, error) {
	if len(words) == 0 {
		return nil, errors.New("give names or addresses, or @ and the name of a file that lists them")
	}
	if len(words) > mostAtOnce {
		return nil, fmt.Errorf("%d targets: at most %d are watched at once; none was added", len(words), mostAtOnce)
	}
	var specs []watch.Spec
	for _, w := range words {
		t, err := target.Parse(w)
		if err != nil {
			return nil, err
		}
		s := watch.Spec{Target: t, Zone: zone.Beyond, Families: m.Families}
		if i, ok := m.set.Endpoint.Interface(m.set.Interface); ok && t.Addr.IsValid() && i.OnLink(t.Addr) {
			s.Zone = zone.LocalSubnet
		}
		if t.Addr.IsLoopback() || m.set.Endpoint.Owns(t.Addr) {
			s.Zone = zone.Host
		}
		specs = append(specs, s)
	}
	w, generation := m.watcher(), m.generation
	if w == nil {
		return nil, errors.New("the tests are still finding out whom to watch: once they have come to a verdict, more can be added")
	}
	return func() tea.Msg {
		added := 0
		for _, s := range specs {
			if _, ok := w.Add(s); !ok {
				break
			}
			added++
		}
		note := fmt.Sprintf("%d added", added)
		if added < len(specs) {
			note = fmt.Sprintf("%d of %d added: at most %d are watched at once", added, len(specs), watch.MostTargets)
		}
		return doneMsg{generation: generation, take: func(m *model) tea.Cmd {
			m.reach().note = note
			return m.look()
		}}
	}, nil
}

// watcher watches in this case; nil before its first verdict.
func (m *model) watcher() *watch.Watcher {
	s, _ := lookedAt[reachShot](m)
	return s.watcher
}

// settingsOf writes how a target is asked, in the form that applySettings reads.
func settingsOf(s watch.Spec) string {
	parts := []string{"every " + s.Interval.String(), "size " + strconv.Itoa(s.Octets())}
	if s.Count > 0 {
		parts = append(parts, "count "+strconv.Itoa(s.Count))
	}
	if s.DontFragment {
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

// readSettings reads "every 0.2s size 1400 count 100 whole tcp ipv4"; what is not named takes its usual value. mtu is the interface's; 0:
// not known.
func readSettings(text string, s watch.Spec, mtu int) (watch.Spec, error) {
	out := s
	out.Interval, out.Size, out.Count, out.DontFragment, out.Method, out.Families = 0, 0, 0, false, watch.Echo, evidence.Families{}
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
				return s, fmt.Errorf("every %q: give a time from %v to %v", wiretext.Clean(value), watch.ShortestInterval,
					watch.LongestInterval)
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
			out.DontFragment = true
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
			return s, fmt.Errorf("%q is not known here; write for example: every 0.2s size 1400 count 100 whole tcp ipv4",
				wiretext.Clean(w))
		}
	}
	const heads = 28 // of IPv4 and ICMP; IPv6 takes 20 more
	if out.DontFragment && mtu > 0 && out.Octets()+heads > mtu {
		return s, fmt.Errorf("size %d: with its headers more than the %d octets that the interface takes; at most %d, or without \"whole\"",
			out.Octets(), mtu, mtu-heads)
	}
	return out, nil
}
