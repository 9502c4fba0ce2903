package scenario

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/netip"
	"path"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"passepartout/internal/core/endpoint"
)

// Scenario is a site, what is wrong with it, and what should be found.
type Scenario struct {
	Name      string   `yaml:"-"`
	SiteName  string   `yaml:"site"`      // a file in sites/
	Complaint string   `yaml:"complaint"` // in the user's own words
	Target    string   `yaml:"target"`
	Interface string   `yaml:"interface"`
	Expect    Expect   `yaml:"expect"`
	Timeline  Timeline `yaml:"timeline"`
	Clock     Duration `yaml:"clock"`        // how far the endpoint's clock is ahead of everybody else's; negative: behind
	Sheet     string   `yaml:"sheet"`        // the site sheet that the technician has: a file in sheets/
	MaskIsIt  bool     `yaml:"mask_matters"` // what is wrong is told by the pier's mask, so that no variation may change it
	Responder string   `yaml:"responder"`    // where somebody has started our responder, as the technician names it
	Repair    Repair   `yaml:"repair"`
	Site      *Site    `yaml:"-"`

	variation Variation
}

// Expect is the verdict that must come out.
type Expect struct {
	Zone         string   `yaml:"zone"`
	Fault        string   `yaml:"fault"`
	Also         []string `yaml:"also"`    // faults that are true and not in the way
	Remarks      []string `yaml:"remarks"` // the look-alikes that are no faults and must be told
	Cleared      []string `yaml:"cleared"` // the suspects that must be cleared
	Words        []string `yaml:"words"`   // what the sentence must contain
	Unprivileged *Without `yaml:"unprivileged"`
	NoEcho       *Without `yaml:"no_echo"`
}

// Without is what is expected where raw frames, or frames and echo, are withheld, if that differs.
type Without struct {
	Zone  string `yaml:"zone"`
	Fault string `yaml:"fault"`
}

// For gives the expected zone and fault with or without raw frames, and echo.
func (e Expect) For(frames, echo bool) (zone, fault string) {
	w := e.Unprivileged
	if !echo && e.NoEcho != nil {
		w = e.NoEcho
	}
	if !frames && w != nil {
		return w.Zone, w.Fault
	}
	return e.Zone, e.Fault
}

//go:embed sites/*.yaml cases/*.yaml sheets/*.yaml timelines/*.yaml
var files embed.FS

// ErrUnknown is the error for a scenario that is not there.
var ErrUnknown = errors.New("no such scenario")

// ToBeginWith names a few scenarios for somebody who sees them for the first time: nothing wrong, and one for each zone, and names.
var ToBeginWith = []string{"healthy", "gateway-not-set", "gateway-silent", "service-refused", "resolver-silent"}

// Names lists the scenarios that ship with the program: the healthy one first, then by name.
func Names() []string {
	entries, err := files.ReadDir("cases")
	if err != nil {
		panic(err) // embedded: cannot fail
	}
	var out []string
	for _, e := range entries {
		out = append(out, strings.TrimSuffix(e.Name(), ".yaml"))
	}
	slices.SortFunc(out, func(a, b string) int {
		if (a == Healthy) != (b == Healthy) {
			if a == Healthy {
				return -1
			}
			return 1
		}
		return strings.Compare(a, b)
	})
	return out
}

// Complaint reads only what a scenario's user complains of: quick enough to be done for all of them before a first frame.
func Complaint(name string) (string, error) {
	raw, err := files.ReadFile(path.Join("cases", name+".yaml"))
	if err != nil {
		return "", err
	}
	var head struct {
		Complaint string `yaml:"complaint"`
	}
	for line := range strings.Lines(string(raw)) {
		if strings.HasPrefix(line, "complaint:") { // the one line says it all: a whole file costs a hundred times as much
			raw = []byte(line)
			break
		}
	}
	err = yaml.Unmarshal(raw, &head)
	return head.Complaint, err
}

// Healthy is the name of the scenario in which nothing is wrong.
const Healthy = "healthy"

// Load reads a scenario by name.
func Load(name string) (*Scenario, error) {
	raw, err := files.ReadFile(path.Join("cases", name+".yaml"))
	if errors.Is(err, fs.ErrNotExist) || strings.ContainsAny(name, `/\`) {
		return nil, fmt.Errorf("scenario %q: %w; `passepartout demo --list` names them", clip(name), ErrUnknown)
	}
	if err != nil {
		return nil, err
	}
	s, err := Parse(raw, func(site string) ([]byte, error) { return files.ReadFile(path.Join("sites", site+".yaml")) })
	if err != nil {
		return nil, fmt.Errorf("%s.yaml: %w", name, err)
	}
	s.Name = name
	return s, nil
}

func clip(s string) string {
	if len(s) > 60 {
		return s[:57] + "..."
	}
	return s
}

// caseFile is a scenario file: a site by name, and the differences that make the fault.
type caseFile struct {
	Scenario `yaml:",inline"`
	Segments map[string]ast.Node `yaml:"segments"`
	Nodes    map[string]ast.Node `yaml:"nodes"`
}

// Repair is what makes a scenario's target reachable, where it is not to undo all that differs from the site.
type Repair struct {
	Undo    []string                `yaml:"undo"`    // the nodes and segments whose changes are taken back; the others belong to the place
	Publish map[string][]netip.Addr `yaml:"publish"` // names that every name server knows from then on
	Open    []string                `yaml:"open"`    // the nodes whose packet filters are taken away; likewise
	Power   []string                `yaml:"power"`   // the nodes that are switched on; all else that differs belongs to the place
	Serve   map[string][]Web        `yaml:"serve"`   // the services that are started, by node; likewise
}

// Mended is the same case after its repair: the same target at the same place, with the same sheet.
func (s *Scenario) Mended() (*Scenario, error) {
	raw, err := s.variation.file("cases", s.Name)
	if err != nil {
		return nil, err
	}
	var c caseFile
	if err := yaml.UnmarshalWithOptions(raw, &c, yaml.Strict()); err != nil {
		return nil, oneLine(err)
	}
	if len(c.Repair.Undo)+len(c.Repair.Open)+len(c.Repair.Power)+len(c.Repair.Serve) == 0 {
		c.Nodes, c.Segments = nil, nil
	}
	for _, name := range c.Repair.Undo {
		delete(c.Nodes, name)
		delete(c.Segments, name)
	}
	if err := c.build(func(site string) ([]byte, error) { return s.variation.file("sites", site) }); err != nil {
		return nil, err
	}
	for name, n := range c.Site.Nodes {
		if n.DNS != nil && n.DNS.Records != nil {
			maps.Copy(n.DNS.Records, c.Repair.Publish)
		}
		if slices.Contains(c.Repair.Open, name) {
			n.Filter = nil
		}
		n.Off = n.Off && !slices.Contains(c.Repair.Power, name)
		if services, started := c.Repair.Serve[name]; started {
			n.Web = services
		}
	}
	c.Name, c.Expect, c.Clock, c.Responder, c.Timeline, c.variation = s.Name, Expect{Zone: "none"}, 0, "", Timeline{}, s.variation
	return &c.Scenario, nil
}

// Parse reads a scenario file. The fields that it gives for a segment or a node replace those of the site; all others stay.
func Parse(raw []byte, site func(name string) ([]byte, error)) (*Scenario, error) {
	var c caseFile
	if err := yaml.UnmarshalWithOptions(raw, &c, yaml.Strict()); err != nil {
		return nil, oneLine(err)
	}
	if err := c.build(site); err != nil {
		return nil, err
	}
	return &c.Scenario, nil
}

// build reads the site, puts the file's changes over it, and checks the whole.
func (c *caseFile) build(site func(name string) ([]byte, error)) error {
	base, err := site(c.SiteName)
	if err != nil {
		return fmt.Errorf("site %q is not there", clip(c.SiteName))
	}
	s, err := readSite(base)
	if err != nil {
		return fmt.Errorf("site %s: %w", c.SiteName, oneLine(err))
	}
	if err := c.lay(s); err != nil {
		return err
	}
	c.Site = s
	return errors.Join(s.check(), c.Timeline.check(s))
}

// lay puts the file's changes over a site.
func (c *caseFile) lay(s *Site) error {
	for name, change := range c.Segments {
		if s.Segments[name] == nil {
			s.Segments[name] = &Segment{}
		}
		if err := overlay(change, s.Segments[name]); err != nil {
			return fmt.Errorf("segment %s: %w", clip(name), oneLine(err))
		}
	}
	for name, change := range c.Nodes {
		if s.Nodes[name] == nil {
			s.Nodes[name] = &Node{}
		}
		if err := overlay(change, s.Nodes[name]); err != nil {
			return fmt.Errorf("node %s: %w", clip(name), oneLine(err))
		}
	}
	return nil
}

// overlay decodes onto a value that is there already: fields that the file does not name stay as they are.
func overlay[T any](change ast.Node, onto *T) error {
	if change == nil || change.Type() == ast.NullType {
		return errors.New("no fields are given")
	}
	return yaml.NodeToValue(change, onto, yaml.Strict())
}

// SheetText is the text of the scenario's site sheet; nil if the technician has none.
func (s *Scenario) SheetText() ([]byte, error) {
	if s.Sheet == "" {
		return nil, nil
	}
	raw, err := s.variation.file("sheets", s.Sheet)
	if err != nil {
		return nil, fmt.Errorf("sheet %q is not there", clip(s.Sheet))
	}
	return raw, nil
}

// oneLine keeps the place and the message of a YAML error and drops the picture of the file.
func oneLine(err error) error {
	msg, _, _ := strings.Cut(err.Error(), "\n")
	return errors.New(msg)
}

// check refuses a site that could not be built, or not alike on both grounds.
func (s *Site) check() error {
	if s.Nodes[s.Endpoint] == nil {
		return fmt.Errorf("endpoint %q is no node", s.Endpoint)
	}
	for name, g := range s.Segments {
		if g == nil {
			return fmt.Errorf("segment %s: no fields are given", name)
		}
	}
	for name, n := range s.Nodes {
		if n == nil {
			return fmt.Errorf("node %s: no fields are given", name)
		}
		for portName, p := range n.Ports {
			if p == nil {
				return fmt.Errorf("node %s, port %s: no fields are given", name, portName)
			}
			if _, err := endpoint.ParseHardware(p.Hardware); p.Hardware != "" && err != nil {
				return fmt.Errorf("node %s, port %s: %w", name, portName, err)
			}
			if s.Segments[p.Segment] == nil && !p.Alone() {
				return fmt.Errorf("node %s, port %s: segment %q is not there", name, portName, p.Segment)
			}
		}
		for _, e := range n.Neighbours {
			if s.Nodes[e.Of] == nil || len(s.Nodes[e.Of].Ports) == 0 {
				return fmt.Errorf("node %s: neighbour %v is of %q, which is no node with a port", name, e.Address, clip(e.Of))
			}
		}
		for _, w := range n.Web {
			if !slices.Contains([]string{"", "expired", "another", "untrusted"}, w.Cert) {
				return fmt.Errorf("node %s: web service on port %d: cert is expired, another or untrusted", name, w.Port)
			}
		}
		for _, r := range n.Routes {
			if !slices.Contains([]string{"", "blackhole", "unreachable", "prohibit"}, r.Refuse) {
				return fmt.Errorf("node %s: route to %v: refuse is blackhole, unreachable or prohibit", name, r.To)
			}
			if !r.OnLink && r.Via.IsValid() && !n.onLink(r.Via) {
				return fmt.Errorf("node %s: route via %v: no port has a prefix that holds it (a kernel refuses that without on_link)", name,
					r.Via)
			}
		}
		for _, rule := range n.Filter {
			if !slices.Contains([]string{"in", "out", "forward"}, rule.Chain) ||
				!slices.Contains([]string{"drop", "prohibit", "no-host", "no-net"}, rule.Action) {
				return fmt.Errorf("node %s: filter rule: chain is in, out or forward; action is drop, prohibit, no-host or no-net", name)
			}
		}
	}
	return nil
}

func (n *Node) onLink(a netip.Addr) bool {
	for _, p := range n.Ports {
		for _, own := range p.Addresses {
			if own.Masked().Contains(a) {
				return true
			}
		}
	}
	return false
}
