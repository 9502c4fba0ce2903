package scenario

import (
	"fmt"
	"maps"
	"net/netip"
	"path"
	"slices"
	"strings"
	"time"
)

// Becomes is what of a node is otherwise for a time. What is not given stays as it is.
type Becomes struct {
	Filter    *[]Rule               `yaml:"filter"`    // in place of its own rules
	Routes    *[]Route              `yaml:"routes"`    // in place of its own routes
	Addresses *[]netip.Prefix       `yaml:"addresses"` // of its first port, in place of its own
	Hosts     map[string]netip.Addr `yaml:"hosts"`     // names besides those in its hosts file
	Lease     *Lease                `yaml:"lease"`     // of its first port: what the client's file says then, from that moment on
}

// NodeAt is a node as it is at a time after the start.
func (s *Scenario) NodeAt(name string, after time.Duration) *Node {
	n := s.Site.Nodes[name]
	for _, e := range s.Timeline.Events {
		if e.Node != name || !s.Timeline.holds(e, after) {
			continue
		}
		changed := *n
		changed.Ports = maps.Clone(n.Ports)
		first := n.PortNames()[0]
		port := *n.Ports[first]
		if b := e.Becomes; b.Filter != nil {
			changed.Filter = *b.Filter
		}
		if b := e.Becomes; b.Routes != nil {
			changed.Routes = *b.Routes
		}
		if b := e.Becomes; b.Addresses != nil {
			port.Addresses = *b.Addresses
		}
		if b := e.Becomes; b.Hosts != nil {
			changed.Hosts = maps.Clone(n.Hosts)
			if changed.Hosts == nil {
				changed.Hosts = map[string]netip.Addr{}
			}
			maps.Copy(changed.Hosts, b.Hosts)
		}
		if b := e.Becomes; b.Lease != nil {
			lease := *b.Lease
			lease.Ago -= e.From // counted from the start, as all leases are
			port.Lease = &lease
		}
		changed.Ports[first] = &port
		n = &changed
	}
	return n
}

// SiteAt is the site as it is at a time after the start.
func (s *Scenario) SiteAt(after time.Duration) *Site {
	changing := s.Timeline.Changing()
	if len(changing) == 0 {
		return s.Site
	}
	site := *s.Site
	site.Nodes = maps.Clone(s.Site.Nodes)
	for _, name := range changing {
		site.Nodes[name] = s.NodeAt(name, after)
	}
	return &site
}

// Changing are the nodes that the timeline changes.
func (t Timeline) Changing() (out []string) {
	for _, e := range t.Events {
		if e.Node != "" && !slices.Contains(out, e.Node) {
			out = append(out, e.Node)
		}
	}
	return out
}

// checkNode refuses a change that is none.
func (e Event) checkNode(s *Site) error {
	b := e.Becomes
	switch {
	case s.Nodes[e.Node] == nil || len(s.Nodes[e.Node].Ports) == 0:
		return fmt.Errorf("node %q is not there, or has no port", clip(e.Node))
	case b == nil || b.Filter == nil && b.Routes == nil && b.Addresses == nil && b.Hosts == nil && b.Lease == nil:
		return fmt.Errorf("node %s: give what it becomes: filter, routes, addresses, hosts or lease", clip(e.Node))
	}
	return nil
}

// Timelines lists the cases that change while they are watched: they are no complaints to choose from.
func Timelines() (out []string) {
	entries, err := files.ReadDir("timelines")
	if err != nil {
		panic(err) // embedded: cannot fail
	}
	for _, e := range entries {
		out = append(out, strings.TrimSuffix(e.Name(), ".yaml"))
	}
	return out
}

// LoadTimeline reads one of them.
func LoadTimeline(name string) (*Scenario, error) {
	raw, err := files.ReadFile(path.Join("timelines", name+".yaml"))
	if err != nil {
		return nil, fmt.Errorf("timeline %q: %w", clip(name), ErrUnknown)
	}
	s, err := Parse(raw, func(site string) ([]byte, error) { return files.ReadFile(path.Join("sites", site+".yaml")) })
	if err != nil {
		return nil, fmt.Errorf("%s.yaml: %w", name, err)
	}
	s.Name = name
	return s, nil
}

// Truth is what is wrong at a time after the start: the zone and the fault that a verdict should have. Without an event that tells, it is
// what is expected of the case as it stands.
func (s *Scenario) Truth(after time.Duration) (zone, fault string) {
	for _, e := range s.Timeline.Events {
		if e.Zone != "" && s.Timeline.holds(e, after) {
			return e.Zone, e.Fault
		}
	}
	return s.Expect.Zone, s.Expect.Fault
}
