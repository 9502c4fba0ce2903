package endpoint

import (
	"io"
	"slices"
	"strings"

	"passepartout/internal/core/wiretext"
)

// SwitchFile says where the system's library looks for hosts, and in which order (nsswitch.conf(5)).
const SwitchFile = "/etc/nsswitch.conf"

// NameSource is one service of the hosts line.
type NameSource struct {
	Service string
	// Whether the search ends with an outcome after which it usually goes on.
	EndsNotFound, EndsUnavailable bool
	// GoesOn: what it finds is given up for what the next one says.
	GoesOn bool
}

// usualSources are what the library does where nothing is said.
var usualSources = []NameSource{{Service: "files"}, {Service: "dns"}}

// mostSources bounds what a file of rubbish can fill.
const mostSources = 16

// ParseSwitching reads the hosts line of an nsswitch.conf; of several, the last counts. Without one it gives nil.
func ParseSwitching(r io.Reader) (out []NameSource) {
	_ = eachLine(r, func(_ int, line string) {
		line, _, _ = strings.Cut(line, "#")
		database, rest, ok := strings.Cut(line, ":")
		if !ok || strings.TrimSpace(database) != "hosts" {
			return
		}
		out = []NameSource{}
		rest = strings.NewReplacer("[", " [", "]", "] ").Replace(rest)
		in := false // within brackets
		for _, word := range strings.Fields(rest) {
			opens := strings.HasPrefix(word, "[")
			switch {
			case (opens || in) && len(out) > 0:
				out[len(out)-1].take(strings.Trim(word, "[]"))
				in = !strings.HasSuffix(word, "]")
			case opens || in:
				in = !strings.HasSuffix(word, "]")
			case len(out) < mostSources:
				out = append(out, NameSource{Service: wiretext.Clean(word)})
			}
		}
	})
	return out
}

// take reads one STATUS=ACTION, the status perhaps negated.
func (s *NameSource) take(word string) {
	status, action, ok := strings.Cut(strings.ToLower(word), "=")
	if !ok {
		return
	}
	status, not := strings.CutPrefix(status, "!")
	ends := action == "return"
	for name, end := range map[string]*bool{"notfound": &s.EndsNotFound, "unavail": &s.EndsUnavailable} {
		if (name == status) != not {
			*end = ends
		}
	}
	if (status == "success") != not {
		s.GoesOn = !ends
	}
}

// Way is one of the ways by which the system finds the addresses of a name.
type Way uint8

// The ways.
const (
	ByHostsFile Way = iota
	ByDNS
)

// NameSources are where the system looks for hosts, in order.
func (e *Endpoint) NameSources() []NameSource {
	if e.Switching == nil {
		return usualSources
	}
	return e.Switching
}

// AsksDNS reports whether a service asks name servers: by itself, or through the system's manager.
func (s NameSource) AsksDNS() bool { return s.Service == "dns" || s.Service == "resolve" }

// IsHostsFile reports whether a service reads the hosts file.
func (s NameSource) IsHostsFile() bool { return s.Service == "files" }

// NameWays are the ways that the system takes for names, each when the one before does not know it. Services that are not known here are
// taken for ones that have nothing to say.
func (e *Endpoint) NameWays() (ways []Way) {
	for _, s := range e.NameSources() {
		over := s.EndsUnavailable
		switch {
		case s.IsHostsFile():
			ways, over = append(ways, ByHostsFile), s.EndsNotFound
		case s.AsksDNS():
			if !slices.Contains(ways, ByDNS) {
				ways = append(ways, ByDNS)
			}
			over = s.EndsNotFound
		case s.Service == "myhostname":
			over = s.EndsNotFound
		}
		if over {
			break
		}
	}
	return ways
}
