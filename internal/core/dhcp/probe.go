package dhcp

import "hash/fnv"

// This program's own questions to DHCP servers take no lease, and are no trouble of the machine's: in what is heard they must be told apart
// from the client's. Their transaction ids say so: the upper twenty bits follow from the hardware address, the lower twelve are chosen at
// random.

const probeRandom = 12 // bits

// ProbeXID makes the transaction id of a question of ours.
func ProbeXID(h Hardware, random uint32) uint32 {
	return probeMark(h)<<probeRandom | random&(1<<probeRandom-1)
}

// IsProbe reports whether a transaction id is one of ours. By chance, one in a million of a client's own is taken for it.
func IsProbe(h Hardware, xid uint32) bool { return xid>>probeRandom == probeMark(h) }

func probeMark(h Hardware) uint32 {
	sum := fnv.New32a()
	sum.Write([]byte("passepartout"))
	sum.Write([]byte(h.String()))
	return sum.Sum32() >> probeRandom
}
