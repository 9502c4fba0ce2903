package probe

import (
	"bytes"
	"net"
	"sync"

	"passepartout/internal/core/wiretext"
)

// opening is how what came over a connection began.
type opening struct {
	mu    sync.Mutex
	bytes []byte
}

// mostOpening is how much of it is kept: a greeting's first line.
const mostOpening = 80

// overheard is a connection of which the opening is kept.
type overheard struct {
	net.Conn
	said *opening
}

// Read implements net.Conn.
func (o *overheard) Read(b []byte) (int, error) {
	n, err := o.Conn.Read(b)
	o.said.mu.Lock()
	defer o.said.mu.Unlock()
	if room := mostOpening - len(o.said.bytes); room > 0 {
		o.said.bytes = append(o.said.bytes, b[:min(n, room)]...)
	}
	return n, err
}

// The content types with which a record of TLS begins (RFC 8446 §5.1), alert and handshake, and its major version.
const (
	tlsAlert, tlsHandshake = 21, 22
	tlsMajor               = 3
)

// other gives the opening's first line if it is not of the protocol that was asked for, TLS or HTTP; "" if it is, or nothing came.
func (o *opening) other(secure bool) string {
	o.mu.Lock()
	defer o.mu.Unlock()
	b := o.bytes
	record := len(b) > 1 && (b[0] == tlsAlert || b[0] == tlsHandshake) && b[1] == tlsMajor
	switch {
	case len(b) == 0, secure && record, !secure && bytes.HasPrefix(b, []byte("HTTP/")):
		return ""
	case record:
		return "a record of TLS"
	}
	line, _, _ := bytes.Cut(b, []byte("\n"))
	if text := wiretext.Clean(string(bytes.TrimRight(line, "\r"))); text != "" {
		return text
	}
	return "octets that are no text"
}
