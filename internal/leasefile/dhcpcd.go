package leasefile

import (
	"errors"
	"fmt"
	"strings"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/lease"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/machine/wire"
)

// dhcpcd reads the bare acknowledgement that dhcpcd keeps. The only time is the file's modification, some seconds after the
// acknowledgement.
func dhcpcd(f file) ([]lease.Lease, error) {
	m, err := wire.ParseDHCP(f.content)
	switch {
	case errors.Is(err, wire.ErrShort):
		return nil, errors.New("no DHCP message: shorter than the header of one")
	case err != nil:
		return nil, err
	case m.Cut != "":
		return nil, fmt.Errorf("half written: %s", m.Cut)
	case m.Type != dhcp.Ack:
		return nil, fmt.Errorf("no lease: a DHCP message of type %v, not an acknowledgement", m.Type)
	}
	name := strings.TrimSuffix(f.name, ".lease")
	name = strings.TrimPrefix(name, "dhcpcd-")
	if iface, network, wireless := strings.Cut(name, "-"); wireless && network != "" {
		name = iface // a wireless lease carries the network's name after a hyphen
	}
	l := lease.Lease{Client: lease.Dhcpcd, Interface: wiretext.Clean(name), Terms: m.Terms(), Obtained: f.modified, Options: m.Described()}
	if !l.Terms.Address.IsValid() {
		return nil, errors.New("no lease: the acknowledgement gives no address")
	}
	l.Remark("obtained is the file's modification time, some seconds after the acknowledgement")
	return []lease.Lease{l}, nil
}
