// Package vendor names the makers of network cards: from the register of the first three octets of hardware addresses (IEEE MA-L), as it is packaged with a library.
package vendor

import (
	"github.com/gopacket/gopacket/macs"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/wiretext"
)

// Of names the maker of a card by its hardware address. An address that a machine made up for itself is in no register and says so; "" if the
// register does not know it.
func Of(h endpoint.HardwareAddr) string {
	switch {
	case h.IsZero():
		return ""
	case h.Shared():
		return "shared by routers"
	case h.Private():
		return "made up, not registered"
	}
	return wiretext.Clean(macs.ValidMACPrefixMap[[3]byte(h[:3])])
}
