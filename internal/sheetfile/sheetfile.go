// Package sheetfile reads and writes site sheets: YAML files that docs/site-sheet.md describes. A sheet with an error is refused as a
// whole.
package sheetfile

import (
	"bytes"
	"fmt"
	"net/netip"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/site"
	"passepartout/internal/core/target"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/plainfile"
)

// The fields of the file, as they are written.
type fileSheet struct {
	Site     string        `yaml:"site"`
	Networks []fileNetwork `yaml:"networks"`
	Services []fileService `yaml:"services,omitempty"`
}

type fileNetwork struct {
	Name            string      `yaml:"name,omitempty"`
	Prefixes        []string    `yaml:"prefixes"`
	Gateways        []string    `yaml:"gateways,omitempty"`
	GatewayHardware []string    `yaml:"gateway_hardware,omitempty"`
	DHCPServers     []string    `yaml:"dhcp_servers,omitempty"`
	Resolvers       []string    `yaml:"resolvers,omitempty"`
	Domain          string      `yaml:"domain,omitempty"`
	Port            *filePort   `yaml:"port,omitempty"`
	Switch          string      `yaml:"switch,omitempty"`
	VLAN            int         `yaml:"vlan,omitempty"`
	Ranges          []fileRange `yaml:"ranges,omitempty"`
	Addresses       []fileFixed `yaml:"addresses,omitempty"`
}

type filePort struct {
	SpeedMbit int    `yaml:"speed_mbit,omitempty"`
	Duplex    string `yaml:"duplex,omitempty"`
}

type fileRange struct {
	From string `yaml:"from"`
	To   string `yaml:"to"`
	Use  string `yaml:"use"`
}

type fileFixed struct {
	Address  string `yaml:"address"`
	Name     string `yaml:"name,omitempty"`
	Hardware string `yaml:"hardware,omitempty"`
}

type fileService struct {
	Target  string `yaml:"target"`
	DelayMS int    `yaml:"delay_ms,omitempty"`
}

// mostOctets bounds what is read: a sheet of a thousand networks is far below it.
const mostOctets = 4 << 20

// Read reads a sheet. An error names the file, the line, what is wrong there and how to mend it.
func Read(path string) (*site.Sheet, error) {
	raw, err := plainfile.Read(path, mostOctets)
	if err != nil {
		return nil, fmt.Errorf("site sheet %w", err)
	}
	s, err := Parse(raw, wiretext.Clean(filepath.Base(path)))
	if err != nil {
		return nil, err
	}
	return s, nil
}

// flaw is what is wrong in a file, and where.
type flaw struct {
	file string
	line int
	msg  string
}

func (f flaw) Error() string {
	if f.line == 0 {
		return fmt.Sprintf("%s: %s", f.file, f.msg)
	}
	return fmt.Sprintf("%s: line %d: %s", f.file, f.line, f.msg)
}

// reading is one file being read.
type reading struct {
	name string
	tree ast.Node
}

// Parse reads a sheet from its text; name stands in errors.
func Parse(raw []byte, name string) (s *site.Sheet, err error) {
	defer func() { // the YAML library's own slips on hostile text are the text's fault here
		if recover() != nil {
			s, err = nil, flaw{name, 0, "this is no YAML that can be read"}
		}
	}()
	if len(bytes.TrimSpace(raw)) == 0 {
		return nil, flaw{name, 0, "the file is empty; passepartout site learn writes one from a healthy machine"}
	}
	if i := bytes.IndexByte(raw, 0); i >= 0 {
		return nil, flaw{name, 1 + bytes.Count(raw[:i], []byte("\n")), "this is no text"}
	}
	if line, why := costly(raw); why != "" {
		return nil, flaw{name, line, why}
	}
	var f fileSheet
	if err := yaml.UnmarshalWithOptions(raw, &f, yaml.Strict()); err != nil {
		return nil, syntax(name, err)
	}
	r := reading{name: name}
	if parsed, err := parser.ParseBytes(raw, 0); err == nil && len(parsed.Docs) > 0 {
		r.tree = parsed.Docs[0].Body
	}
	return r.sheet(f)
}

// mostNested is how deep brackets may stand in each other: a sheet has two.
const mostNested = 16

// anchor is what a value begins with that names another place of the file, or is named by it (YAML 1.2 §6.9.2, §7.1).
var anchor = regexp.MustCompile(`(?:^|[:,\[{?-][ \t]+|[\[{,]|^[ \t]+)[&*][^ \t]|(?:^|[ \t{,])<<[ \t]*:`)

// costly finds what a small file can make a parser spend all memory and time on, and what a sheet never has: brackets within brackets, and
// places that stand for others.
func costly(raw []byte) (line int, why string) {
	depth := 0
	for text := range bytes.Lines(raw) {
		line++
		text, _, _ = bytes.Cut(text, []byte(" #"))
		if anchor.Match(text) {
			return line, "anchors, aliases and merges are not read: write the value out"
		}
		indent := len(text) - len(bytes.TrimLeft(text, " -\t"))
		if indent > 4*mostNested {
			return line, fmt.Sprintf("nested deeper than %d levels", mostNested)
		}
		for _, c := range text {
			switch c {
			case '[', '{':
				depth++
			case ']', '}':
				depth = max(0, depth-1)
			}
			if depth > mostNested {
				return line, fmt.Sprintf("brackets nested deeper than %d levels", mostNested)
			}
		}
	}
	return 0, ""
}

// syntax turns the YAML library's error, "[3:5] message" and a picture of the file, into one line.
func syntax(name string, err error) error {
	msg, _, _ := strings.Cut(err.Error(), "\n")
	line := 0
	if rest, ok := strings.CutPrefix(msg, "["); ok {
		if place, text, ok := strings.Cut(rest, "] "); ok {
			number, _, _ := strings.Cut(place, ":")
			line, _ = strconv.Atoi(number)
			msg = text
		}
	}
	return flaw{name, line, wiretext.Clean(msg)}
}

// line finds where a field stands, by its YAML path; 0 if it cannot be told.
func (r reading) line(path string) int {
	if r.tree == nil {
		return 0
	}
	p, err := yaml.PathString(path)
	if err != nil {
		return 0
	}
	node, err := p.FilterNode(r.tree)
	if err != nil || node == nil || node.GetToken() == nil {
		return 0
	}
	return node.GetToken().Position.Line
}

func (r reading) flaw(path, format string, args ...any) error {
	return flaw{r.name, r.line(path), fmt.Sprintf(format, args...)}
}

func (r reading) sheet(f fileSheet) (*site.Sheet, error) {
	s := &site.Sheet{Name: wiretext.Clean(f.Site), Source: r.name}
	if len(f.Networks) == 0 {
		return nil, flaw{r.name, 0, "no networks are given; a sheet has at least one, with its prefixes"}
	}
	for i, n := range f.Networks {
		network, err := r.network(fmt.Sprintf("$.networks[%d]", i), n)
		if err != nil {
			return nil, err
		}
		s.Networks = append(s.Networks, network)
	}
	for i, x := range f.Services {
		path := fmt.Sprintf("$.services[%d]", i)
		t, err := target.Parse(x.Target)
		if err != nil || t.IsZero() {
			return nil, r.flaw(path+".target", "target %q: give a name, an address, name:port, [v6]:port or a URL", clip(x.Target))
		}
		if x.DelayMS < 0 {
			return nil, r.flaw(path+".delay_ms", "delay_ms %d: give milliseconds above zero", x.DelayMS)
		}
		s.Services = append(s.Services, site.Service{Target: t, Delay: time.Duration(x.DelayMS) * time.Millisecond})
	}
	return s, nil
}

func clip(s string) string {
	if len(s) > 60 {
		s = s[:57] + "..."
	}
	return wiretext.Clean(s)
}

func (r reading) network(path string, f fileNetwork) (n site.Network, err error) {
	n = site.Network{Name: wiretext.Clean(f.Name), Domain: wiretext.Clean(strings.ToLower(f.Domain)), Switch: wiretext.Clean(f.Switch),
		VLAN: f.VLAN}
	if len(f.Prefixes) == 0 {
		return n, r.flaw(path, "prefixes are missing; give them as [172.27.40.0/24]")
	}
	for i, text := range f.Prefixes {
		at := fmt.Sprintf("%s.prefixes[%d]", path, i)
		p, err := netip.ParsePrefix(text)
		if err != nil {
			return n, r.flaw(at, "prefix %q: %s", clip(text), prefixTrouble(text))
		}
		if p != p.Masked() {
			return n, r.flaw(at, "prefix %q: it has host bits; the network is %v", clip(text), p.Masked())
		}
		n.Prefixes = append(n.Prefixes, p)
	}
	if n.VLAN < 0 || n.VLAN > 4094 {
		return n, r.flaw(path+".vlan", "vlan %d: give 1 to 4094 (IEEE 802.1Q)", n.VLAN)
	}
	if n.Gateways, err = r.addresses(path+".gateways", f.Gateways); err != nil {
		return n, err
	}
	for i, g := range n.Gateways {
		if !n.Contains(g) && !g.IsLinkLocalUnicast() {
			return n, r.flaw(fmt.Sprintf("%s.gateways[%d]", path, i), "gateway %v lies in none of the network's prefixes", g)
		}
	}
	for i, text := range f.GatewayHardware {
		h, err := endpoint.ParseHardware(text)
		if err != nil {
			return n, r.flaw(fmt.Sprintf("%s.gateway_hardware[%d]", path, i), "%v", err)
		}
		n.Routers = append(n.Routers, h)
	}
	if n.DHCP, err = r.addresses(path+".dhcp_servers", f.DHCPServers); err != nil {
		return n, err
	}
	if n.Resolvers, err = r.addresses(path+".resolvers", f.Resolvers); err != nil {
		return n, err
	}
	if f.Port != nil {
		switch f.Port.Duplex {
		case "":
		case "full":
			n.Duplex = endpoint.FullDuplex
		case "half":
			n.Duplex = endpoint.HalfDuplex
		default:
			return n, r.flaw(path+".port.duplex", "duplex %q: give full or half", clip(f.Port.Duplex))
		}
		if n.SpeedMbit = f.Port.SpeedMbit; n.SpeedMbit < 0 {
			return n, r.flaw(path+".port.speed_mbit", "speed_mbit %d: give Mbit/s above zero", n.SpeedMbit)
		}
	}
	for i, x := range f.Ranges {
		at := fmt.Sprintf("%s.ranges[%d]", path, i)
		from, errFrom := netip.ParseAddr(x.From)
		to, errTo := netip.ParseAddr(x.To)
		ends := [2]netip.Addr{from.Unmap(), to.Unmap()}
		switch {
		case errFrom != nil || errTo != nil:
			return n, r.flaw(at+".from", "range %q to %q: give two addresses", clip(x.From), clip(x.To))
		case ends[0].Is6() != ends[1].Is6() || ends[1].Less(ends[0]):
			return n, r.flaw(at+".from", "range %v to %v: the end lies before the beginning", ends[0], ends[1])
		case !n.Contains(ends[0]) || !n.Contains(ends[1]):
			return n, r.flaw(at+".from", "range %v to %v lies outside the network's prefixes", ends[0], ends[1])
		}
		n.Ranges = append(n.Ranges, site.Range{From: ends[0], To: ends[1], Use: wiretext.Clean(x.Use)})
	}
	for i, x := range f.Addresses {
		at := fmt.Sprintf("%s.addresses[%d]", path, i)
		one, err := r.addresses(at, []string{x.Address})
		switch {
		case err != nil:
			return n, r.flaw(at+".address", "address %q is none", clip(x.Address))
		case !n.Contains(one[0]):
			return n, r.flaw(at+".address", "address %v lies outside the network's prefixes", one[0])
		}
		fixed := site.Fixed{Address: one[0], Name: wiretext.Clean(strings.ToLower(x.Name))}
		if other, taken := n.Holder(one[0]); taken {
			return n, r.flaw(at+".address", "address %v is given twice, to %s and %s", one[0], other.Name, fixed.Name)
		}
		if x.Hardware != "" {
			if fixed.Hardware, err = endpoint.ParseHardware(x.Hardware); err != nil {
				return n, r.flaw(at+".hardware", "%v", err)
			}
		}
		n.Fixed = append(n.Fixed, fixed)
	}
	return n, nil
}

func prefixTrouble(text string) string {
	addr, length, ok := strings.Cut(text, "/")
	if !ok {
		return "the length is missing, as in 172.27.40.0/24"
	}
	if a, err := netip.ParseAddr(addr); err == nil {
		if bits, err := strconv.Atoi(length); err == nil && bits > a.BitLen() {
			return fmt.Sprintf("longer than %d", a.BitLen())
		}
		return "the length is no number, as in 172.27.40.0/24"
	}
	return "the address is none, as in 172.27.40.0/24"
}

func (r reading) addresses(path string, texts []string) (out []netip.Addr, err error) {
	for i, text := range texts {
		a, err := netip.ParseAddr(text)
		if err != nil {
			return nil, r.flaw(fmt.Sprintf("%s[%d]", path, i), "address %q is none", clip(text))
		}
		if a = a.Unmap(); !slices.Contains(out, a) {
			out = append(out, a)
		}
	}
	return out, nil
}

// Write writes a sheet as a file that Read reads.
func Write(s *site.Sheet) ([]byte, error) {
	f := fileSheet{Site: s.Name}
	for _, n := range s.Networks {
		x := fileNetwork{Name: n.Name, Gateways: texts(n.Gateways), GatewayHardware: texts(n.Routers), DHCPServers: texts(n.DHCP),
			Resolvers: texts(n.Resolvers), Prefixes: texts(n.Prefixes), Domain: n.Domain, Switch: n.Switch, VLAN: n.VLAN}
		if n.SpeedMbit > 0 {
			x.Port = &filePort{SpeedMbit: n.SpeedMbit}
			if n.Duplex != endpoint.DuplexUnknown {
				x.Port.Duplex = n.Duplex.String()
			}
		}
		for _, r := range n.Ranges {
			x.Ranges = append(x.Ranges, fileRange{r.From.String(), r.To.String(), r.Use})
		}
		for _, a := range n.Fixed {
			x.Addresses = append(x.Addresses, fileFixed{a.Address.String(), a.Name, a.Hardware.String()})
		}
		f.Networks = append(f.Networks, x)
	}
	for _, x := range s.Services {
		f.Services = append(f.Services, fileService{x.Target.String(), int(x.Delay / time.Millisecond)})
	}
	return yaml.MarshalWithOptions(f, yaml.IndentSequence(true))
}

func texts[T fmt.Stringer](list []T) (out []string) {
	for _, a := range list {
		out = append(out, a.String())
	}
	return out
}
