package tui

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/names"
	"passepartout/internal/core/target"
	"passepartout/internal/probe"
	"passepartout/internal/report"
)

// kindsOfRecord are the sorts of records that the y key goes through.
var kindsOfRecord = [][]string{{"A", "AAAA"}, {"MX"}, {"TXT"}, {"SRV"}, {"NS", "SOA"}, {"HTTPS", "CAA"}}

// namesView is what view 5 holds: one name as every server has it, and a comparison of the servers.
type namesView struct {
	ctx    context.Context
	cancel context.CancelFunc
	kinds  int
	tcp    bool
	note   string

	mu         sync.Mutex
	asked      report.Named
	asking     bool
	round      int // of asking
	stopAsking context.CancelFunc
	compared   report.Compared
	comparing  bool
	done       int // look-ups of the comparison
	stop       context.CancelFunc
}

// startNames looks the target's name up once the servers are known, so that the view is never empty.
func (m *model) startNames() {
	if m.set == nil || m.set.Endpoint == nil || m.names != nil {
		return
	}
	ctx, cancel := context.WithCancel(m.ctx)
	m.names = &namesView{ctx: ctx, cancel: cancel, tcp: true}
	name := m.target.Host()
	if name == "" {
		if i, ok := m.set.Endpoint.Interface(m.set.Interface); ok {
			for _, a := range i.Usable(false) {
				name = a.Prefix.Addr().String()
				break
			}
		}
	}
	if name != "" {
		m.askNames(name)
	}
}

func (m *model) stopNames() {
	if m.names != nil {
		m.names.cancel()
		m.names = nil
	}
}

// shot gives what is known now.
func (v *namesView) shot() (asked report.Named, asking bool, compared report.Compared, comparing bool, done int) {
	v.mu.Lock()
	defer v.mu.Unlock()
	asked, compared = v.asked, v.compared
	asked.Lookups = slices.Clone(v.asked.Lookups)
	if v.compared.Trial != nil {
		compared.Trial = v.compared.Trial.Clone()
	}
	return asked, v.asking, compared, v.comparing, v.done
}

// askNames asks every server for a name, as the system would complete it.
func (m *model) askNames(name string) {
	v, ground := m.names, m.Ground.Machine
	e := m.set.Endpoint
	named := report.Named{Name: name, At: time.Now(), Hosts: e.HostsEntries(name), Servers: names.Servers(m.set), Asked: []string{name}}
	if _, err := netip.ParseAddr(name); err != nil {
		named.Asked = evidence.Candidates(name, e.Search)
	}
	q := probe.NamesQuestion{Types: kindsOfRecord[v.kinds], TCP: v.tcp}
	for _, s := range named.Servers {
		q.Servers = append(q.Servers, s.Address)
	}
	ctx, cancel := context.WithCancel(v.ctx)
	v.mu.Lock()
	if v.stopAsking != nil { // another question takes its place
		v.stopAsking()
	}
	v.round++
	round := v.round
	v.stopAsking, v.asking, v.asked = cancel, true, named
	v.mu.Unlock()
	note := func(f func()) {
		v.mu.Lock()
		defer v.mu.Unlock()
		if v.round == round {
			f()
		}
	}
	go func() {
		defer cancel()
		probe.AskCompleted(ctx, ground, q, named.Asked, func(l []evidence.Lookup) { note(func() { v.asked.Lookups = l }) })
		note(func() { v.asking = false })
	}()
}

// The comparison that the c key runs: fifty look-ups a second at each server at most, for some seconds.
const (
	trialRounds = 20
	trialPause  = 20 * time.Millisecond
)

// trialNames are the names by which servers are compared: the one asked for last, the target's, the sheet's services.
func (m *model) trialNames() (out []string) {
	add := func(name string) {
		if _, err := netip.ParseAddr(name); err != nil && name != "" && !slices.Contains(out, name) && len(out) < 5 {
			out = append(out, name)
		}
	}
	asked, _, _, _, _ := m.names.shot()
	if len(asked.Lookups) > 0 && len(asked.Asked) > 0 {
		add(strings.TrimSuffix(asked.Lookups[0].Name, "."))
	}
	add(m.target.Name)
	if m.Ground.Sheet != nil {
		for _, s := range m.Ground.Sheet.Services {
			add(s.Target.Name)
		}
	}
	for _, text := range m.Ground.Targets {
		if t, err := target.Parse(text); err == nil {
			add(t.Name)
		}
	}
	return slices.DeleteFunc(out, func(name string) bool { return strings.HasSuffix(name, ".arpa") })
}

func (m *model) compareServers() {
	v, ground := m.names, m.Ground.Machine
	list := names.Servers(m.set)
	var servers []netip.Addr
	for _, s := range list {
		servers = append(servers, s.Address)
	}
	which := m.trialNames()
	if len(which) == 0 {
		v.note = "there is no name to compare by: n asks for one first"
		return
	}
	ctx, cancel := context.WithCancel(v.ctx)
	v.mu.Lock()
	if v.comparing {
		v.mu.Unlock()
		cancel()
		return
	}
	v.comparing, v.done, v.stop = true, 0, cancel
	v.compared = report.Compared{At: time.Now(), Names: which, Rounds: trialRounds, Servers: list, Trial: names.NewTrial(servers)}
	v.mu.Unlock()
	go func() {
		defer cancel()
		probe.Compare(ctx, ground, probe.TrialQuestion{Servers: servers, Names: which, Rounds: trialRounds, Pause: trialPause}, func(l evidence.Lookup) {
			v.mu.Lock()
			defer v.mu.Unlock()
			v.compared.Trial.Add(l)
			v.done++
		})
		v.mu.Lock()
		v.comparing = false
		v.mu.Unlock()
	}()
}

// pressNames handles the keys of the names view; false for one that is not its own.
func (m *model) pressNames(k tea.KeyPressMsg) (tea.Cmd, bool) {
	v := m.names
	if v == nil {
		return nil, false
	}
	v.note = ""
	asked, _, _, _, _ := v.shot()
	switch k.String() {
	case "n":
		return m.openEntry("look up", asked.Name, func(text string) error {
			name, err := names.Check(text)
			if err != nil {
				return err
			}
			m.askNames(name)
			return nil
		}), true
	case "y":
		v.kinds = (v.kinds + 1) % len(kindsOfRecord)
		if asked.Name != "" {
			m.askNames(asked.Name)
		}
	case "p":
		v.tcp = !v.tcp
		v.note = fmt.Sprintf("asked over UDP%s from now on", map[bool]string{true: " and TCP", false: " alone"}[v.tcp])
		if asked.Name != "" {
			m.askNames(asked.Name)
		}
	case "c":
		m.compareServers()
	case "esc", "x":
		v.mu.Lock()
		if v.stop != nil {
			v.stop()
		}
		v.mu.Unlock()
	default:
		return nil, false
	}
	return nil, true
}
