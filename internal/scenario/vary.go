package scenario

import (
	"bytes"
	"errors"
	"fmt"
	"path"
	"regexp"
	"time"

	"github.com/goccy/go-yaml"
)

// Variation is how a scenario differs from what its file says: the same fault at another place.
type Variation struct {
	Network string  // stands for the first two octets of the private networks, as "10.131."; "": as they are
	Pace    float64 // all delays are multiplied by it; 0: as they are
	Wide    bool    // the pier's segment has a /22 in place of a /24, but where the mask is what the scenario is about
	Gateway string  // the last octet of the pier's gateway, in place of 1; "": as it is
}

// Variations are those by which a seed chooses. The first leaves all as it is.
var Variations = []Variation{{}, {Network: "10.131.", Pace: 0.5, Wide: true, Gateway: "251"}, {Network: "192.168.", Pace: 1.7},
	{Network: "172.16.", Pace: 1, Gateway: "126"}, {Network: "10.0.", Pace: 2, Wide: true}}

const usualNetwork = "172.27."

var (
	onPier      = regexp.MustCompile(`(172\.27\.40\.\d+)/24`)
	givenBits   = regexp.MustCompile(`\bbits: 24`)
	pierGateway = regexp.MustCompile(`172\.27\.40\.1\b`)
	maskMatters = regexp.MustCompile(`(?m)^mask_matters: true$`)
)

// text writes a file as the variation has it.
func (v Variation) text(raw []byte) []byte {
	if v.Wide {
		raw = onPier.ReplaceAll(raw, []byte("$1/22"))
		raw = givenBits.ReplaceAll(raw, []byte("bits: 22"))
	}
	if v.Gateway != "" {
		raw = pierGateway.ReplaceAll(raw, []byte("172.27.40."+v.Gateway))
	}
	if v.Network != "" {
		raw = bytes.ReplaceAll(raw, []byte(usualNetwork), []byte(v.Network))
	}
	return raw
}

func (v Variation) file(dir, name string) ([]byte, error) {
	raw, err := files.ReadFile(path.Join(dir, name+".yaml"))
	return v.text(raw), err
}

// slowByFault is a delay that is the fault itself, and no property of the place.
const slowByFault = 50 * time.Millisecond

// pace multiplies all delays that are no fault.
func (s *Site) pace(by float64) {
	for _, g := range s.Segments {
		if time.Duration(g.Delay) <= slowByFault {
			g.Delay = Duration(float64(g.Delay) * by)
		}
	}
}

// LoadVaried reads a scenario by name, as a variation has it.
func LoadVaried(name string, v Variation) (*Scenario, error) {
	plain, err := Variation{}.file("cases", name)
	if err != nil {
		return Load(name) // which says what is wrong with the name
	}
	v.Wide = v.Wide && !maskMatters.Match(plain)
	raw := v.text(plain)
	s, err := Parse(raw, func(site string) ([]byte, error) { return v.file("sites", site) })
	if err != nil {
		return nil, fmt.Errorf("%s.yaml, varied: %w", name, err)
	}
	s.Name, s.variation = name, v
	if v.Pace > 0 {
		s.Site.pace(v.Pace)
	}
	return s, nil
}

// ErrTogether is the error for two scenarios that cannot be had at once.
var ErrTogether = errors.New("they change the same things")

// Both builds one scenario in which two faults are at work at once. The complaint, the target and the expectation are those of the first,
// the one nearer to the host. Two that change the same node or segment, or ask for different things, cannot be had together.
func Both(nearer, farther string) (*Scenario, error) {
	var a, b caseFile
	for name, into := range map[string]*caseFile{nearer: &a, farther: &b} {
		raw, err := files.ReadFile(path.Join("cases", name+".yaml"))
		if err != nil {
			return nil, fmt.Errorf("scenario %q: %w", clip(name), ErrUnknown)
		}
		if err := yaml.UnmarshalWithOptions(raw, into, yaml.Strict()); err != nil {
			return nil, oneLine(err)
		}
	}
	plain := func(c caseFile) bool {
		return len(c.Timeline.Events) == 0 && c.Sheet == "" && c.Clock == 0 && c.Interface == ""
	}
	if a.SiteName != b.SiteName || a.Target != b.Target || !plain(a) || !plain(b) {
		return nil, ErrTogether
	}
	for name := range b.Nodes {
		if _, same := a.Nodes[name]; same {
			return nil, ErrTogether
		}
	}
	for name := range b.Segments {
		if _, same := a.Segments[name]; same {
			return nil, ErrTogether
		}
	}
	s, err := Load(nearer)
	if err != nil {
		return nil, err
	}
	if err := b.lay(s.Site); err != nil {
		return nil, err
	}
	s.Name = nearer + " + " + farther
	return s, s.Site.check()
}

// Doubles lists the pairs of faults that can be had together, the nearer one first: each of the first list with each of the second that
// changes other things.
func Doubles(nearer, farther []string) (out [][2]string) {
	for _, a := range nearer {
		for _, b := range farther {
			if _, err := Both(a, b); err == nil {
				out = append(out, [2]string{a, b})
			}
		}
	}
	return out
}
