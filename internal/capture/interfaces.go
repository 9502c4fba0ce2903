package capture

import (
	"encoding/binary"
	"fmt"
	"io"
)

// mostInterfaces is how many interfaces one section may describe: each is kept until it ends.
const mostInterfaces = 4096

var errInterfaces = fmt.Errorf("more than %d interfaces in one section: no machine has as many", mostInterfaces)

// The types of blocks of pcapng that count here (draft-ietf-opsawg-pcapng §4.1, §4.2).
const (
	sectionBlock   = 0x0a0d0d0a
	interfaceBlock = 1
)

// fewInterfaces reads a file of pcapng through, and ends it where a section describes more interfaces than are kept.
type fewInterfaces struct {
	from  io.Reader
	order binary.ByteOrder
	head  []byte // the beginning of the block that is being read
	rest  uint64 // what is left of it
	count int
}

func (f *fewInterfaces) Read(b []byte) (int, error) {
	n, err := f.from.Read(b)
	for p := b[:n]; len(p) > 0; {
		if f.rest > 0 {
			skip := min(f.rest, uint64(len(p)))
			f.rest, p = f.rest-skip, p[skip:]
			continue
		}
		take := min(f.wanted()-len(f.head), len(p))
		f.head, p = append(f.head, p[:take]...), p[take:]
		if len(f.head) == f.wanted() && !f.block() {
			return n - len(p), errInterfaces
		}
	}
	return n, err
}

// wanted is how much of a block tells what it is: of a section's the mark of its byte order too.
func (f *fewInterfaces) wanted() int {
	if len(f.head) >= 4 && binary.LittleEndian.Uint32(f.head) == sectionBlock {
		return 12
	}
	return 8
}

// block counts a block of which the beginning has been read.
func (f *fewInterfaces) block() bool {
	if f.wanted() == 12 {
		f.count, f.order = 0, binary.LittleEndian
		if binary.BigEndian.Uint32(f.head[8:]) == 0x1a2b3c4d {
			f.order = binary.BigEndian
		}
	}
	if f.order == nil { // no section before it: whoever reads it says so
		f.order = binary.LittleEndian
	}
	if f.order.Uint32(f.head) == interfaceBlock {
		f.count++
	}
	length, read := uint64(f.order.Uint32(f.head[4:])), uint64(len(f.head))
	f.rest = max(length, read) - read
	f.head = f.head[:0]
	return f.count <= mostInterfaces
}
