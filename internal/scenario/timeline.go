package scenario

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"time"
)

// Timeline is what changes while a site runs, counted from its start. It is also the truth against which an attribution is measured.
type Timeline struct {
	Repeat Duration `yaml:"repeat"` // begin again after that; 0: once
	Events []Event  `yaml:"events"`
}

// Event is one change. Exactly one of Segment, Unplug, Name and Node says what it is about.
type Event struct {
	From    Duration   `yaml:"from"`
	For     Duration   `yaml:"for"`     // 0: to the end
	Segment string     `yaml:"segment"` // loses and delays frames
	Loss    float64    `yaml:"loss"`    // percent, in addition to the segment's own
	Delay   Duration   `yaml:"delay"`   // one way, in addition
	Unplug  string     `yaml:"unplug"`  // node/port without carrier
	Name    string     `yaml:"name"`    // a name that has the address To in the meantime
	To      netip.Addr `yaml:"to"`
	Node    string     `yaml:"node"` // a node that is otherwise in the meantime
	Becomes *Becomes   `yaml:"becomes"`
	Zone    string     `yaml:"zone"`  // whose fault it is
	Fault   string     `yaml:"fault"` // which one; "": the zone tells
}

// holds reports whether an event is in force at a time after the start.
func (t Timeline) holds(e Event, after time.Duration) bool {
	if t.Repeat > 0 {
		after %= time.Duration(t.Repeat)
	}
	return after >= time.Duration(e.From) && (e.For == 0 || after < time.Duration(e.From+e.For))
}

// Zone is whose fault it is at a time after the start; "" while nothing is wrong.
func (t Timeline) Zone(after time.Duration) string {
	for _, e := range t.Events {
		if e.Zone != "" && t.holds(e, after) {
			return e.Zone
		}
	}
	return ""
}

// Unplugged reports whether a port is without carrier at a time after the start.
func (t Timeline) Unplugged(node, port string, after time.Duration) bool {
	return slices.ContainsFunc(t.Events, func(e Event) bool { return e.Unplug == node+"/"+port && t.holds(e, after) })
}

// Moved gives the address that a name has for the time being, if it is not its own.
func (t Timeline) Moved(name string, after time.Duration) (netip.Addr, bool) {
	for _, e := range t.Events {
		if e.Name == name && t.holds(e, after) {
			return e.To, true
		}
	}
	return netip.Addr{}, false
}

// Next is the first change after a time, and false when none comes any more.
func (t Timeline) Next(after time.Duration) (time.Duration, bool) {
	var edges []time.Duration
	for _, e := range t.Events {
		edges = append(edges, time.Duration(e.From))
		if e.For > 0 {
			edges = append(edges, time.Duration(e.From+e.For))
		}
	}
	slices.Sort(edges)
	base := time.Duration(0)
	if t.Repeat > 0 {
		base = after / time.Duration(t.Repeat) * time.Duration(t.Repeat)
	}
	for _, edge := range edges {
		if base+edge > after {
			return base + edge, true
		}
	}
	if t.Repeat == 0 || len(edges) == 0 {
		return 0, false
	}
	return base + time.Duration(t.Repeat) + edges[0], true
}

// Bursts are regular short times in which a segment loses everything.
type Bursts struct {
	Every Duration `yaml:"every"`
	For   Duration `yaml:"for"`
}

// Treatment is what a segment does to frames at one moment.
type Treatment struct {
	Delay time.Duration
	Lane  int     // of this frame: it cannot overtake those of the same lane
	Loss  float64 // 0 to 1, each frame by itself
	MTU   int
}

// Lanes is how many ways a frame can take through a segment whose delay wavers.
const Lanes = 3

// TreatmentAt gives what a segment does to frames at a time after the start.
func (s *Scenario) TreatmentAt(name string, after time.Duration) Treatment {
	g := s.Site.Segments[name]
	t := Treatment{Delay: time.Duration(g.Delay), Loss: g.Loss / 100, MTU: cmp.Or(g.MTU, ethernetMTU)}
	if g.Jitter > 0 {
		t.Lane = rand.IntN(Lanes)
		t.Delay += time.Duration(g.Jitter) * time.Duration(t.Lane) / (Lanes - 1)
	}
	if b := g.Bursts; b.Every > 0 && after%time.Duration(b.Every) < time.Duration(b.For) {
		t.Loss = 1
	}
	for _, e := range s.Timeline.Events {
		if e.Segment == name && s.Timeline.holds(e, after) {
			t.Delay += time.Duration(e.Delay)
			t.Loss = 1 - (1-t.Loss)*(1-e.Loss/100)
		}
	}
	return t
}

// Shaped reports whether a segment ever does anything to frames but pass them on.
func (s *Scenario) Shaped(name string) bool {
	g := s.Site.Segments[name]
	return g.Loss > 0 || g.MTU > 0 || g.Jitter > 0 || g.Bursts.Every > 0 ||
		slices.ContainsFunc(s.Timeline.Events, func(e Event) bool { return e.Segment == name })
}

const ethernetMTU = 1500

// check refuses events about what is not there.
func (t Timeline) check(s *Site) error {
	for i, e := range t.Events {
		node, port, _ := strings.Cut(e.Unplug, "/")
		about := 0
		for _, given := range []string{e.Segment, e.Unplug, e.Name, e.Node} {
			if given != "" {
				about++
			}
		}
		switch {
		case about != 1:
			return fmt.Errorf("event %d: give one of segment, unplug, name and node", i+1)
		case e.Segment != "" && s.Segments[e.Segment] == nil:
			return fmt.Errorf("event %d: segment %q is not there", i+1, clip(e.Segment))
		case e.Unplug != "" && (s.Nodes[node] == nil || s.Nodes[node].Ports[port] == nil):
			return fmt.Errorf("event %d: port %q is not there; write node/port", i+1, clip(e.Unplug))
		case e.Node != "" && e.checkNode(s) != nil:
			return fmt.Errorf("event %d: %w", i+1, e.checkNode(s))
		case e.Name != "" && !e.To.IsValid():
			return fmt.Errorf("event %d: name %s: to which address?", i+1, clip(e.Name))
		case e.From < 0 || e.For < 0 || t.Repeat < 0 || t.Repeat > 0 && e.From+e.For > t.Repeat:
			return fmt.Errorf("event %d: lies outside the timeline", i+1)
		}
	}
	return nil
}
