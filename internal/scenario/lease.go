package scenario

import (
	"cmp"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"time"
)

// LeasePath is where that client keeps its file, below the root.
const LeasePath = "var/lib/dhcp/dhclient.eth0.leases"

// LeaseFile is the file in which a DHCP client of the endpoint (dhclient) keeps its lease, in the form of dhclient.leases; empty for a port
// whose address was set by hand.
func (s *Site) LeaseFile(node string, began time.Time) string {
	var b strings.Builder
	n := s.Nodes[node]
	for _, name := range n.PortNames() {
		p := n.Ports[name]
		for _, l := range p.Before {
			b.WriteString(l.block(name, l.Address, began))
		}
		if p.Lease == nil && !p.Leased {
			continue
		}
		l, server := Lease{}, s.dhcpOn(p.Segment)
		if p.Lease != nil {
			l = *p.Lease
		}
		if server != nil {
			l.For = cmp.Or(l.For, server.Lease)
			l.Bits = cmp.Or(l.Bits, server.Bits)
			l.portal, l.proxyFile = server.Portal, server.ProxyFile
			if !l.Server.IsValid() {
				l.Server = s.serverAddress(server)
			}
			if l.Routers == nil {
				l.Routers = server.Routers
			}
			if l.Resolvers == nil {
				l.Resolvers = server.Resolvers
			}
		} else if p.Lease == nil {
			continue // nobody can have given it
		}
		l.Ago = cmp.Or(l.Ago, Duration(8*time.Minute))
		for _, a := range p.Addresses {
			if a.Addr().Is4() {
				b.WriteString(l.block(name, a.Addr(), began))
				break
			}
		}
	}
	return b.String()
}

// LeaseLeft is how long the kernel keeps the address of a leased port.
func (s *Site) LeaseLeft(p *Port) time.Duration {
	l := Lease{}
	if p.Lease != nil {
		l = *p.Lease
	}
	if server := s.dhcpOn(p.Segment); server != nil {
		l.For = cmp.Or(l.For, server.Lease)
	}
	return max(time.Duration(cmp.Or(l.For, Duration(time.Hour))-cmp.Or(l.Ago, Duration(8*time.Minute))), time.Second)
}

func (s *Site) dhcpOn(segment string) *DHCP {
	for _, name := range s.NodeNames() {
		if n := s.Nodes[name]; n.DHCP != nil && len(n.Ports) > 0 && n.Ports[n.PortNames()[0]].Segment == segment {
			return n.DHCP
		}
	}
	return nil
}

func (s *Site) serverAddress(d *DHCP) netip.Addr {
	for _, name := range s.NodeNames() {
		if n := s.Nodes[name]; n.DHCP == d {
			return n.Ports[n.PortNames()[0]].Addresses[0].Addr()
		}
	}
	return netip.Addr{}
}

// block writes a lease as dhclient does.
func (l Lease) block(iface string, address netip.Addr, began time.Time) string {
	obtained, length := began.Add(-time.Duration(l.Ago)).UTC(), time.Duration(l.For)
	at := func(after time.Duration) string {
		t := obtained.Add(after)
		return fmt.Sprintf("%d %s", t.Weekday(), t.Format("2006/01/02 15:04:05"))
	}
	list := func(addrs []netip.Addr) string {
		var parts []string
		for _, a := range addrs {
			parts = append(parts, a.String())
		}
		return strings.Join(parts, ",")
	}
	var b strings.Builder
	fmt.Fprintf(&b, "lease {\n  interface %q;\n  fixed-address %v;\n  option subnet-mask %v;\n", iface, address,
		net.IP(net.CIDRMask(l.Bits, 32)))
	if len(l.Routers) > 0 {
		fmt.Fprintf(&b, "  option routers %s;\n", list(l.Routers))
	}
	if len(l.Resolvers) > 0 {
		fmt.Fprintf(&b, "  option domain-name-servers %s;\n", list(l.Resolvers))
	}
	for code, text := range map[string]string{"114": l.portal, "252": l.proxyFile} { // the client knows no names for them
		if text != "" {
			fmt.Fprintf(&b, "  option unknown-%s %q;\n", code, text)
		}
	}
	fmt.Fprintf(&b, "  option dhcp-lease-time %d;\n  option dhcp-message-type 5;\n", int(length.Seconds()))
	if l.Server.IsValid() {
		fmt.Fprintf(&b, "  option dhcp-server-identifier %v;\n", l.Server)
	}
	fmt.Fprintf(&b, "  option domain-name \"kittiwake.example\";\n  renew %s;\n  rebind %s;\n  expire %s;\n}\n", at(length*9/20),
		at(length/8*7), at(length))
	return b.String()
}
