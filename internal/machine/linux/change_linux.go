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
	"time"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"passepartout/internal/core/change"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/machine"
	"passepartout/internal/plainfile"
)

var _ machine.Changer = (*live)(nil)

const hostsFile = "/etc/hosts"

// Do implements machine.Changer, by netlink, and for name servers by the file.
func (m *live) Do(ctx context.Context, o change.Op) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	switch o.Do {
	case change.SetResolvers:
		return setResolvers(resolvConf, o)
	case change.Store:
		return store(ctx, o)
	case change.RenewLease, change.ReleaseLease:
		return askClient(ctx, o)
	case change.AddHost:
		return rewrite(hostsFile, func(was string) string { return change.WithHost(was, o.Host()) })
	case change.RemoveHost:
		return rewrite(hostsFile, func(was string) string { return change.WithoutHost(was, o.Host()) })
	case change.SetSources:
		return rewrite(endpoint.SwitchFile, func(was string) string { return change.WithSources(was, o.Name) })
	case change.AddRule:
		return refused(o, netlink.RuleAdd(ruleToSet(o.Rule())))
	case change.RemoveRule:
		return refused(o, netlink.RuleDel(ruleToSet(o.Rule())))
	}
	link, err := netlink.LinkByName(o.Interface)
	if err != nil {
		return refused(o, err)
	}
	switch o.Do {
	case change.SwitchOn:
		err = netlink.LinkSetUp(link)
	case change.SwitchOff:
		err = netlink.LinkSetDown(link)
	case change.SetMTU:
		err = netlink.LinkSetMTU(link, o.MTU)
	case change.AddAddress:
		// Whether somebody has it was asked before: IPv6 need not wait for its own asking (RFC 4862 §5.4) to be read back.
		err = netlink.AddrAdd(link, lasting(o))
	case change.KeepAddress:
		err = netlink.AddrReplace(link, lasting(o))
	case change.RemoveAddress:
		err = netlink.AddrDel(link, &netlink.Addr{IPNet: ipNet(o.Prefix)})
	case change.AddRoute:
		err = netlink.RouteAdd(routeOf(link, o))
	case change.RemoveRoute:
		err = netlink.RouteDel(routeOf(link, o))
	case change.AddNeighbour:
		err = netlink.NeighSet(entryOf(link, o))
	case change.RemoveNeighbour:
		err = netlink.NeighDel(entryOf(link, o))
	default:
		err = fmt.Errorf("%q is nothing that can be done", o.Do)
	}
	return refused(o, err)
}

// refused says what the system did not do, and why.
func refused(o change.Op, err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, unix.EPERM), errors.Is(err, unix.EACCES):
		return fmt.Errorf("%v: %w: it needs cap_net_admin", o, fs.ErrPermission)
	}
	return fmt.Errorf("%v: the system refuses it: %w", o, err)
}

func ipNet(p netip.Prefix) *net.IPNet {
	return &net.IPNet{IP: p.Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())}
}

// lasting is an address for the time that a step gives it, or for good.
func lasting(o change.Op) *netlink.Addr {
	seconds := int((o.For + time.Second - 1) / time.Second) // 0: for good
	return &netlink.Addr{IPNet: ipNet(o.Prefix), ValidLft: seconds, PreferedLft: seconds}
}

func routeOf(link netlink.Link, o change.Op) *netlink.Route {
	r := &netlink.Route{LinkIndex: link.Attrs().Index, Dst: ipNet(o.Prefix), Priority: o.Metric, Table: unix.RT_TABLE_MAIN,
		Protocol: netlink.RouteProtocol(o.Route().Protocol)}
	if o.Via.IsValid() {
		r.Gw = o.Via.WithZone("").AsSlice()
	} else if o.Prefix.Addr().Is4() {
		r.Scope = netlink.SCOPE_LINK
	}
	if o.Source.IsValid() {
		r.Src = o.Source.AsSlice()
	}
	if o.OnLink {
		r.SetFlag(netlink.FLAG_ONLINK)
	}
	return r
}

func entryOf(link netlink.Link, o change.Op) *netlink.Neigh {
	family := netlink.FAMILY_V4
	if o.Address.Is6() {
		family = netlink.FAMILY_V6
	}
	return &netlink.Neigh{LinkIndex: link.Attrs().Index, Family: family, State: netlink.NUD_PERMANENT, IP: o.Address.AsSlice(),
		HardwareAddr: net.HardwareAddr(o.Hardware[:])}
}

func ruleToSet(r change.Rule) *netlink.Rule {
	out := netlink.NewRule()
	out.Priority, out.Table, out.Family = r.Priority, r.Table, netlink.FAMILY_V4
	if r.IPv6 {
		out.Family = netlink.FAMILY_V6
	}
	if r.From.IsValid() {
		out.Src = ipNet(r.From)
	}
	if r.To.IsValid() {
		out.Dst = ipNet(r.To)
	}
	return out
}

// setResolvers puts name servers and search list into the file; all else in it stays as it is.
func setResolvers(path string, o change.Op) error {
	if to, err := os.Readlink(path); err == nil {
		return fmt.Errorf("%s is a link to %s: whoever keeps that file sets the name servers, and would write over it", path, to)
	}
	return rewrite(path, func(was string) string { return change.ResolvConf(was, o.Resolvers, o.Search) })
}

// rewrite makes a file what becomes of its text.
func rewrite(path string, of func(was string) string) error {
	was, err := plainfile.Read(path, mostSettings)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	text := of(string(was))
	err = plainfile.Write(path, func(w io.Writer) error { _, err := io.WriteString(w, text); return err })
	if errors.Is(err, unix.EBUSY) { // a container's file is mounted: it can be written, and not be replaced
		f, err := os.OpenFile(path, os.O_WRONLY|os.O_TRUNC, 0)
		if err != nil {
			return err
		}
		_, err = io.WriteString(f, text)
		return errors.Join(err, f.Sync(), f.Close())
	}
	return err
}
