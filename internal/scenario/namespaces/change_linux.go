package namespaces

import (
	"net"
	"os/exec"
	"slices"
	"time"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"passepartout/internal/scenario"
)

// become makes a node what the timeline says it is now; it runs inside the node's namespace.
func (l *Lab) become(name string) error {
	was, now := l.was[name], l.scenario.NodeAt(name, time.Since(l.Began))
	if was == nil {
		was = l.scenario.Site.Nodes[name]
	}
	if was == now {
		return nil
	}
	if l.was == nil {
		l.was = map[string]*scenario.Node{}
	}
	l.was[name] = now
	if !slices.Equal(was.Filter, now.Filter) {
		if err := exec.Command("nft", "flush", "ruleset").Run(); err != nil {
			return err
		}
		if err := filter(now); err != nil {
			return err
		}
	}
	for _, portName := range now.PortNames() {
		if err := l.readdress(portName, was.Ports[portName], now.Ports[portName]); err != nil {
			return err
		}
	}
	if err := l.reroute(now); err != nil {
		return err
	}
	if name == l.scenario.Site.Endpoint {
		return l.writeFiles()
	}
	return nil
}

// readdress changes the addresses of an interface.
func (l *Lab) readdress(name string, was, now *scenario.Port) error {
	link, err := netlink.LinkByName(name)
	if err != nil {
		return err
	}
	for _, a := range was.Addresses {
		if !slices.Contains(now.Addresses, a) {
			gone := &netlink.Addr{IPNet: &net.IPNet{IP: a.Addr().AsSlice(), Mask: net.CIDRMask(a.Bits(), a.Addr().BitLen())}}
			if err := netlink.AddrDel(link, gone); err != nil {
				return err
			}
		}
	}
	for _, a := range now.Addresses {
		if !slices.Contains(was.Addresses, a) || now.Leased && was.Lease != now.Lease {
			if err := l.setAddress(link, now, a); err != nil {
				return err
			}
		}
	}
	return nil
}

// reroute takes all routes away but those that the kernel itself has made, and sets the node's.
func (l *Lab) reroute(now *scenario.Node) error {
	all, err := netlink.RouteListFiltered(netlink.FAMILY_ALL, &netlink.Route{Table: unix.RT_TABLE_MAIN}, netlink.RT_FILTER_TABLE)
	if err != nil {
		return err
	}
	var keep []scenario.Route
	for _, r := range now.Routes {
		if !slices.ContainsFunc(all, func(old netlink.Route) bool { return sameRoute(old, r) }) {
			keep = append(keep, r)
		}
	}
	for _, old := range all {
		if old.Protocol == unix.RTPROT_KERNEL || slices.ContainsFunc(now.Routes, func(r scenario.Route) bool { return sameRoute(old, r) }) {
			continue
		}
		if err := netlink.RouteDel(&old); err != nil {
			return err
		}
	}
	add := *now
	add.Routes = keep
	return setRoutes(&add)
}

// sameRoute reports whether the kernel's route is the node's.
func sameRoute(old netlink.Route, r scenario.Route) bool {
	bits := 0
	if old.Dst != nil {
		bits, _ = old.Dst.Mask.Size()
	}
	return r.Refuse == "" && bits == r.To.Bits() && old.Gw.Equal(net.IP(r.Via.AsSlice())) &&
		(bits == 0 || old.Dst.IP.Equal(net.IP(r.To.Addr().AsSlice())))
}
