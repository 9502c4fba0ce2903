package linux

import (
	"encoding/binary"
	"sync/atomic"
	"unsafe"
)

// Control messages are in the byte order of the machine.

// nextID numbers the echo ports of this process.
var nextID atomic.Uint32

func ptr(b []byte) unsafe.Pointer { return unsafe.Pointer(&b[0]) }

func getUint16(b []byte) uint16  { return binary.NativeEndian.Uint16(b) }
func getInt32(b []byte) int32    { return int32(binary.NativeEndian.Uint32(b)) }
func getInt64(b []byte) int64    { return int64(binary.NativeEndian.Uint64(b)) }
func putInt32(b []byte, v int32) { binary.NativeEndian.PutUint32(b, uint32(v)) }
