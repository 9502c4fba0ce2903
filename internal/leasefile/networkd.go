package leasefile

import (
	"errors"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/lease"
	"passepartout/internal/core/wiretext"
)

// keys are those of systemd-networkd's lease files that are options.
var keys = map[string]uint8{
	"NETMASK": 1, "ROUTER": 3, "DNS": 6, "HOSTNAME": 12, "DOMAINNAME": 15, "ROOT_PATH": 17, "MTU": 26, "BROADCAST": 28, "NTP": 42,
	"VENDOR_SPECIFIC": 43,
	"LIFETIME":        51, "SERVER_ADDRESS": 54, "T1": 58, "T2": 59, "CLIENTID": 61, "TIMEZONE": 101, "CAPTIVE_PORTAL": 114,
	"DOMAIN_SEARCH_LIST": 119, "ROUTES": 121,
}

// networkd reads a lease file of systemd-networkd, which is named by the interface's number. It holds no times: they count from its
// modification.
func networkd(f file) ([]lease.Lease, error) {
	l, err := assignments(f)
	if err != nil {
		return nil, err
	}
	l.Client = lease.Networkd
	l.Index, err = strconv.Atoi(f.name)
	if err != nil {
		return nil, errors.New("no lease: its name is not an interface's number")
	}
	if !l.Terms.Address.IsValid() {
		return nil, errors.New("half written: no address in it")
	}
	if l.Terms.Lease > 0 {
		l.Obtained = f.modified
		l.Remark("obtained is the file's modification time")
	}
	return []lease.Lease{l}, nil
}

// internalLease reads the file of NetworkManager's own client, which may hold the address alone. It is named by connection and interface.
func internalLease(f file) ([]lease.Lease, error) {
	l, err := assignments(f)
	if err != nil {
		return nil, err
	}
	l.Client = lease.NetworkManager
	_, l.Interface = connection(f.name)
	if !l.Terms.Address.IsValid() {
		return nil, errors.New("half written: no address in it")
	}
	if l.Terms.Lease > 0 {
		l.Obtained = f.modified
		l.Remark("obtained is the file's modification time")
	}
	return []lease.Lease{l}, nil
}

// connection takes "internal-UUID-eth0.lease" apart.
func connection(name string) (uuid, iface string) {
	name = strings.TrimSuffix(name, ".lease")
	_, name, _ = strings.Cut(name, "-")
	const length = 36
	if len(name) > length+1 && name[length] == '-' {
		return name[:length], wiretext.Clean(name[length+1:])
	}
	return "", ""
}

// assignments reads lines of KEY=value.
func assignments(f file) (l lease.Lease, err error) {
	if noise(f.content) {
		return l, errNoise
	}
	var routes string
	for line := range strings.Lines(string(f.content)) {
		key, value, ok := strings.Cut(strings.TrimSpace(line), "=")
		switch {
		case !ok || strings.HasPrefix(key, "#"):
		case key == "ADDRESS":
			l.Terms.Address, _ = netip.ParseAddr(value)
		case key == "ROUTES":
			routes = value
		case keys[key] != 0:
			put(&l.Terms, &l.Options, keys[key], value)
		case strings.HasPrefix(key, "OPTION_"):
			if c, ok := code(strings.ReplaceAll(key, "_", "-")); ok {
				put(&l.Terms, &l.Options, c, value)
			}
		}
	}
	if routes != "" { // last: a default route among them beats ROUTER, which stays listed
		put(&l.Terms, &l.Options, dhcp.OptClasslessRoutes, routes)
	}
	return l, nil
}

// deviceFile reads NetworkManager's note of a device: the options of its lease and when it runs out.
func deviceFile(f file) ([]lease.Lease, error) {
	if noise(f.content) {
		return nil, errNoise
	}
	l := lease.Lease{Client: lease.NetworkManager}
	section, uuid := "", ""
	var routes string
	for line := range strings.Lines(string(f.content)) {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "[") {
			section = strings.Trim(line, "[]")
			continue
		}
		key, value, ok := strings.Cut(line, "=")
		if !ok {
			continue
		}
		if section == "device" && key == "connection-uuid" {
			uuid = value
		}
		if section != "dhcp4" {
			continue
		}
		key = strings.TrimPrefix(key, "dhcp4.")
		switch key {
		case "ip_address":
			l.Terms.Address, _ = netip.ParseAddr(value)
		case "expiry":
			if n, err := strconv.ParseInt(value, 10, 64); err == nil && n > 0 {
				l.Expires = time.Unix(n, 0).UTC()
			}
		case "rfc3442_classless_static_routes", "classless_static_routes":
			routes = value
		default:
			if c, ok := code(key); ok {
				put(&l.Terms, &l.Options, c, value)
			}
		}
	}
	if routes != "" {
		put(&l.Terms, &l.Options, dhcp.OptClasslessRoutes, routes)
	}
	if !l.Terms.Address.IsValid() {
		return nil, nil // a device without a DHCP lease
	}
	l.Index, _ = strconv.Atoi(f.name)
	l.Interface = interfaceOf(f, uuid)
	return []lease.Lease{l}, nil
}
