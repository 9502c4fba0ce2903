package simulated

import (
	"errors"
	"sync"
	"time"

	"golang.org/x/net/bpf"

	"passepartout/internal/machine"
)

var _ machine.Capturer = (*endpointMachine)(nil)

// captureSocket sorts the frames of a port by the program that a kernel is given.
type captureSocket struct {
	port   machine.FrameSocket // hears everything
	vm     *bpf.VM
	frames chan heardFrame
	failed chan error
	done   chan struct{}
	once   sync.Once
}

// OpenCapture implements machine.Capturer.
func (m *endpointMachine) OpenCapture(c machine.CaptureConfig) (machine.CaptureSocket, error) {
	program, ok := bpf.Disassemble(c.Choose)
	if !ok {
		return nil, errors.New("the choice is no program")
	}
	vm, err := bpf.NewVM(program)
	if err != nil {
		return nil, err
	}
	port, err := m.OpenFrames(machine.FrameConfig{Interface: c.Interface, Own: true})
	if err != nil {
		return nil, err
	}
	s := &captureSocket{port: port, vm: vm, frames: make(chan heardFrame, 1024), failed: make(chan error, 1), done: make(chan struct{})}
	go func() {
		for {
			frame, at, err := port.Receive()
			if err != nil {
				s.failed <- err
				return
			}
			if n, err := vm.Run(frame); err == nil && n > 0 {
				select {
				case s.frames <- heardFrame{frame, at}:
				case <-s.done:
					return
				}
			}
		}
	}()
	return s, nil
}

// Receive implements machine.CaptureSocket.
func (s *captureSocket) Receive(c *machine.Captured) (bool, error) {
	select {
	case f := <-s.frames:
		c.At, c.Length, c.Data = f.at, len(f.bytes), f.bytes
		return true, nil
	case err := <-s.failed:
		s.failed <- err
		return false, err
	case <-time.After(200 * time.Millisecond):
		return false, nil
	}
}

// Close implements machine.CaptureSocket.
func (s *captureSocket) Close() error {
	s.once.Do(func() { close(s.done) })
	return s.port.Close()
}

// Dropped implements machine.CaptureSocket: nothing is, here.
func (s *captureSocket) Dropped() uint64 { return 0 }
