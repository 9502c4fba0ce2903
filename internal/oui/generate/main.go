// Command generate packs the register of hardware addresses that comes with a library into one file, which needs no memory until it is
// looked into: as a map the program would build it at every start.
package main

import (
	"cmp"
	"encoding/binary"
	"log"
	"os"
	"slices"

	"github.com/gopacket/gopacket/macs"
)

func main() {
	type entry struct {
		prefix [3]byte
		name   string
	}
	var all []entry
	for prefix, name := range macs.ValidMACPrefixMap {
		if len(name) > 255 {
			name = name[:255]
		}
		all = append(all, entry{prefix, name})
	}
	slices.SortFunc(all, func(a, b entry) int { return slices.Compare(a.prefix[:], b.prefix[:]) })
	// A count of four octets; for each entry its prefix and where its name stands, three and four octets; then the names, each once, with
	// their lengths before them.
	head := binary.BigEndian.AppendUint32(nil, uint32(len(all)))
	at, names := map[string]uint32{}, []byte{}
	for _, e := range all {
		if _, known := at[e.name]; !known {
			at[e.name] = uint32(len(names))
			names = append(append(names, byte(len(e.name))), e.name...)
		}
		head = binary.BigEndian.AppendUint32(append(head, e.prefix[:]...), at[e.name])
	}
	if err := os.WriteFile(cmp.Or(os.Getenv("OUT"), "register.bin"), append(head, names...), 0o644); err != nil {
		log.Fatal(err)
	}
}
