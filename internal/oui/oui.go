// Package oui names the makers of network cards: from the register of the first three octets of hardware addresses (IEEE MA-L), as it is
// packaged with a library.
package oui

import (
	_ "embed"
	"encoding/binary"
	"sort"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/wiretext"
)

//go:generate go run ./generate

// register is what generate has packed.
//
//go:embed register.bin
var register string

// Of names the maker of a card by its hardware address. An address that a machine made up for itself is in no register and says so; "" if
// the register does not know it.
func Of(h endpoint.HardwareAddr) string {
	switch {
	case h.IsZero():
		return ""
	case h.Shared():
		return "shared by routers"
	case h.Private():
		return "random (locally administered)"
	}
	return wiretext.Clean(find(h))
}

const headLength, entryLength = 4, 7

func number(s string) uint32 { return binary.BigEndian.Uint32([]byte(s[:4])) }

func find(h endpoint.HardwareAddr) string {
	count := int(number(register))
	entry := func(i int) string { return register[headLength+i*entryLength:] }
	want := string(h[:3])
	i := sort.Search(count, func(i int) bool { return entry(i)[:3] >= want })
	if i == count || entry(i)[:3] != want {
		return ""
	}
	name := register[headLength+count*entryLength+int(number(entry(i)[3:])):]
	return name[1 : 1+int(name[0])]
}
