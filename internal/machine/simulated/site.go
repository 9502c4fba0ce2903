// Package simulated is a whole site in the process: every node a userspace TCP/IP stack, every service a real server on it. It needs no
// privilege and no network. Its endpoint is a machine.Machine like the live one.
package simulated

import (
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"gvisor.dev/gvisor/pkg/log"

	"passepartout/internal/machine"
	"passepartout/internal/scenario"
)

var errNoRoute = fmt.Errorf("simulated: %w", machine.ErrNoRoute)

// Privilege is how much the simulated system allows the program.
type Privilege uint8

// The privileges. Zero is the most usual on a technician's machine: all.
const (
	Full         Privilege = iota
	EchoOnly               // ICMP datagram sockets, no raw frames
	Unprivileged           // neither
)

// Options choose how a site is built. The zero value is the usual.
type Options struct {
	Privilege Privilege
}

// Site is a running simulated site. Close ends all of it.
type Site struct {
	Began time.Time // of the timeline

	nodes    map[string]*node
	segments map[string]*segment
	endpoint *endpointMachine
	closers  []func()
	once     sync.Once
}

// Build starts the site of a scenario.
func Build(s *scenario.Scenario, o Options) (*Site, error) {
	quiet()
	site := &Site{Began: time.Now(), nodes: map[string]*node{}, segments: map[string]*segment{}}
	for name := range s.Site.Segments {
		site.segments[name] = newSegment(s, name, site.Began)
	}
	for _, name := range s.Site.NodeNames() {
		n, err := newNode(name, s, site.segments, site.Began)
		if err != nil {
			site.Close()
			return nil, err
		}
		site.nodes[name] = n
	}
	site.warm(s.Site)
	authority := scenario.NewAuthority(time.Duration(s.Clock))
	for name, n := range site.nodes {
		if err := site.serve(n, s, authority); err != nil {
			site.Close()
			return nil, fmt.Errorf("%s: %w", name, err)
		}
	}
	n := site.nodes[s.Site.Endpoint]
	if n == nil {
		site.Close()
		return nil, errors.New("the endpoint is off")
	}
	site.endpoint = newMachine(n, o.Privilege, authority, s, site.Began)
	site.closers = append(site.closers, site.endpoint.programs.close)
	site.followTimeline(s)
	return site, nil
}

// quiet keeps gVisor's own log off standard error, which is the program's.
var quiet = sync.OnceFunc(func() { log.SetTarget(&log.Writer{Next: io.Discard}) })

// warm makes the nodes that are not on the endpoint's segments know each other already, as routers and servers in service do.
func (s *Site) warm(spec *scenario.Site) {
	near := map[*segment]bool{}
	if e := s.nodes[spec.Endpoint]; e != nil {
		for _, p := range e.ports {
			if p.segment == nil { // a tunnel
				continue
			}
			near[p.segment] = !spec.Segments[p.segment.name].Acquainted
			p.segment.acquainted = !near[p.segment]
		}
	}
	for _, g := range s.segments {
		if near[g] {
			continue
		}
		for _, a := range g.ports {
			for _, b := range g.ports {
				if a == b || a.dead() || b.dead() {
					continue
				}
				for _, prefix := range b.node.spec().Ports[b.name].Addresses {
					addr := prefix.Addr()
					_ = a.node.stack.AddStaticNeighbor(a.id, protoOf(addr), toTCPIP(addr), b.LinkAddress())
				}
			}
		}
	}
}

// Machine is the endpoint at which the technician stands.
func (s *Site) Machine() machine.Machine { return s.endpoint }

// Close stops every server and stack.
func (s *Site) Close() {
	s.once.Do(func() {
		for _, f := range s.closers {
			f()
		}
		for _, g := range s.segments {
			close(g.done)
		}
		for _, n := range s.nodes {
			n.close()
		}
	})
}
