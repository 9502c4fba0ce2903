package namespaces

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/miekg/dns"
	"github.com/vishvananda/netlink"
	"github.com/vishvananda/netns"
	"golang.org/x/sys/unix"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/machine/wire"
	"passepartout/internal/responder"
	"passepartout/internal/scenario"
)

// Lab is a scenario as running namespaces. Close ends all of it.
type Lab struct {
	// ResolvConf and Hosts, if set, replace the endpoint's files by this content.
	ResolvConf, Hosts string
	Began             time.Time // of the timeline
	Env               []string  // what programs on the endpoint have in their environment besides

	scenario  *scenario.Scenario
	authority *scenario.Authority
	dir       string
	hub       netns.NsHandle // holds the switches
	nodes     map[string]netns.NsHandle
	closers   []func()
	movers    []func()                  // what brings names to the addresses that the timeline gives them
	was       map[string]*scenario.Node // what the timeline has made of nodes; of the goroutine that follows it
}

// Unavailable says why a lab cannot be built here, or "" if it can.
func Unavailable() string {
	for _, program := range []string{"dnsmasq", "nft", "ethtool"} {
		if _, err := exec.LookPath(program); err != nil {
			return program + " is not installed"
		}
	}
	h, err := New()
	if err != nil {
		return fmt.Sprintf("network namespaces are not permitted: %v", err)
	}
	h.Close()
	return ""
}

// New makes a network namespace without entering it.
func New() (netns.NsHandle, error) {
	type result struct {
		h   netns.NsHandle
		err error
	}
	c := make(chan result)
	go func() {
		runtime.LockOSThread() // never unlocked: the thread belongs to the new namespace and ends with the goroutine
		h, err := netns.New()
		c <- result{h, err}
	}()
	r := <-c
	return r.h, r.err
}

// In runs f on a thread of its own inside a namespace. Sockets that f opens stay there, and so do processes that it starts.
func In(h netns.NsHandle, f func() error) error {
	c := make(chan error)
	go func() {
		runtime.LockOSThread()
		if err := netns.Set(h); err != nil {
			c <- err
			return
		}
		c <- f()
	}()
	return <-c
}

// Build makes the namespaces of a scenario and starts its services.
func Build(s *scenario.Scenario) (lab *Lab, err error) {
	lab = &Lab{scenario: s, authority: scenario.NewAuthority(time.Duration(s.Clock)), nodes: map[string]netns.NsHandle{}, hub: netns.None()}
	defer func() {
		if err != nil {
			lab.Close()
			lab = nil
		}
	}()
	if lab.dir, err = os.MkdirTemp("", "passepartout-lab-"); err != nil {
		return lab, err
	}
	if err = os.Chmod(lab.dir, 0o755); err != nil { // a run under another user reads files here
		return lab, err
	}
	if lab.hub, err = New(); err != nil {
		return lab, err
	}
	if err = In(lab.hub,
		func() error { return sysctl("ipv6/conf/all/disable_ipv6", "1", "ipv6/conf/default/disable_ipv6", "1") }); err != nil {
		return lab, err
	}
	var began atomic.Pointer[time.Time] // the segments carry frames before the timeline begins
	begin := func() {
		now := time.Now()
		lab.Began = now
		began.Store(&now)
	}
	begin()
	switches := map[string]*hub{}
	for name := range s.Site.Segments {
		switches[name] = &hub{shaped: s.Shaped(name),
			treat: func(at time.Time) scenario.Treatment { return s.TreatmentAt(name, at.Sub(*began.Load())) }}
	}
	cables := map[string]string{} // by node/port: the end in the hub
	number := 0
	for _, name := range s.Site.NodeNames() {
		if lab.nodes[name], err = New(); err != nil {
			return lab, err
		}
		if err = lab.wire(name, switches, cables, &number); err != nil {
			return lab, fmt.Errorf("node %s: %w", name, err)
		}
	}
	for name, h := range switches {
		if err = In(lab.hub, func() error { return h.start(name) }); err != nil {
			return lab, fmt.Errorf("segment %s: %w", name, err)
		}
		lab.closers = append(lab.closers, h.close)
		if spec := s.Site.Segments[name]; spec.Switch != "" {
			if err = In(lab.hub, func() error { return h.speak(name, spec) }); err != nil {
				return lab, fmt.Errorf("segment %s: %w", name, err)
			}
		}
	}
	for _, name := range s.Site.NodeNames() {
		if err = In(lab.nodes[name], func() error { return lab.serve(name) }); err != nil {
			return lab, fmt.Errorf("node %s: %w", name, err)
		}
	}
	for _, name := range s.Site.NodeNames() {
		if err = In(lab.nodes[name], func() error { return checkDuplicates(s.Site.Nodes[name]) }); err != nil {
			return lab, fmt.Errorf("node %s: %w", name, err)
		}
	}
	if err = lab.warm(); err != nil {
		return lab, err
	}
	for _, name := range s.Site.NodeNames() {
		if err = In(lab.nodes[name], func() error { return lab.remember(name) }); err != nil {
			return lab, fmt.Errorf("node %s: %w", name, err)
		}
	}
	begin()
	lab.followTimeline(cables)
	return lab, nil
}

// checkDuplicates sets the IPv6 addresses of ports that check them anew, now that all others are there, and waits for the outcome.
func checkDuplicates(node *scenario.Node) error {
	for _, name := range node.PortNames() {
		if !node.Ports[name].Checks {
			continue
		}
		link, err := netlink.LinkByName(name)
		if err != nil {
			return err
		}
		if err := sysctl("ipv6/conf/"+name+"/accept_dad", "1", "ipv6/conf/"+name+"/dad_transmits", "1"); err != nil {
			return err
		}
		for _, a := range node.Ports[name].Addresses {
			if a.Addr().Is4() {
				continue
			}
			addr := &netlink.Addr{IPNet: &net.IPNet{IP: a.Addr().AsSlice(), Mask: net.CIDRMask(a.Bits(), 128)}}
			if err := errors.Join(netlink.AddrDel(link, addr), netlink.AddrAdd(link, addr)); err != nil {
				return err
			}
		}
		for range 60 {
			time.Sleep(50 * time.Millisecond)
			all, err := netlink.AddrList(link, netlink.FAMILY_V6)
			if err != nil {
				return err
			}
			if !slices.ContainsFunc(all, func(a netlink.Addr) bool {
				return a.Flags&unix.IFA_F_TENTATIVE != 0 && a.Flags&unix.IFA_F_DADFAILED == 0
			}) {
				break
			}
		}
	}
	return nil
}

// warm makes the nodes that are not on the endpoint's segments know each other already, as routers and servers in service do.
func (l *Lab) warm() error {
	site := l.scenario.Site
	near := map[string]bool{}
	for _, p := range site.Nodes[site.Endpoint].Ports {
		if p.Alone() {
			continue
		}
		near[p.Segment] = !site.Segments[p.Segment].Acquainted
	}
	for _, a := range site.NodeNames() {
		err := In(l.nodes[a], func() error {
			for _, own := range site.Nodes[a].PortNames() {
				segment := site.Nodes[a].Ports[own].Segment
				link, err := netlink.LinkByName(own)
				if segment == "" || near[segment] || err != nil || site.Nodes[a].Ports[own].Down {
					continue
				}
				for _, b := range site.NodeNames() {
					for _, other := range site.Nodes[b].PortNames() {
						p := site.Nodes[b].Ports[other]
						if a == b || p.Segment != segment || p.Down || p.Unplugged {
							continue
						}
						hw := site.HardwareOf(b, other)
						state := unix.NUD_PERMANENT
						if site.Segments[segment].Acquainted { // as it is after they have spoken
							state = unix.NUD_REACHABLE
						}
						for _, addr := range p.Addresses {
							family := unix.AF_INET
							if addr.Addr().Is6() {
								family = unix.AF_INET6
							}
							entry := &netlink.Neigh{LinkIndex: link.Attrs().Index, Family: family, State: state, IP: addr.Addr().AsSlice(),
								HardwareAddr: hw[:]}
							if err := netlink.NeighSet(entry); err != nil {
								return fmt.Errorf("%s knows %s: %w", a, b, err)
							}
						}
					}
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// remember puts the entries into a node's neighbour tables that the scenario wants there from the start; it runs inside the node's
// namespace.
func (l *Lab) remember(name string) error {
	node := l.scenario.Site.Nodes[name]
	for _, e := range node.Neighbours {
		for _, portName := range node.PortNames() {
			if !slices.ContainsFunc(node.Ports[portName].Addresses,
				func(own netip.Prefix) bool { return own.Masked().Contains(e.Address) }) {
				continue
			}
			link, err := netlink.LinkByName(portName)
			if err != nil {
				return err
			}
			state, family := unix.NUD_PERMANENT, unix.AF_INET
			if e.Address.Is6() {
				family = unix.AF_INET6
			}
			// as the last word heard left it; for the time of the test no other word changes it, as if its sender kept repeating it
			if !e.Pinned {
				state = unix.NUD_REACHABLE
				if err := sysctl("ipv4/neigh/"+portName+"/locktime", "100000"); err != nil {
					return err
				}
			}
			hw := l.scenario.Site.FirstHardware(e.Of)
			entry := &netlink.Neigh{LinkIndex: link.Attrs().Index, Family: family, State: state, IP: e.Address.AsSlice(),
				HardwareAddr: hw[:]}
			if err := netlink.NeighSet(entry); err != nil {
				return fmt.Errorf("neighbour %v: %w", e.Address, err)
			}
		}
	}
	return nil
}

// followTimeline pulls and plugs cables, moves names and changes nodes when the timeline says so.
func (l *Lab) followTimeline(cables map[string]string) {
	done := make(chan struct{})
	l.closers = append(l.closers, func() { close(done) })
	go func() {
		for {
			next, more := l.scenario.Timeline.Next(time.Since(l.Began))
			if !more {
				return
			}
			select {
			case <-done:
				return
			case <-time.After(time.Until(l.Began.Add(next))):
			}
			for cable, end := range cables {
				node, port, _ := strings.Cut(cable, "/")
				if !slices.ContainsFunc(l.scenario.Timeline.Events, func(e scenario.Event) bool { return e.Unplug == cable }) {
					continue
				}
				_ = In(l.hub, func() error {
					link, err := netlink.LinkByName(end)
					if err != nil {
						return err
					}
					if l.scenario.Timeline.Unplugged(node, port, time.Since(l.Began)) {
						return netlink.LinkSetDown(link)
					}
					return netlink.LinkSetUp(link)
				})
			}
			for _, f := range l.movers {
				f()
			}
			for _, name := range l.scenario.Timeline.Changing() {
				_ = In(l.nodes[name], func() error { return l.become(name) })
			}
		}
	}()
}

// On runs f inside the namespace of a node.
func (l *Lab) On(node string, f func() error) error { return In(l.nodes[node], f) }

// AtSwitches runs f where the switches are: the other end of every cable.
func (l *Lab) AtSwitches(f func() error) error { return In(l.hub, f) }

// Close ends the services and lets the namespaces go.
func (l *Lab) Close() {
	for _, f := range slices.Backward(l.closers) {
		f()
	}
	for _, h := range l.nodes {
		h.Close()
	}
	if l.hub.IsOpen() {
		l.hub.Close()
	}
	if l.dir != "" {
		os.RemoveAll(l.dir)
	}
}

// wire gives a node its ports, addresses, routes and filter.
func (l *Lab) wire(name string, switches map[string]*hub, cables map[string]string, number *int) error {
	node, ns := l.scenario.Site.Nodes[name], l.nodes[name]
	for _, portName := range node.PortNames() {
		if node.Ports[portName].Tunnel {
			if err := In(ns, func() error { return l.tunnel(portName, node.Ports[portName]) }); err != nil {
				return fmt.Errorf("port %s: %w", portName, err)
			}
			continue
		}
		if node.Ports[portName].Bridge {
			if err := In(ns, func() error { return l.bridge(portName, node.Ports[portName]) }); err != nil {
				return fmt.Errorf("port %s: %w", portName, err)
			}
			continue
		}
		*number++
		inside, outside := "n"+strconv.Itoa(*number), "s"+strconv.Itoa(*number)
		cables[name+"/"+portName] = outside
		hw := l.scenario.Site.HardwareOf(name, portName)
		err := In(l.hub, func() error {
			attrs := netlink.NewLinkAttrs()
			attrs.Name = outside
			veth := &netlink.Veth{LinkAttrs: attrs, PeerName: inside, PeerHardwareAddr: hw[:]}
			// at its place from the start: to move and to rename it later would cost more than all the rest
			if !node.Ports[portName].Worn() {
				inside = portName
				veth.PeerName, veth.PeerNamespace = inside, netlink.NsFd(int(ns))
			}
			if err := netlink.LinkAdd(veth); err != nil {
				return fmt.Errorf("cable: %w", err)
			}
			if node.Ports[portName].Worn() { // its end stays here: what it brings is handed on by worn
				peer, err := netlink.LinkByName(inside)
				if err == nil {
					err = netlink.LinkSetUp(peer)
				}
				if err != nil {
					return err
				}
			}
			if node.Ports[portName].Unplugged {
				return nil
			}
			return netlink.LinkSetUp(veth)
		})
		if err != nil {
			return err
		}
		if node.Ports[portName].Worn() {
			if inside, err = l.worn(node.Ports[portName], inside, hw, ns); err != nil {
				return fmt.Errorf("port %s: %w", portName, err)
			}
		}
		switches[node.Ports[portName].Segment].ports = append(switches[node.Ports[portName].Segment].ports, outside)
		if err := In(ns, func() error { return l.configurePort(inside, portName, node.Ports[portName]) }); err != nil {
			return fmt.Errorf("port %s: %w", portName, err)
		}
	}
	return In(ns, func() error { return configureNode(name, node) })
}

// bridge makes a bridge on which nothing stands: up, without a carrier.
func (l *Lab) bridge(name string, p *scenario.Port) error {
	attrs := netlink.NewLinkAttrs()
	attrs.Name = name
	bridge := &netlink.Bridge{LinkAttrs: attrs}
	if err := netlink.LinkAdd(bridge); err != nil {
		return err
	}
	if err := l.configurePort(name, name, p); err != nil {
		return err
	}
	// One that never had a member has a carrier; one whose last container has ended has none.
	guest := &netlink.Veth{LinkAttrs: netlink.LinkAttrs{Name: "guest", MasterIndex: bridge.Attrs().Index}, PeerName: "guest-end"}
	if err := netlink.LinkAdd(guest); err != nil {
		return err
	}
	return netlink.LinkDel(guest)
}

func (l *Lab) configurePort(was, name string, p *scenario.Port) error {
	link, err := netlink.LinkByName(was)
	if err != nil {
		return err
	}
	if was != name {
		if err := netlink.LinkSetName(link, name); err != nil {
			return err
		}
	}
	if p.ProxyARP {
		if err := sysctl("ipv4/conf/"+name+"/proxy_arp", "1", "ipv4/neigh/"+name+"/proxy_delay", "0"); err != nil {
			return err
		}
	}
	// Addresses are usable at once: the check for duplicates (RFC 4862 §5.4) would hold every scenario up by two seconds.
	if err := sysctl("ipv6/conf/"+name+"/accept_dad", "0", "ipv6/conf/"+name+"/accept_ra", "0"); err != nil {
		return err
	}
	withoutOffload(name)
	if p.MTU > 0 {
		if err := netlink.LinkSetMTU(link, p.MTU); err != nil {
			return err
		}
	}
	if err := netlink.LinkSetUp(link); err != nil {
		return err
	}
	for _, a := range p.Addresses {
		if err := l.setAddress(link, p, a); err != nil {
			return err
		}
	}
	return nil
}

// setAddress sets an address, or gives one that is there already its lifetime.
func (l *Lab) setAddress(link netlink.Link, p *scenario.Port, a netip.Prefix) error {
	addr := &netlink.Addr{IPNet: &net.IPNet{IP: a.Addr().AsSlice(), Mask: net.CIDRMask(a.Bits(), a.Addr().BitLen())}}
	if p.Leases(a) {
		addr.ValidLft = int(l.scenario.Site.LeaseLeft(p).Seconds())
		addr.PreferedLft = addr.ValidLft
	}
	if err := netlink.AddrReplace(link, addr); err != nil {
		return fmt.Errorf("address %v: %w", a, err)
	}
	return nil
}

func configureNode(name string, node *scenario.Node) error {
	lo, err := netlink.LinkByName("lo")
	if err != nil {
		return err
	}
	if !node.NoLoopback {
		if err := netlink.LinkSetUp(lo); err != nil {
			return err
		}
	}
	if err := setRoutes(node); err != nil {
		return err
	}
	if node.Forwards {
		if err := sysctl("ipv4/ip_forward", "1", "ipv6/conf/all/forwarding", "1"); err != nil {
			return err
		}
	}
	if node.NoEcho {
		if err := sysctl("ipv4/icmp_echo_ignore_all", "1", "ipv6/icmp/echo_ignore_all", "1"); err != nil {
			return err
		}
	}
	for _, p := range node.PortNames() { // after the routes: they could not be set on a port that is down
		if node.Ports[p].Down {
			link, err := netlink.LinkByName(p)
			if err != nil {
				return err
			}
			if err := netlink.LinkSetDown(link); err != nil {
				return err
			}
		}
	}
	return filter(node)
}

// setRoutes sets a node's routes.
func setRoutes(node *scenario.Node) error {
	for _, r := range node.Routes {
		if kind, ok := map[string]int{"blackhole": unix.RTN_BLACKHOLE, "unreachable": unix.RTN_UNREACHABLE,
			"prohibit": unix.RTN_PROHIBIT}[r.Refuse]; ok {
			if err := netlink.RouteAdd(
				&netlink.Route{Dst: &net.IPNet{IP: r.To.Addr().AsSlice(), Mask: net.CIDRMask(r.To.Bits(), r.To.Addr().BitLen())},
					Type: kind, Priority: r.Metric, Table: r.Table}); err != nil {
				return fmt.Errorf("route to %v: %w", r.To, err)
			}
			continue
		}
		route := &netlink.Route{Dst: &net.IPNet{IP: r.To.Addr().AsSlice(), Mask: net.CIDRMask(r.To.Bits(), r.To.Addr().BitLen())},
			Gw: r.Via.AsSlice(), Priority: r.Metric, Protocol: unix.RTPROT_BOOT, Table: r.Table}
		portName := r.Port
		for _, p := range node.PortNames() {
			for _, a := range node.Ports[p].Addresses {
				if portName == "" && a.Masked().Contains(r.Via) {
					portName = p
				}
			}
		}
		link, err := netlink.LinkByName(portName)
		if err != nil {
			return fmt.Errorf("route to %v: %w", r.To, err)
		}
		route.LinkIndex = link.Attrs().Index
		switch {
		case r.ByHand:
			route.Protocol = unix.RTPROT_STATIC
		case node.Ports[portName].Leased && r.To.Addr().Is4():
			route.Protocol = unix.RTPROT_DHCP
		}
		if r.Or.IsValid() { // one of the two for each flow, by addresses and ports
			if err := sysctl("ipv4/fib_multipath_hash_policy", "1"); err != nil {
				return err
			}
			for _, via := range []netip.Addr{r.Via, r.Or} {
				route.MultiPath = append(route.MultiPath, &netlink.NexthopInfo{LinkIndex: route.LinkIndex, Gw: via.AsSlice()})
			}
			route.Gw, route.LinkIndex = nil, 0
		}
		if r.OnLink {
			route.Flags = int(netlink.FLAG_ONLINK)
		}
		if err := netlink.RouteAdd(route); err != nil {
			return fmt.Errorf("route to %v via %v: %w", r.To, r.Via, err)
		}
	}
	for i, x := range node.Rules {
		rule := netlink.NewRule()
		rule.Family, rule.Priority, rule.Table = netlink.FAMILY_V4, 1000+i, x.Table
		if x.To.Addr().Is6() || x.From.Addr().Is6() {
			rule.Family = netlink.FAMILY_V6
		}
		rule.Src, rule.Dst = network(x.From), network(x.To)
		rule.Mark, rule.Invert = x.Mark, x.But
		if err := netlink.RuleAdd(rule); err != nil {
			return fmt.Errorf("rule for table %d: %w", x.Table, err)
		}
	}
	return nil
}

func network(p netip.Prefix) *net.IPNet {
	if !p.IsValid() {
		return nil
	}
	return &net.IPNet{IP: p.Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())}
}

// filter loads a node's rules and its address translation.
func filter(node *scenario.Node) error {
	var b strings.Builder
	b.WriteString("table inet lab {\n")
	for chain, hook := range map[string]string{"in": "input", "out": "output", "forward": "forward"} {
		fmt.Fprintf(&b, " chain %s {\n  type filter hook %s priority 0;\n", chain, hook)
		if chain == "out" && node.NoExpiry {
			b.WriteString("  icmp type time-exceeded drop\n  icmpv6 type time-exceeded drop\n")
		}
		if r := node.Expiries; chain == "out" && r != nil {
			fmt.Fprintf(&b, "  icmp type time-exceeded limit rate over %d/minute burst %d packets drop\n", r.PerMinute, r.Burst)
		}
		if r := node.Echoes; chain == "in" && r != nil {
			fmt.Fprintf(&b, "  icmp type echo-request limit rate over %d/minute burst %d packets drop\n", r.PerMinute, r.Burst)
			fmt.Fprintf(&b, "  icmpv6 type echo-request limit rate over %d/minute burst %d packets drop\n", r.PerMinute, r.Burst)
		}
		for _, r := range node.Filter {
			if r.Chain == chain {
				b.WriteString("  " + ruleText(r) + "\n")
			}
		}
		b.WriteString(" }\n")
	}
	b.WriteString("}\n")
	if node.Masquerade != "" {
		fmt.Fprintf(&b, "table ip nat {\n chain post {\n  type nat hook postrouting priority 100;\n  oifname %q masquerade\n }\n}\n",
			node.Masquerade)
	}
	if len(node.Captures) > 0 {
		fmt.Fprintf(&b, "table ip captures {\n chain pre {\n  type nat hook prerouting priority -100;\n")
		for _, c := range node.Captures {
			to := "fib daddr type != local"
			if c.To.IsValid() {
				to = "ip daddr " + c.To.String()
			}
			fmt.Fprintf(&b, "  iifname %q %s tcp dport %d redirect to :%d\n", node.PortNames()[0], to, c.Port, c.At)
		}
		b.WriteString(" }\n}\n")
	}
	if len(node.Filter)+len(node.Captures) == 0 && !node.NoExpiry && node.Expiries == nil && node.Echoes == nil && node.Masquerade == "" {
		return nil
	}
	cmd := exec.Command("nft", "-f", "-")
	cmd.Stdin = strings.NewReader(b.String())
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("nft: %w: %s", err, out)
	}
	return nil
}

func ruleText(r scenario.Rule) string {
	var parts []string
	about := func(which string, p netip.Prefix) {
		family := "ip"
		if p.Addr().Is6() {
			family = "ip6"
		}
		if p.IsValid() {
			parts = append(parts, fmt.Sprintf("%s %s %v", family, which, p))
		}
	}
	about("saddr", r.From)
	about("daddr", r.To)
	switch {
	case r.Port != 0:
		parts = append(parts, fmt.Sprintf("%s dport %d", r.Proto, r.Port))
	case r.Proto == "icmp":
		parts = append(parts, "meta l4proto { icmp, ipv6-icmp }")
	case r.Proto != "":
		parts = append(parts, "meta l4proto "+r.Proto)
	}
	action := map[string]string{"drop": "drop", "prohibit": "reject with icmpx admin-prohibited",
		"no-host": "reject with icmpx host-unreachable", "no-net": "reject with icmpx no-route"}[r.Action]
	return strings.Join(append(parts, action), " ")
}

// serve starts a node's services; it runs inside the node's namespace.
func (l *Lab) serve(name string) error {
	node := l.scenario.Site.Nodes[name]
	for _, web := range node.Web {
		listener, err := net.Listen("tcp", fmt.Sprintf(":%d", web.Port))
		if err != nil {
			return err
		}
		l.closers = append(l.closers, func() { listener.Close() })
		go func() { _ = web.Serve(listener, name+"."+l.scenario.Site.Domain, l.authority) }()
	}
	if node.Answers != 0 {
		conn, err := net.ListenPacket("udp", fmt.Sprintf(":%d", node.Answers))
		if err != nil {
			return err
		}
		l.closers = append(l.closers, func() { conn.Close() })
		go func() { _ = responder.Serve(conn, nil) }()
	}
	if node.Proxy != nil {
		listener, err := net.Listen("tcp", fmt.Sprintf(":%d", node.Proxy.Port))
		if err != nil {
			return err
		}
		l.closers = append(l.closers, func() { listener.Close() })
		go func() { _ = node.Proxy.Serve(listener, node.Hosts, l.dialFrom(name)) }()
	}
	for _, relay := range node.Relays {
		listener, err := net.Listen("tcp", fmt.Sprintf(":%d", relay.Port))
		if err != nil {
			return err
		}
		l.closers = append(l.closers, func() { listener.Close() })
		go func() { _ = relay.Serve(listener, l.dialFrom(name)) }()
	}
	for _, portName := range node.PortNames() {
		if err := l.ask(name, portName); err != nil {
			return err
		}
	}
	if node.MDNS != "" {
		conn, err := net.ListenPacket("udp", ":5353")
		if err != nil {
			return err
		}
		l.closers = append(l.closers, func() { conn.Close() })
		handler := dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
			if m := scenario.AnswerForSelf(node.MDNS, node.Own(), q); m != nil {
				_ = w.WriteMsg(m)
			}
		})
		go func() { _ = (&dns.Server{PacketConn: conn, Handler: handler}).ActivateAndServe() }()
	}
	if node.DNS == nil && node.DHCP == nil && node.Advertises == nil {
		return nil
	}
	own := node.DNS != nil && node.DNS.Odd()
	if own {
		if err := l.serveNames(name); err != nil {
			return err
		}
		if node.DHCP == nil && node.Advertises == nil {
			return nil
		}
	}
	args := []string{"--conf-file=/dev/null", "--no-daemon", "--no-resolv", "--no-hosts", "--no-ping",
		"--bind-interfaces", "--interface=" + node.PortNames()[0], "--log-facility=" + filepath.Join(l.dir, name+".log"),
		"--dhcp-leasefile=" + filepath.Join(l.dir, name+".leases")}
	if node.DNS == nil || own {
		args = append(args, "--port=0")
	} else {
		args = append(args, "--local=/"+node.DNS.Zone+"/")
		for _, own := range node.Resolvers {
			if own.IsLoopback() { // the machine's own programs ask it there
				args = append(args, "--listen-address="+own.String())
			}
		}
		life := strconv.Itoa(int(node.DNS.Life().Seconds()))
		args = append(args, "--local-ttl="+life)
		for record, addrs := range node.DNS.Records {
			if slices.ContainsFunc(l.scenario.Timeline.Events, func(e scenario.Event) bool { return e.Name == record }) {
				continue // kept in a file, which can change
			}
			args = append(args, "--host-record="+strings.Join(append([]string{record}, texts(addrs)...), ","))
		}
		if node.DNS.Forward.IsValid() {
			args = append(args, "--server="+node.DNS.Forward.String())
		}
	}
	if d := node.DHCP; d != nil {
		args = append(args,
			fmt.Sprintf("--dhcp-range=%v,%v,%v,%d", d.First, d.Last, net.IP(net.CIDRMask(d.Bits, 32)),
				int(time.Duration(d.Lease).Seconds())),
			"--dhcp-option=option:router,"+strings.Join(texts(d.Routers), ","),
			"--dhcp-option=option:dns-server,"+strings.Join(texts(d.Resolvers), ","), "--dhcp-option=option:domain-name,"+d.Domain)
		args = append(args, "--dhcp-authoritative")
		for number, text := range map[int]string{dhcp.OptCaptivePortal: d.Portal, dhcp.OptProxyConfig: d.ProxyFile} {
			if text != "" {
				args = append(args, fmt.Sprintf("--dhcp-option-force=%d,%s", number, text))
			}
		}
		for _, client := range d.Ignores {
			args = append(args, fmt.Sprintf("--dhcp-host=%v,ignore", l.scenario.Site.FirstHardware(client)))
		}
		if d.Exhausted {
			if err := l.exhaust(name, d); err != nil {
				return err
			}
		}
		for client, addr := range d.Fixed {
			if d.Exhausted {
				break
			}
			hw := l.scenario.Site.FirstHardware(client)
			args = append(args, fmt.Sprintf("--dhcp-host=%v,%v", hw, addr))
		}
	}
	if a := node.Advertises; a != nil {
		args = append(args, "--enable-ra", fmt.Sprintf("--dhcp-range=%v,ra-stateless,%d,24h", a.Prefix.Masked().Addr(), a.Prefix.Bits()),
			fmt.Sprintf("--ra-param=%s,0,%d", node.PortNames()[0], int(time.Duration(a.Lifetime).Seconds())))
		for i, r := range a.Resolvers {
			if i == 0 {
				args = append(args, "--dhcp-option=option6:dns-server")
			}
			args[len(args)-1] += ",[" + r.String() + "]"
		}
		if len(a.Search) > 0 {
			args = append(args, "--dhcp-option=option6:domain-search,"+strings.Join(a.Search, ","))
		}
		if a.Portal != "" { // its advertisements have no option for it
			args = append(args, fmt.Sprintf("--dhcp-option=option6:%d,%s", wire.OptCaptivePortal6, a.Portal))
		}
	}
	moving, err := l.movingNames(name)
	if err != nil {
		return err
	}
	if moving != "" {
		args = append(args, "--addn-hosts="+moving)
	}
	cmd := exec.Command("dnsmasq", args...)
	if moving != "" {
		l.movers = append(l.movers, func() {
			if _, err := l.movingNames(name); err == nil && cmd.Process != nil {
				_ = cmd.Process.Signal(unix.SIGHUP)
			}
		})
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	l.closers = append(l.closers, func() { _ = cmd.Process.Kill(); <-ended })
	want, table := ":0035 ", "udp" // port 53 in hexadecimal
	switch {
	case node.DNS != nil && !own:
	case node.DHCP != nil:
		want = ":0043 "
	default:
		want, table = ":0223 ", "udp6"
	}
	for range 200 {
		raw, err := os.ReadFile("/proc/thread-self/net/" + table)
		if err == nil && strings.Contains(string(raw), want) {
			return nil
		}
		select {
		case err := <-ended:
			ended <- err
			log, _ := os.ReadFile(filepath.Join(l.dir, name+".log"))
			return fmt.Errorf("dnsmasq ended: %v: %s", err, log)
		case <-time.After(10 * time.Millisecond):
		}
	}
	return errors.New("dnsmasq does not listen")
}

// dialFrom opens connections from a node.
func (l *Lab) dialFrom(name string) scenario.Dial {
	return func(ctx context.Context, to netip.AddrPort) (conn net.Conn, err error) {
		_ = In(l.nodes[name], func() error {
			conn, err = (&net.Dialer{}).DialContext(ctx, "tcp", to.String())
			return nil
		})
		return conn, err
	}
}

// serveNames starts a name service of our own, which does what no usual one can be set to do; it runs inside the node's namespace.
func (l *Lab) serveNames(name string) error {
	spec := l.scenario.Site.Nodes[name].DNS
	conn, err := net.ListenPacket("udp", ":53")
	if err != nil {
		return err
	}
	l.closers = append(l.closers, func() { conn.Close() })
	listener, err := net.Listen("tcp", ":53")
	if err != nil {
		return err
	}
	l.closers = append(l.closers, func() { listener.Close() })
	handler := spec.Handler(func(record string) (netip.Addr, bool) { return l.scenario.Timeline.Moved(record, time.Since(l.Began)) },
		func(q *dns.Msg) *dns.Msg {
			failed := new(dns.Msg).SetRcode(q, dns.RcodeServerFailure)
			_ = In(l.nodes[name], func() error {
				if m, _, err := (&dns.Client{Timeout: 4 * time.Second}).
					Exchange(q, netip.AddrPortFrom(spec.Forward, 53).String()); err == nil {
					failed = m
				}
				return nil
			})
			return failed
		})
	go func() { _ = (&dns.Server{PacketConn: conn, Handler: handler}).ActivateAndServe() }()
	go func() { _ = (&dns.Server{Listener: listener, Handler: handler}).ActivateAndServe() }()
	return nil
}

// movingNames writes the file of names that the timeline moves, as they are now; "" where there are none.
func (l *Lab) movingNames(node string) (path string, err error) {
	var b strings.Builder
	dns := l.scenario.Site.Nodes[node].DNS
	for _, e := range l.scenario.Timeline.Events {
		if dns == nil || e.Name == "" {
			continue
		}
		addrs := dns.Records[e.Name]
		if a, moved := l.scenario.Timeline.Moved(e.Name, time.Since(l.Began)); moved {
			addrs = []netip.Addr{a}
		}
		for _, a := range addrs {
			fmt.Fprintf(&b, "%v %s\n", a, e.Name)
		}
	}
	if b.Len() == 0 {
		return "", nil
	}
	path = filepath.Join(l.dir, node+".names")
	return path, os.WriteFile(path, []byte(b.String()), 0o644)
}

func texts(addrs []netip.Addr) (out []string) {
	for _, a := range addrs {
		out = append(out, a.String())
	}
	return out
}

// sysctl writes settings below /proc/sys/net of the calling thread's namespace, given as pairs.
func sysctl(pairs ...string) error {
	for i := 0; i < len(pairs); i += 2 {
		if err := os.WriteFile("/proc/sys/net/"+pairs[i], []byte(pairs[i+1]), 0o644); err != nil {
			return err
		}
	}
	return nil
}
