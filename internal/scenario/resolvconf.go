package scenario

import (
	"fmt"
	"net/netip"
	"strings"
)

// ResolvConfText is the node's resolv.conf: as the scenario has it, or made from its name servers and its search list.
func (n *Node) ResolvConfText() string {
	if n.ResolvConf != "" {
		return n.ResolvConf
	}
	var b strings.Builder
	b.WriteString(nameServers(n.Resolvers))
	if len(n.Search) > 0 {
		fmt.Fprintf(&b, "search %s\n", strings.Join(n.Search, " "))
	}
	return b.String()
}

// BehindText is the file in which the name service on the machine itself writes down whom it asks; "" if there is none.
func (n *Node) BehindText() string { return nameServers(n.Behind) }

// nameServers are the lines of a resolv.conf that name them.
func nameServers(addrs []netip.Addr) string {
	var b strings.Builder
	for _, a := range addrs {
		fmt.Fprintf(&b, "nameserver %v\n", a)
	}
	return b.String()
}
