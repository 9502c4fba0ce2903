package linux

import (
	"context"
	"sync"
	"time"

	"github.com/vishvananda/netlink/nl"
	"golang.org/x/sys/unix"

	"passepartout/internal/guard"
)

// Watch implements machine.Machine. A notification says only that something changed: so one that the kernel dropped for want of room
// (ENOBUFS) is a notification like any other, and nothing that it may have said is missed.
func (m *live) Watch(ctx context.Context) (<-chan struct{}, error) {
	socket, err := nl.Subscribe(unix.NETLINK_ROUTE, unix.RTNLGRP_LINK, unix.RTNLGRP_IPV4_IFADDR, unix.RTNLGRP_IPV6_IFADDR,
		unix.RTNLGRP_IPV4_ROUTE, unix.RTNLGRP_IPV6_ROUTE, unix.RTNLGRP_NEIGH)
	if err != nil {
		return nil, translate("following changes", err)
	}
	sock := &follower{NetlinkSocket: socket}
	changed := make(chan struct{}, 1)
	go func() {
		defer guard.Goroutine()
		<-ctx.Done()
		sock.close()
	}()
	go func() {
		defer guard.Goroutine()
		defer close(changed)
		for {
			_, _, err := sock.Receive()
			if ctx.Err() != nil {
				return
			}
			if err != nil && err != unix.ENOBUFS { // never spin on a socket that fails for good: the reader then looks once a second
				select {
				case <-ctx.Done():
					return
				case <-time.After(time.Second):
				}
			}
			select {
			case changed <- struct{}{}:
			default:
			}
			sock.pass(ctx)
		}
	}()
	return changed, nil
}

// together is within what time changes are one notification.
const together = 30 * time.Millisecond

// follower is a socket on which the kernel tells of changes.
type follower struct {
	*nl.NetlinkSocket
	mu     sync.Mutex
	closed bool
}

func (f *follower) close() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.closed = true
	f.Close()
}

// pass lets what comes within a moment go by unread: a machine whose routes change all the time has thousands of notifications a second, of
// which each says the same.
func (f *follower) pass(ctx context.Context) {
	select {
	case <-ctx.Done():
		return
	case <-time.After(together):
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	var nothing [1]byte
	for !f.closed && ctx.Err() == nil {
		if _, _, err := unix.Recvfrom(f.GetFd(), nothing[:], unix.MSG_DONTWAIT|unix.MSG_TRUNC); err != nil && err != unix.ENOBUFS {
			return
		}
	}
}
