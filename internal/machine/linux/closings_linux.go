package linux

import (
	"context"
	"time"

	"golang.org/x/sys/unix"

	"passepartout/internal/core/sockets"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
)

// closingsHeld are handed on before somebody has to take them; the kernel has room for more.
const closingsHeld = 4096

// Closings implements machine.SocketTeller, by what the kernel tells of each socket that it takes apart (SKNLGRP_INET_TCP_DESTROY).
func (m *live) Closings(ctx context.Context) (<-chan machine.Closing, error) {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.NETLINK_SOCK_DIAG)
	if err != nil {
		return nil, translate("following the ends of connections", err)
	}
	const groups = 1<<(unix.SKNLGRP_INET_TCP_DESTROY-1) | 1<<(unix.SKNLGRP_INET6_TCP_DESTROY-1)
	err = unix.Bind(fd, &unix.SockaddrNetlink{Family: unix.AF_NETLINK, Groups: groups})
	if err == nil {
		err = unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Usec: 200_000}) // so that its end is seen
	}
	if err != nil {
		unix.Close(fd)
		return nil, translate("following the ends of connections", err)
	}
	const room = 8 << 20
	if unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, room) != nil {
		_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUF, room) // as much as anybody may have
	}
	out := make(chan machine.Closing, closingsHeld)
	go func() {
		defer guard.Goroutine()
		defer close(out)
		defer unix.Close(fd)
		buffer := make([]byte, 64<<10)
		send := func(c machine.Closing) {
			select {
			case out <- c:
			case <-ctx.Done():
			}
		}
		for ctx.Err() == nil {
			n, from, err := unix.Recvfrom(fd, buffer, 0)
			switch kernel, ok := from.(*unix.SockaddrNetlink); {
			case err == unix.EAGAIN, err == unix.EINTR:
				continue
			case err == unix.ENOBUFS:
				send(machine.Closing{Missed: true})
				continue
			case err != nil: // never spin on a socket that fails for good
				select {
				case <-ctx.Done():
				case <-time.After(time.Second):
				}
				continue
			case !ok || kernel.Pid != 0:
				continue
			}
			_, _ = eachMessage(buffer[:n], func(body []byte) {
				if s, ok := socketOf(body, 0); ok && s.Protocol == sockets.TCP {
					send(machine.Closing{Socket: s})
				}
			})
		}
	}()
	return out, nil
}
