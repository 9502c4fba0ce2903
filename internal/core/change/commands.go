package change

import (
	"fmt"
	"net/netip"
	"strings"
)

// Commands are the command lines that make a change, without the program's name.
func (c Change) Commands() (out []string) {
	if s := c.Set; s != nil && s.Leased != nil { // all else follows from what it gives
		return []string{fmt.Sprintf("lease take -i %s --server %v", s.Interface, s.Leased.Server)}
	}
	if s := c.Set; s != nil {
		words := fmt.Sprintf("set address %v -i %s", s.Address, s.Interface)
		if s.Gateway.IsValid() {
			words += fmt.Sprintf(" --gateway %v", s.Gateway.WithZone(""))
		}
		out = append(out, words+named(s.Resolvers, s.Search))
	}
	if device, during, ok := c.Visited(); ok {
		return append(out, fmt.Sprintf("visit %v -i %s --for %v", device, c.Steps[0].Interface, during))
	}
	for _, o := range c.Steps {
		out = append(out, o.command())
	}
	return out
}

func named(resolvers []netip.Addr, search []string) string {
	var b strings.Builder
	for _, a := range resolvers {
		fmt.Fprintf(&b, " --dns %v", a)
	}
	for _, name := range search {
		fmt.Fprintf(&b, " --search %s", name)
	}
	return b.String()
}

func (o Op) command() string {
	on := " -i " + o.Interface
	switch o.Do {
	case AddAddress:
		return fmt.Sprintf("add address %v%s", o.Prefix, on)
	case RemoveAddress:
		return fmt.Sprintf("remove address %v%s", o.Prefix, on)
	case AddRoute, RemoveRoute:
		words := "add route " + o.Prefix.String()
		if o.Do == RemoveRoute {
			words = "remove route " + o.Prefix.String()
		}
		if o.Via.IsValid() {
			words += fmt.Sprintf(" --via %v", o.Via.WithZone(""))
		}
		if o.Metric > 0 {
			words += fmt.Sprintf(" --metric %d", o.Metric)
		}
		return words + on
	case AddNeighbour:
		return fmt.Sprintf("add neighbour %v --hardware %v%s", o.Address, o.Hardware, on)
	case RemoveNeighbour:
		return fmt.Sprintf("remove neighbour %v%s", o.Address, on)
	case SwitchOn:
		return "set up" + on
	case SwitchOff:
		return "set down" + on
	case RenewLease:
		return "lease renew" + on
	case ReleaseLease:
		return "lease release" + on
	case RemoveRule:
		return fmt.Sprintf("remove rule %d", o.Priority)
	case RemoveHost:
		return fmt.Sprintf("remove host %s %v", o.Name, o.Address)
	case SetSources:
		return "set lookups " + o.Name
	case SetMTU:
		return fmt.Sprintf("set mtu %d%s", o.MTU, on)
	}
	return ""
}
