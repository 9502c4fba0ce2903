// Package capture reads capture files: pcap with microseconds or nanoseconds in either byte order, and pcapng. It holds one frame at a
// time, so that a file of any size needs the same memory.
package capture

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"
)

// Frame is one captured frame. Data is only valid until the next is read.
type Frame struct {
	Number int // from 1
	At     time.Time
	Link   layers.LinkType
	Data   []byte
	Cut    bool // less was captured than was on the wire
}

// Reader reads the frames of a file in order.
type Reader struct {
	source gopacket.ZeroCopyPacketDataSource
	link   layers.LinkType
	mixed  bool // each frame tells its own link type
	number int
}

// bufferSize is how much of the file is read at a time.
const bufferSize = 1 << 18

// Open looks at the beginning of a file. The error says in one line what it is instead of a capture.
func Open(r io.Reader) (*Reader, error) {
	buffered := bufio.NewReaderSize(r, bufferSize)
	magic, err := buffered.Peek(4)
	switch {
	case errors.Is(err, io.EOF) && len(magic) == 0:
		return nil, errors.New("the file is empty")
	case errors.Is(err, io.EOF):
		return nil, errors.New("no capture: shorter than the header of one")
	case err != nil:
		return nil, err
	}
	switch [4]byte(magic) {
	case [4]byte{0x0a, 0x0d, 0x0d, 0x0a}:
		ng, err := pcapgo.NewNgReader(&fewInterfaces{from: buffered}, pcapgo.NgReaderOptions{WantMixedLinkType: true, SkipUnknownVersion: true})
		if err != nil {
			return nil, fmt.Errorf("no capture: the pcapng header is damaged (%w)", err)
		}
		return &Reader{source: ng, mixed: true}, nil
	case [4]byte{0xa1, 0xb2, 0xc3, 0xd4}, [4]byte{0xd4, 0xc3, 0xb2, 0xa1}, [4]byte{0xa1, 0xb2, 0x3c, 0x4d}, [4]byte{0x4d, 0x3c, 0xb2, 0xa1}:
		p, err := pcapgo.NewReader(buffered)
		if err != nil {
			return nil, fmt.Errorf("no capture: the pcap header is damaged (%w)", err)
		}
		return &Reader{source: p, link: p.LinkType()}, nil
	}
	if magic[0] == 0x1f && magic[1] == 0x8b {
		return nil, errors.New("the file is compressed: unpack it first")
	}
	return nil, errors.New("no capture: neither pcap nor pcapng")
}

// Next reads a frame into f. io.EOF is the orderly end; any other error says why the rest of the file cannot be read.
func (r *Reader) Next(f *Frame) error {
	data, info, err := r.source.ZeroCopyReadPacketData()
	switch {
	case err == nil:
	case errors.Is(err, io.EOF):
		return io.EOF
	case errors.Is(err, io.ErrUnexpectedEOF):
		return errors.New("cut short: the file ends within the frame")
	default:
		return fmt.Errorf("damaged here, and not readable any further (%w)", err)
	}
	r.number++
	f.Number, f.At, f.Link, f.Data, f.Cut = r.number, info.Timestamp, r.link, data, info.CaptureLength < info.Length
	if r.mixed && len(info.AncillaryData) > 0 {
		f.Link, _ = info.AncillaryData[0].(layers.LinkType)
	}
	return nil
}
