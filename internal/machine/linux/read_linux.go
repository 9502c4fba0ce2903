package linux

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"slices"
	"time"

	"github.com/mdlayher/ethtool"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/leasefile"
	"passepartout/internal/machine"
	"passepartout/internal/plainfile"
)

const resolvConf = "/etc/resolv.conf"

// Read implements machine.Machine.
func (m *live) Read(ctx context.Context) (*endpoint.Endpoint, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	e := &endpoint.Endpoint{At: time.Now()}
	if name, err := os.Hostname(); err == nil {
		e.Host = wiretext.Clean(name)
	}
	links, err := dump(netlink.LinkList)
	if err != nil {
		return nil, translate("reading the interfaces", err)
	}
	names, domains := map[int]string{}, map[int]int{}
	for _, l := range links {
		names[l.Attrs().Index] = shownName(l.Attrs().Index, l.Attrs().Name)
		if vrf, is := l.(*netlink.Vrf); is {
			domains[l.Attrs().Index] = int(vrf.Table)
		}
	}
	// All at once: the kernel tells those of every interface, whichever is asked for.
	addrs, err := dump(func() ([]netlink.Addr, error) { return netlink.AddrList(nil, netlink.FAMILY_ALL) })
	if err != nil {
		e.Remarks = append(e.Remarks, fmt.Sprintf("addresses: %v", err))
	}
	addresses := map[int][]endpoint.Address{}
	for _, a := range addrs {
		if converted, ok := addressOf(a); ok {
			addresses[a.LinkIndex] = append(addresses[a.LinkIndex], converted)
		}
	}
	speeds := linkModes()
	for _, l := range links {
		if err := ctx.Err(); err != nil { // a machine may have thousands of them
			return nil, err
		}
		i := interfaceOf(l, speeds)
		stands := names[l.Attrs().MasterIndex] // no interface has the index 0
		if table, is := domains[l.Attrs().MasterIndex]; is {
			i.VRF, i.VRFTable = stands, table // it keeps its addresses
		} else {
			i.Master = stands
		}
		i.Addresses = addresses[l.Attrs().Index]
		e.Interfaces = append(e.Interfaces, i)
	}
	routes, err := dump(func() ([]netlink.Route, error) {
		return netlink.RouteListFiltered(netlink.FAMILY_ALL, &netlink.Route{Table: unix.RT_TABLE_UNSPEC}, netlink.RT_FILTER_TABLE)
	})
	if err != nil {
		e.Remarks = append(e.Remarks, fmt.Sprintf("routes: %v", err))
	}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	for _, r := range routes {
		e.Routes = append(e.Routes, routesOf(r, names)...)
	}
	if e.Rules, err = readRules(); err != nil {
		e.Remarks = append(e.Remarks, fmt.Sprintf("rules: %v", err))
	}
	neighbours, err := neighbourTable(names)
	if err != nil {
		e.Remarks = append(e.Remarks, fmt.Sprintf("neighbours: %v", err))
	}
	e.Neighbours = neighbours
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	readFiles(e)
	e.Proxies = proxySettings()
	e.TakeLeases(leasefile.Read(os.DirFS("/")))
	tellManagers(e)
	tellStored(e)
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	return e, nil
}

// proxySettings reads what this session's environment says, then what new sessions begin with.
func proxySettings() (out []endpoint.ProxySetting) {
	if p := endpoint.ProxyVariables("this session's environment", os.Getenv); !p.IsZero() {
		out = append(out, p)
	}
	const file = "/etc/environment"
	f, err := plainfile.Open(file)
	if err != nil {
		return out // it need not be there
	}
	defer f.Close()
	values := endpoint.ParseEnvironment(io.LimitReader(f, mostSettings))
	if p := endpoint.ProxyVariables(file, func(name string) string { return values[name] }); !p.IsZero() {
		out = append(out, p)
	}
	return out
}

// Interfaces implements machine.Machine.
func (m *live) Interfaces(ctx context.Context) (out []endpoint.Interface, err error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	links, err := dump(netlink.LinkList)
	if err != nil {
		return nil, translate("reading the interfaces", err)
	}
	speeds := linkModes()
	for _, l := range links {
		if i := interfaceOf(l, speeds); i.Kind != endpoint.LoopbackKind {
			out = append(out, i)
		}
	}
	return out, ctx.Err()
}

// Neighbours implements machine.Machine.
func (m *live) Neighbours(ctx context.Context) ([]endpoint.Neighbour, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	all, err := net.Interfaces()
	if err != nil {
		return nil, translate("reading the interfaces", err)
	}
	names := map[int]string{}
	for _, i := range all {
		names[i.Index] = shownName(i.Index, i.Name)
	}
	table, err := neighbourTable(names)
	if err != nil {
		return nil, translate("reading the neighbours", err)
	}
	return table, ctx.Err()
}

func neighbourTable(names map[int]string) (out []endpoint.Neighbour, err error) {
	raw, err := dump(func() ([]netlink.Neigh, error) { return netlink.NeighList(0, netlink.FAMILY_ALL) })
	for _, n := range raw {
		if converted, ok := neighbourOf(n, names); ok {
			out = append(out, converted)
		}
	}
	return out, err
}

// dump repeats a netlink dump that was interrupted by a change, and takes what there is if the table never rests.
func dump[T any](list func() ([]T, error)) (out []T, err error) {
	for range 4 {
		if out, err = list(); !errors.Is(err, netlink.ErrDumpInterrupted) {
			return out, err
		}
	}
	return out, nil
}

// mostSettings bounds what is read of a file of settings: the largest, lists of blocked names in a hosts file, have a few MiB.
const mostSettings = 16 << 20

func readFiles(e *endpoint.Endpoint) {
	open := func(path string, f func(io.Reader)) {
		file, err := plainfile.Open(path)
		if err != nil {
			if !errors.Is(err, fs.ErrNotExist) {
				e.Remarks = append(e.Remarks, fmt.Sprintf("cannot be read: %v", err))
			}
			return
		}
		defer file.Close()
		if info, err := file.Stat(); err == nil && info.Size() > mostSettings {
			e.Remarks = append(e.Remarks, fmt.Sprintf("%s: only the first %d MiB were read", path, mostSettings>>20))
		}
		f(io.LimitReader(file, mostSettings))
	}
	open(resolvConf, func(f io.Reader) {
		set := endpoint.ParseResolvConf(f, resolvConf)
		e.Resolvers, e.Search, e.Asking = set.Resolvers, set.Search, set.Asking
		e.Remarks = append(e.Remarks, set.Remarks...)
	})
	if e.StubBefore() {
		open(endpoint.StubFile, func(f io.Reader) { e.TakeBehind(endpoint.ParseResolvConf(f, endpoint.StubFile)) })
	}
	open(endpoint.SwitchFile, func(f io.Reader) { e.Switching = endpoint.ParseSwitching(f) })
	open(hostsFile, func(f io.Reader) {
		var remarks []string
		e.Hosts, remarks = endpoint.ParseHosts(f, hostsFile)
		e.Remarks = append(e.Remarks, remarks...)
	})
}

func interfaceOf(l netlink.Link, speeds map[string]*ethtool.LinkMode) endpoint.Interface {
	a := l.Attrs()
	i := endpoint.Interface{Index: a.Index, Name: shownName(a.Index, a.Name), MTU: a.MTU, Up: a.Flags&net.FlagUp != 0, Kind: kindOf(l),
		Driver: driverOf(a.Name)}
	i.Hardware, _ = endpoint.HardwareFrom(a.HardwareAddr)
	if i.Up {
		i.Carrier = endpoint.CarrierAbsent
		if a.RawFlags&unix.IFF_LOWER_UP != 0 {
			i.Carrier = endpoint.CarrierPresent
		}
	}
	if mode := speeds[a.Name]; mode != nil && i.Kind != endpoint.LoopbackKind {
		if mode.SpeedMegabits > 0 && mode.SpeedMegabits < 1<<31-1 { // all ones: the driver does not know
			i.SpeedMbit = mode.SpeedMegabits
		}
		switch mode.Duplex {
		case ethtool.Half:
			i.Duplex = endpoint.HalfDuplex
		case ethtool.Full:
			i.Duplex = endpoint.FullDuplex
		}
	}
	if s := a.Statistics; s != nil {
		i.Counters = endpoint.Counters{
			ReceivedPackets: s.RxPackets, SentPackets: s.TxPackets, ReceivedBytes: s.RxBytes, SentBytes: s.TxBytes,
			ReceiveErrors: s.RxErrors, SendErrors: s.TxErrors, ReceiveDrops: s.RxDropped, SendDrops: s.TxDropped,
			Damaged: s.RxCrcErrors + s.RxFrameErrors + s.RxLengthErrors, Overruns: s.RxOverErrors + s.RxFifoErrors + s.RxMissedErrors,
			CarrierLosses: s.TxCarrierErrors, Collisions: s.Collisions,
		}
	}
	return i
}

func kindOf(l netlink.Link) endpoint.Kind {
	if l.Attrs().Flags&net.FlagLoopback != 0 {
		return endpoint.LoopbackKind
	}
	switch l.Type() {
	case "bridge", "openvswitch":
		return endpoint.Bridge
	case "tun", "tuntap", "wireguard", "gre", "gretap", "ipip", "sit", "vti", "vti6", "ip6tnl", "ip6gre", "xfrm", "ppp":
		return endpoint.Tunnel
	}
	if _, err := os.Stat("/sys/class/net/" + l.Attrs().Name + "/phy80211"); err == nil {
		return endpoint.Wireless
	}
	if l.Attrs().EncapType == "ether" {
		return endpoint.Wired
	}
	if l.Attrs().Flags&net.FlagPointToPoint != 0 {
		return endpoint.Tunnel
	}
	return endpoint.OtherKind
}

// driverOf asks by ioctl and not through /sys, which shows the interfaces of the namespace in which it was mounted.
func driverOf(name string) string {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return ""
	}
	defer unix.Close(fd)
	info, err := unix.IoctlGetEthtoolDrvinfo(fd, name)
	if err != nil {
		return ""
	}
	return wiretext.Clean(unix.ByteSliceToString(info.Driver[:]))
}

// linkModes asks for the speed and duplex of every port at once. Ports without them, and systems without the question, give nothing.
func linkModes() (modes map[string]*ethtool.LinkMode) {
	defer func() { _ = recover() }() // the library panics on an answer of an unexpected number of messages
	modes = map[string]*ethtool.LinkMode{}
	c, err := ethtool.New()
	if err != nil {
		return modes
	}
	defer c.Close()
	all, err := c.LinkModes()
	if err != nil {
		return modes
	}
	for _, mode := range all {
		modes[mode.Interface.Name] = mode
	}
	return modes
}

// forever is the lifetime that means "no end" (INFINITY_LIFE_TIME).
const forever = 0xffffffff

func addressOf(a netlink.Addr) (endpoint.Address, bool) {
	ip, ok := netip.AddrFromSlice(a.IP)
	if !ok {
		return endpoint.Address{}, false
	}
	ones, _ := a.Mask.Size()
	out := endpoint.Address{
		Prefix:     netip.PrefixFrom(ip.Unmap(), ones),
		Tentative:  a.Flags&unix.IFA_F_TENTATIVE != 0,
		Duplicate:  a.Flags&unix.IFA_F_DADFAILED != 0,
		Deprecated: a.Flags&unix.IFA_F_DEPRECATED != 0,
		Origin:     endpoint.ByHand,
	}
	switch netlink.Scope(a.Scope) {
	case netlink.SCOPE_UNIVERSE, netlink.SCOPE_SITE:
		out.Scope = endpoint.ScopeGlobal
	case netlink.SCOPE_LINK:
		out.Scope, out.Origin = endpoint.ScopeLink, endpoint.ByKernel
	case netlink.SCOPE_HOST:
		out.Scope, out.Origin = endpoint.ScopeHost, endpoint.ByKernel
	}
	if a.ValidLft != 0 && uint32(a.ValidLft) != forever {
		out.Limited = true
		out.Valid, out.Preferred = time.Duration(a.ValidLft)*time.Second, time.Duration(a.PreferedLft)*time.Second
		out.Origin = endpoint.ByDHCP
		if ip.Is6() && ones == 64 {
			out.Origin = endpoint.ByRouterAdvertisement
		}
	}
	return out, true
}

func routesOf(r netlink.Route, names map[int]string) []endpoint.Route {
	if r.Table == unix.RT_TABLE_LOCAL || r.Type == unix.RTN_MULTICAST || r.Type == unix.RTN_BROADCAST || r.Type == unix.RTN_ANYCAST ||
		r.Type == unix.RTN_LOCAL {
		return nil
	}
	out := endpoint.Route{Interface: names[r.LinkIndex], Metric: r.Priority, Table: r.Table, Protocol: int(r.Protocol),
		OnLink:  r.Flags&unix.RTNH_F_ONLINK != 0,
		Verdict: endpoint.Forward}
	switch r.Type {
	case unix.RTN_BLACKHOLE:
		out.Verdict = endpoint.Blackhole
	case unix.RTN_UNREACHABLE:
		out.Verdict = endpoint.UnreachableRoute
	case unix.RTN_PROHIBIT:
		out.Verdict = endpoint.ProhibitedRoute
	}
	switch {
	case r.Dst != nil:
		ip, ok := netip.AddrFromSlice(r.Dst.IP)
		if !ok {
			return nil
		}
		ones, _ := r.Dst.Mask.Size()
		out.To = netip.PrefixFrom(ip.Unmap(), ones)
	case r.Family == unix.AF_INET6:
		out.To = netip.PrefixFrom(netip.IPv6Unspecified(), 0)
	default:
		out.To = netip.PrefixFrom(netip.IPv4Unspecified(), 0)
	}
	if src, ok := netip.AddrFromSlice(r.Src); ok {
		out.Source = src.Unmap()
	}
	switch r.Protocol {
	case unix.RTPROT_KERNEL:
		out.Origin = endpoint.ByKernel
	case unix.RTPROT_STATIC:
		out.Origin = endpoint.ByHand
	case unix.RTPROT_DHCP:
		out.Origin = endpoint.ByDHCP
	case unix.RTPROT_RA:
		out.Origin = endpoint.ByRouterAdvertisement
	case unix.RTPROT_BIRD, unix.RTPROT_ZEBRA, unix.RTPROT_BGP, unix.RTPROT_OSPF, unix.RTPROT_ISIS, unix.RTPROT_RIP, unix.RTPROT_BABEL,
		unix.RTPROT_EIGRP:
		out.Origin = endpoint.ByRoutingDaemon
	}
	if len(r.MultiPath) == 0 {
		out.Via = via(r.Gw, r.Via)
		return []endpoint.Route{out}
	}
	var all []endpoint.Route
	for _, hop := range r.MultiPath {
		one := out
		one.Interface, one.Via, one.OnLink = names[hop.LinkIndex], via(hop.Gw, hop.Via), hop.Flags&unix.RTNH_F_ONLINK != 0
		all = append(all, one)
	}
	return all
}

func via(gw net.IP, other netlink.Destination) netip.Addr {
	if v, ok := other.(*netlink.Via); ok && v != nil { // an IPv4 route over an IPv6 neighbour (RFC 8950)
		gw = v.Addr
	}
	a, _ := netip.AddrFromSlice(gw)
	return a.Unmap()
}

func neighbourOf(n netlink.Neigh, names map[int]string) (endpoint.Neighbour, bool) {
	ip, ok := netip.AddrFromSlice(n.IP)
	if !ok || ip.IsMulticast() || n.State&unix.NUD_NOARP != 0 {
		return endpoint.Neighbour{}, false
	}
	out := endpoint.Neighbour{Address: ip.Unmap(), Interface: names[n.LinkIndex]}
	out.Hardware, _ = endpoint.HardwareFrom(n.HardwareAddr)
	const tick = 10 * time.Millisecond // USER_HZ, in which the kernel tells ages
	out.Age, out.Aged = time.Duration(n.Confirmed)*tick, n.State&(unix.NUD_REACHABLE|unix.NUD_STALE|unix.NUD_DELAY|unix.NUD_PROBE) != 0
	switch n.State {
	case unix.NUD_INCOMPLETE:
		out.State = endpoint.Incomplete
	case unix.NUD_REACHABLE:
		out.State = endpoint.Reachable
	case unix.NUD_STALE:
		out.State = endpoint.Stale
	case unix.NUD_DELAY:
		out.State = endpoint.Delay
	case unix.NUD_PROBE:
		out.State = endpoint.Probe
	case unix.NUD_FAILED:
		out.State = endpoint.Failed
	case unix.NUD_PERMANENT:
		out.State = endpoint.Permanent
	}
	return out, true
}

// Route implements machine.Machine.
func (m *live) Route(ctx context.Context, to netip.Addr, iface string) (endpoint.RouteAnswer, error) {
	answer := endpoint.RouteAnswer{To: to}
	if err := ctx.Err(); err != nil {
		return answer, err
	}
	opts := &netlink.RouteGetOptions{Oif: systemName(iface)}
	routes, err := netlink.RouteGetWithOptions(to.WithZone("").AsSlice(), opts)
	if verdict, why, refused := refusal(err); refused {
		answer.Verdict, answer.Reason = verdict, why
		return answer, nil
	}
	if err != nil {
		var noLink netlink.LinkNotFoundError
		if errors.As(err, &noLink) {
			err = unix.ENODEV
		}
		return answer, translate("route lookup", err)
	}
	if len(routes) == 0 {
		return answer, fmt.Errorf("route lookup: no answer: %w", machine.ErrNoRoute)
	}
	r := routes[0]
	if iface == "" && len(r.Src) > 0 && r.Type == unix.RTN_UNICAST { // a connection is looked up again with its source: rules may go by it
		opts.SrcAddr = r.Src
		again, err := netlink.RouteGetWithOptions(to.WithZone("").AsSlice(), opts)
		if verdict, why, refused := refusal(err); refused {
			answer.Verdict, answer.Reason = verdict, why
			return answer, nil
		}
		if err == nil && len(again) > 0 {
			r = again[0]
			r.Src = opts.SrcAddr // which is not told of, since it was asked with
		}
	}
	answer.Verdict = endpoint.Forward
	if r.Type == unix.RTN_LOCAL {
		answer.Verdict = endpoint.LocalRoute
	}
	answer.Via = via(r.Gw, r.Via)
	if src, ok := netip.AddrFromSlice(r.Src); ok {
		answer.Source = src.Unmap()
	}
	if ifi, err := net.InterfaceByIndex(r.LinkIndex); err == nil {
		answer.Interface = shownName(ifi.Index, ifi.Name)
	}
	return answer, ctx.Err()
}

// refusal is what a route look-up that fails says of the table.
func refusal(err error) (verdict endpoint.RouteVerdict, why string, is bool) {
	switch {
	case errors.Is(err, unix.ENETUNREACH):
		return endpoint.NoRoute, "no route covers it", true
	case errors.Is(err, unix.EHOSTUNREACH):
		return endpoint.UnreachableRoute, "a route declares it unreachable", true
	case errors.Is(err, unix.EACCES):
		return endpoint.ProhibitedRoute, "a route prohibits it", true
	case errors.Is(err, unix.EINVAL):
		return endpoint.Blackhole, "a route drops it", true
	}
	return verdict, "", false
}

// readRules reads the rules of policy routing, but for the usual ones.
func readRules() (out []endpoint.Rule, err error) {
	for _, family := range []int{netlink.FAMILY_V4, netlink.FAMILY_V6} {
		rules, err := dump(func() ([]netlink.Rule, error) { return netlink.RuleList(family) })
		if err != nil {
			return out, err
		}
		slices.SortStableFunc(rules, func(a, b netlink.Rule) int { return a.Priority - b.Priority })
		for _, r := range rules {
			if r.Table == unix.RT_TABLE_LOCAL || (r.Table == unix.RT_TABLE_MAIN || r.Table == unix.RT_TABLE_DEFAULT) &&
				r.Priority >= 32766 {
				continue
			}
			out = append(out, ruleOf(r, family == netlink.FAMILY_V6))
		}
	}
	return out, nil
}

func ruleOf(r netlink.Rule, v6 bool) endpoint.Rule {
	out := endpoint.Rule{Priority: r.Priority, IPv6: v6, From: prefixOf(r.Src), To: prefixOf(r.Dst), Mark: r.Mark > 0,
		Incoming: r.IifName != "", Other: r.OifName != "" || r.Dport != nil || r.Sport != nil || r.IPProto > 0 || r.UIDRange != nil ||
			r.Tos > 0,
		Not: r.Invert, Table: r.Table}
	if out.Mark {
		out.Marked = endpoint.MarkOf(r.Mark, r.Mask)
	}
	switch r.Type {
	case unix.RTN_BLACKHOLE, unix.RTN_UNREACHABLE, unix.RTN_PROHIBIT:
		out.Refuses = true
	}
	if r.SuppressPrefixlen >= 0 {
		out.LeastBits = r.SuppressPrefixlen + 1
	}
	return out
}

func prefixOf(n *net.IPNet) netip.Prefix {
	if n == nil {
		return netip.Prefix{}
	}
	a, ok := netip.AddrFromSlice(n.IP)
	bits, _ := n.Mask.Size()
	if !ok {
		return netip.Prefix{}
	}
	return netip.PrefixFrom(a.Unmap(), bits)
}
