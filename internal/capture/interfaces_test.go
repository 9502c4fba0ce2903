package capture_test

import (
	"bytes"
	"encoding/binary"
	"io"
	"testing"
	"testing/iotest"

	"github.com/gopacket/gopacket/layers"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/capture"
)

// sections builds a file of pcapng: sections that describe so many interfaces, each followed by one frame.
func sections(order binary.AppendByteOrder, counts ...int) []byte {
	var b []byte
	block := func(kind uint32, body []byte) {
		length := uint32(12 + len(body))
		b = order.AppendUint32(order.AppendUint32(b, kind), length)
		b = order.AppendUint32(append(b, body...), length)
	}
	for _, count := range counts {
		head := order.AppendUint32(nil, 0x1a2b3c4d)
		head = order.AppendUint16(order.AppendUint16(head, 1), 0)
		block(0x0a0d0d0a, order.AppendUint64(head, 1<<64-1))
		for range count {
			block(1, order.AppendUint32(order.AppendUint16(order.AppendUint16(nil, uint16(layers.LinkTypeEthernet)), 0), 65535))
		}
		frame := make([]byte, 60)
		packet := order.AppendUint32(order.AppendUint32(order.AppendUint32(nil, 0), 0), 0)
		block(6, append(order.AppendUint32(order.AppendUint32(packet, 60), 60), frame...))
	}
	return b
}

// A section may describe as many interfaces as a machine can have; more are refused before they fill the memory.
func TestHowManyInterfaces(t *testing.T) {
	for _, order := range []binary.AppendByteOrder{binary.LittleEndian, binary.BigEndian} {
		for _, c := range []struct {
			counts []int
			frames int
			says   string
		}{
			{[]int{1}, 1, ""},
			{[]int{4096, 4096, 1}, 3, ""},
			{[]int{1, 4097}, 1, "more than 4096 interfaces"},
			{[]int{200_000}, 0, "more than 4096 interfaces"},
		} {
			for _, from := range []func([]byte) io.Reader{
				func(b []byte) io.Reader { return bytes.NewReader(b) },
				func(b []byte) io.Reader { return iotest.OneByteReader(bytes.NewReader(b)) },
			} {
				r, err := capture.Open(from(sections(order, c.counts...)))
				frames := 0
				for f := (capture.Frame{}); err == nil; {
					if err = r.Next(&f); err == nil {
						frames++
					}
				}
				assert.Equal(t, c.frames, frames, c.counts)
				if c.says == "" {
					require.ErrorIs(t, err, io.EOF, c.counts)
				} else {
					require.ErrorContains(t, err, c.says)
				}
			}
		}
	}
}
