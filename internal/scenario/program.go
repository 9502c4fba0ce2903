package scenario

import "net/netip"

// Program is one of the programs of a node that have to do with the network. It begins once somebody looks at the node's sockets: what it
// sends must not change what else is tested there.
type Program struct {
	Name     string           `yaml:"name"`
	PID      int              `yaml:"pid"`
	User     string           `yaml:"user"`
	Connects []netip.AddrPort `yaml:"connects"` // each again and again while there is no connection
	Listens  []netip.AddrPort `yaml:"listens"`
}
