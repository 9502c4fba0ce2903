package machine

import (
	"time"

	"golang.org/x/net/bpf"
)

// Capturer is a machine whose frames can be recorded.
type Capturer interface {
	// OpenCapture opens a port that hears all frames of an interface, this machine's own too, of which a program lets some through.
	OpenCapture(CaptureConfig) (CaptureSocket, error)
}

// CaptureConfig describes such a port.
type CaptureConfig struct {
	Interface string
	Choose    []bpf.RawInstruction // gives how much of a frame is wanted, 0 for none
}

// Captured is a frame that was recorded, or the beginning of it. Data is only valid until the next is received.
type Captured struct {
	At     time.Time // when the kernel had it, where it says so
	Length int       // on the wire
	Data   []byte
}

// CaptureSocket hears frames until it is closed. Receive has one caller.
type CaptureSocket interface {
	// Receive waits for the next frame. It is false when none came for a while, so that its caller can look around. net.ErrClosed after
	// Close.
	Receive(*Captured) (bool, error)
	// Dropped is how many that were chosen found no room, so far.
	Dropped() uint64
	Close() error
}
