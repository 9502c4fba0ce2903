package machine

import (
	"context"

	"passepartout/internal/core/sockets"
)

// SocketTeller is a machine that tells of the sockets of all its programs.
type SocketTeller interface {
	// Sockets reads them all, and whose they are as far as this process may know it; nobody changes the table afterwards.
	Sockets(ctx context.Context) (*sockets.Table, error)
	// Closings sends each TCP connection at its end, until ctx ends; then the channel is closed. fs.ErrPermission where this process may
	// not.
	Closings(ctx context.Context) (<-chan Closing, error)
}

// Closing is the end of a connection, or that some may have ended of which the system could not tell.
type Closing struct {
	Socket sockets.Socket
	Missed bool
}
