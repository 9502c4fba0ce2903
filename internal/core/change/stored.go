package change

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/lease"
)

// What lasts is kept by whoever manages an interface, in a file of his. Of that file only the part is ours that says how the interface
// comes by its address of IPv4: a section of a connection profile (NetworkManager), a stanza (ifupdown), a file of our own beside the one
// that matched (systemd-networkd). All else in it stays as it is, byte for byte.

// errNotKept is that of a lasting change where nobody keeps settings, or none that can be told.
var errNotKept = errors.New("nobody keeps its settings in a file that could be changed: it can be set now, and not for good")

// stored gives what its manager keeps of an interface.
func (s *Settings) stored(iface string) (*endpoint.Stored, bool) {
	i := slices.IndexFunc(s.Stored, func(x endpoint.Stored) bool { return x.Interface == iface })
	if i < 0 {
		return nil, false
	}
	return &s.Stored[i], true
}

// keep puts the settings that an interface has come to into what its manager keeps.
func (c *Static) keep(s *Settings, via netip.Addr) error {
	kept, ok := s.stored(c.Interface)
	switch {
	case !ok:
		return fmt.Errorf("%s: %w", c.Interface, errNotKept)
	case c.Address.Addr().Is6():
		return errors.New("settings of IPv6 are not set for good from here: leave out --last")
	}
	servers := slices.DeleteFunc(slices.Clone(s.Resolvers), func(a netip.Addr) bool { return !a.Is4() || a.IsLoopback() })
	kept.Part = lasting(kept.Manager, kept.Interface, kept.Part, c.Address, via, servers, s.Search)
	return nil
}

// lasting is the part of a manager's file that says all of it.
func lasting(manager, iface, part string, address netip.Prefix, via netip.Addr, servers []netip.Addr, search []string) string {
	var b strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	switch manager {
	case lease.Networkd: // an empty value takes away what the file before it says (systemd.network(5))
		say("# Written by passepartout; passepartout undo takes it away.\n[Network]\nDHCP=no\nAddress=\nAddress=%v\nGateway=", address)
		if via.IsValid() {
			say("Gateway=%v", via)
		}
		say("DNS=")
		for _, a := range servers {
			say("DNS=%v", a)
		}
		say("Domains=%s", strings.Join(search, " "))
	case lease.NetworkManager: // nm-settings-keyfile(5)
		say("[ipv4]")
		first := address.String()
		if via.IsValid() {
			first += "," + via.String()
		}
		say("address1=%s", first)
		if len(servers) > 0 {
			say("dns=%s;", joinedBy(";", servers))
		}
		if len(search) > 0 {
			say("dns-search=%s;", strings.Join(search, ";"))
		}
		say("method=manual")
		for _, line := range strings.SplitAfter(part, "\n")[1:] {
			name, _, set := strings.Cut(strings.TrimSpace(line), "=")
			name = strings.TrimRight(strings.TrimSpace(name), "0123456789")
			if !set || !slices.Contains([]string{"method", "address", "addresses", "gateway", "dns", "dns-search"}, name) {
				b.WriteString(line)
			}
		}
	case endpoint.Ifupdown: // interfaces(5)
		say("iface %s inet static", iface)
		say("\taddress %v", address)
		if via.IsValid() {
			say("\tgateway %v", via)
		}
		if len(servers) > 0 {
			say("\tdns-nameservers %s", joinedBy(" ", servers))
		}
		if len(search) > 0 {
			say("\tdns-search %s", strings.Join(search, " "))
		}
		for _, line := range strings.SplitAfter(part, "\n")[1:] {
			words := strings.Fields(line)
			if len(words) == 0 || !slices.Contains([]string{"address", "netmask", "broadcast", "network", "gateway", "dns-nameservers",
				"dns-nameserver", "dns-search", "dns-domain", "hostname", "leasehours", "leasetime", "vendor", "client"}, words[0]) {
				b.WriteString(line)
			}
		}
	}
	return b.String()
}

func joinedBy(by string, list []netip.Addr) string {
	var words []string
	for _, x := range list {
		words = append(words, x.String())
	}
	return strings.Join(words, by)
}

// stanzas are the words that begin something new in interfaces(5).
var stanzas = []string{"iface", "mapping", "auto", "source", "source-directory", "no-auto-down", "no-scripts", "rename", "template"}

// PartOf finds the part of a manager's file that is about an interface's settings of IPv4: from where to where; false if there is none.
func PartOf(manager, iface, text string) (from, to int, ok bool) {
	at := 0
	for line := range strings.Lines(text) {
		words := strings.Fields(line)
		begins, ends := false, false
		switch manager {
		case lease.Networkd:
			return 0, len(text), true
		case lease.NetworkManager:
			ends = strings.HasPrefix(strings.TrimSpace(line), "[")
			begins = strings.TrimSpace(line) == "[ipv4]"
		case endpoint.Ifupdown:
			ends = len(words) > 0 && (slices.Contains(stanzas, words[0]) || strings.HasPrefix(words[0], "allow-"))
			begins = len(words) > 3 && words[0] == "iface" && words[1] == iface && words[2] == "inet"
		}
		if ok && ends {
			return from, at, true
		}
		if begins {
			from, ok = at, true
		}
		at += len(line)
	}
	return from, at, ok || manager == lease.Networkd
}

// WithPart is a manager's file with another part in the place of the one that it has.
func WithPart(manager, iface, text, part string) string {
	from, to, ok := PartOf(manager, iface, text)
	if !ok {
		return text
	}
	return text[:from] + part + text[to:]
}
