package main

import (
	"io"
	"os"
	"sync"
)

// stdout is where every command writes what it has found. What cannot be written there is an error of the whole: nobody has been told.
var stdout = &sink{to: os.Stdout}

// sink remembers the first error of a writer.
type sink struct {
	to io.Writer

	mu  sync.Mutex
	err error
}

func (s *sink) Write(b []byte) (int, error) {
	n, err := s.to.Write(b)
	if err != nil {
		s.mu.Lock()
		if s.err == nil {
			s.err = err
		}
		s.mu.Unlock()
	}
	return n, err
}

// failed is the first error; nil if all was written.
func (s *sink) failed() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.err
}
