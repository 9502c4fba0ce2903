package capture

import (
	"errors"
	"fmt"
	"io"
	"slices"

	"github.com/gopacket/gopacket/layers"

	"passepartout/internal/core/frame"
)

// One reads the frame of a number, and what it begins with.
func One(r io.Reader, number int) (f Frame, link frame.Link, err error) {
	file, err := Open(r)
	if err != nil {
		return f, link, err
	}
	for f.Number < number {
		had := f.Number
		switch err := file.Next(&f); {
		case errors.Is(err, io.EOF):
			return f, link, fmt.Errorf("there is no frame %d: it has %d", number, had)
		case err != nil:
			return f, link, fmt.Errorf("there is no frame %d to be read: after %d it is %w", number, had, err)
		}
	}
	f.Data = slices.Clone(f.Data)
	switch {
	case f.Link == layers.LinkTypeEthernet:
	case rawIP[f.Link]:
		link = frame.RawIP
	default:
		return f, link, fmt.Errorf("frame %d is of a link type that is not known here: %d", number, int(f.Link))
	}
	return f, link, nil
}
