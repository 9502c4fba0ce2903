package tui

import (
	"bytes"
	"io"
	"os"
	"time"
)

// The marks between which a terminal puts what is pasted (bracketed paste).
var pasteBegins, pasteEnds = []byte("\x1b[200~"), []byte("\x1b[201~")

// The bounds of a paste. The end of one that got lost on the way would make every key that follows part of it, Ctrl-C too.
const (
	pasteRests = time.Second // what comes after a rest as long as this is typed
	mostPasted = 1 << 20     // octets; more is not a target, nor a list of them
)

// pastes reads keys, and ends a paste that the terminal does not end.
type pastes struct {
	from io.Reader
	open bool
	size int       // octets of the paste so far
	last time.Time // when something was read
	tail []byte    // the end of what was read, where a mark may have begun
	held []byte    // what was read and not given yet
}

func (p *pastes) Read(b []byte) (int, error) {
	if len(p.held) > 0 {
		return p.give(b, nil)
	}
	room := b
	if len(b) > 2*len(pasteEnds) {
		room = b[:len(b)-len(pasteEnds)] // so that nothing is held until the next key
	}
	n, err := p.from.Read(room)
	if n == 0 {
		return 0, err
	}
	read := room[:n]
	if p.open && (time.Since(p.last) > pasteRests || p.size+n > mostPasted) {
		p.held = append(p.held, pasteEnds...)
		p.open, p.tail = false, nil
	}
	p.last = time.Now()
	p.held = append(p.held, read...)
	p.follow(read)
	return p.give(b, err)
}

// follow looks which mark came last.
func (p *pastes) follow(read []byte) {
	seen := append(p.tail, read...)
	begun, ended := bytes.LastIndex(seen, pasteBegins), bytes.LastIndex(seen, pasteEnds)
	switch {
	case begun > ended:
		p.open, p.size = true, len(seen)-begun
	case ended >= 0:
		p.open = false
	case p.open:
		p.size += len(read)
	}
	p.tail = bytes.Clone(seen[max(0, len(seen)-len(pasteEnds)+1):])
}

func (p *pastes) give(b []byte, err error) (int, error) {
	n := copy(b, p.held)
	p.held = p.held[n:]
	return n, err
}

// terminalKeys is a terminal whose keys are read so.
type terminalKeys struct {
	*os.File
	keys *pastes
}

func keysOf(f *os.File) *terminalKeys { return &terminalKeys{f, &pastes{from: f}} }

func (k *terminalKeys) Read(b []byte) (int, error) { return k.keys.Read(b) }
