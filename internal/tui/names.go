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
	"passepartout/internal/core/topology"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
	"passepartout/internal/probe"
	"passepartout/internal/report"
)

// kindsOfRecord are the sorts of records that the y key goes through.
var kindsOfRecord = [][]string{{"A", "AAAA"}, {"MX"}, {"TXT"}, {"SRV"}, {"NS", "SOA"}, {"HTTPS", "CAA"}}

// namesView shows one name as every server has it, and the servers compared.
var namesView = &view{
	key: "5", name: "names", short: "name", sets: "name servers",
	does: "one name as every server has it, and the servers compared", at: string(topology.Names), live: true,
	marks: [][2]string{
		{"1 2 ·", "the servers in the order in which they are asked; · not set here, and named by somebody"},
		{"╍╍ ▪ ▫", "the servers differ; those with the same shape agree"},
		{"├─●─┤", "the quickest look-up, the median, the longest, on one ruler for all servers"},
	},
	deeds: []deed{
		{"n", "look up", "look a name up, at all of them at once", false},
		{"c", "compare", "compare the servers: how quickly and how reliably each answers", false},
		{"y", "other records", "ask for other records: addresses, mail, names of services, all", false},
		{"p", "TCP too", "ask over TCP beside UDP, or over UDP alone", false},
		{"x", "stop", "stop what is being asked", true},
	},
	kept: true, replay: lookAtNames,
	open: (*model).openNames, look: lookAtNames, draw: (*model).namesPage, press: (*model).pressNames,
	say: func(m *model, words string) {
		if v := m.names(); v != nil {
			v.note = words
		}
	},
	note: func(m *model) string {
		if v := m.names(); v != nil {
			return v.note
		}
		return ""
	},
	export: func(m *model) (report.Export, bool) {
		seen := m.namesSeen()
		return report.NamesExport(seen.asked, seen.compared), seen.asked.Name != ""
	},
	renew: func(m *model) {
		if v := m.names(); v != nil {
			m.askNames(v.name)
		}
	},
	stop: func(m *model) {
		if v := m.names(); v != nil {
			v.cancel()
		}
	},
}

// namesChoice is what the view holds: what is asked, and what runs.
type namesChoice struct {
	ctx    context.Context
	cancel context.CancelFunc
	name   string // that is asked for
	kinds  int
	tcp    bool
	note   string
	round  int // of asking
	found  *namesFound
}

// namesFound is what has come of the questions.
type namesFound struct {
	mu         sync.Mutex
	asked      report.Named
	asking     bool
	round      int // of the question that counts
	stopAsking context.CancelFunc
	compared   report.Compared
	comparing  bool
	done       int // look-ups of the comparison
	stop       context.CancelFunc
}

// namesSeen is a copy of that, as it was looked at last.
type namesSeen struct {
	asked     report.Named
	asking    bool
	compared  report.Compared
	comparing bool
	done      int
}

// names is what the view holds; nil before it was opened.
func (m *model) names() *namesChoice { return hold[namesChoice](m) }

func (m *model) namesSeen() namesSeen {
	s, _ := lookedAt[namesSeen](m)
	return s
}

// openNames looks the target's name up once the servers are known, so that the view is never empty.
func (m *model) openNames() {
	if m.recorded != nil {
		m.openRecordedNames()
		return
	}
	if m.set.Endpoint == nil || m.names() != nil {
		return
	}
	v := &namesChoice{tcp: true, found: &namesFound{}}
	v.ctx, v.cancel = context.WithCancel(m.ctx)
	keep(m, v)
	name := m.target.Host()
	if name == "" {
		if i, ok := m.set.Endpoint.Interface(m.set.Interface); ok {
			for _, a := range i.Usable(false) {
				name = a.Prefix.Addr().String()
				break
			}
		}
	}
	m.askNames(name)
}

// openRecordedNames shows what the tests of a recording have looked up, until the moment where one stands.
func (m *model) openRecordedNames() {
	forget[namesSeen](m)
	if m.set == nil || m.set.Endpoint == nil {
		letGo[namesChoice](m)
		return
	}
	name := m.target.Host()
	asked := report.Named{Name: name, At: m.state.Round.Began, Hosts: m.set.Endpoint.HostsEntries(name), Servers: names.Servers(m.set),
		Asked: []string{name}}
	for _, l := range m.set.Lookups {
		if l.AboutTarget() {
			asked.Lookups = append(asked.Lookups, l)
		}
	}
	keep(m, &namesChoice{cancel: func() {}, name: name, found: &namesFound{asked: asked}})
}

func lookAtNames(m *model) func() any {
	v := m.names()
	if v == nil {
		return nil
	}
	return func() any { return v.found.copy() }
}

func (f *namesFound) copy() namesSeen {
	f.mu.Lock()
	defer f.mu.Unlock()
	s := namesSeen{f.asked, f.asking, f.compared, f.comparing, f.done}
	s.asked.Lookups = slices.Clone(f.asked.Lookups)
	if f.compared.Trial != nil {
		s.compared.Trial = f.compared.Trial.Clone()
	}
	return s
}

// askNames asks every server for a name, as the system would complete it.
func (m *model) askNames(name string) {
	v := m.names()
	if name == "" || v == nil {
		return
	}
	v.name = name
	e, ground := m.set.Endpoint, m.case_.Machine()
	named := report.Named{Name: name, At: m.now, Hosts: e.HostsEntries(name), Servers: names.Servers(m.set), Asked: []string{name}}
	if _, err := netip.ParseAddr(name); err != nil {
		named.Asked, _ = e.Completed(name)
	}
	q := probe.NamesQuestion{Types: kindsOfRecord[v.kinds], TCP: v.tcp}
	for _, s := range named.Servers {
		q.Servers = append(q.Servers, s.Address)
	}
	v.round++
	ctx, found, round := v.ctx, v.found, v.round
	go func() {
		defer guard.Goroutine()
		found.ask(ctx, ground, q, named, round)
	}()
}

// ask puts a question in place of the one that is under way.
func (f *namesFound) ask(ctx context.Context, ground machine.Machine, q probe.NamesQuestion, named report.Named, round int) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	f.mu.Lock()
	if round < f.round { // a later one was quicker
		f.mu.Unlock()
		return
	}
	if f.stopAsking != nil {
		f.stopAsking()
	}
	f.round = round
	f.stopAsking, f.asking, f.asked = cancel, true, named
	f.mu.Unlock()
	note := func(change func()) {
		f.mu.Lock()
		defer f.mu.Unlock()
		if f.round == round {
			change()
		}
	}
	probe.AskCompleted(ctx, ground, q, named.Asked, func(l []evidence.Lookup) { note(func() { f.asked.Lookups = l }) })
	note(func() { f.asking = false })
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
	asked := m.namesSeen().asked
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
	v := m.names()
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
	compared := report.Compared{At: m.now, Names: which, Rounds: trialRounds, Servers: list, Trial: names.NewTrial(servers)}
	ctx, found, machine := v.ctx, v.found, m.case_.Machine()
	go func() {
		defer guard.Goroutine()
		found.compare(ctx, machine, servers, compared)
	}()
}

// compare compares servers, if that is not being done already.
func (f *namesFound) compare(ctx context.Context, ground machine.Machine, servers []netip.Addr, compared report.Compared) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	f.mu.Lock()
	if f.comparing {
		f.mu.Unlock()
		return
	}
	f.comparing, f.done, f.stop, f.compared = true, 0, cancel, compared
	f.mu.Unlock()
	probe.Compare(ctx, ground, probe.TrialQuestion{Servers: servers, Names: compared.Names, Rounds: trialRounds, Pause: trialPause},
		func(l evidence.Lookup) {
			f.mu.Lock()
			defer f.mu.Unlock()
			f.compared.Trial.Add(l)
			f.done++
		})
	f.mu.Lock()
	f.comparing = false
	f.mu.Unlock()
}

// pressNames handles the keys of the names view; false for one that is not its own.
func (m *model) pressNames(k tea.KeyPressMsg) (tea.Cmd, bool) {
	v := m.names()
	if v == nil {
		return nil, false
	}
	v.note = ""
	switch k.String() {
	case "n":
		return m.offerEntry("look up", v.name, func(text string) (tea.Cmd, error) {
			name, err := names.Check(text)
			if err == nil {
				m.askNames(name)
			}
			return nil, err
		}), true
	case "y":
		v.kinds = (v.kinds + 1) % len(kindsOfRecord)
		m.askNames(v.name)
	case "p":
		v.tcp = !v.tcp
		v.note = fmt.Sprintf("asked over UDP%s from now on", map[bool]string{true: " and TCP", false: " alone"}[v.tcp])
		m.askNames(v.name)
	case "c":
		m.compareServers()
	case "esc", "x":
		return m.aside(func() {
			v.found.mu.Lock()
			defer v.found.mu.Unlock()
			if v.found.stop != nil {
				v.found.stop()
			}
		}), true
	default:
		return nil, false
	}
	return nil, true
}
