package linux

import (
	"context"
	"passepartout/internal/guard"
	"time"

	"github.com/vishvananda/netlink/nl"
	"golang.org/x/sys/unix"
)

// Watch implements machine.Machine. A notification says only that something changed: so one that the kernel dropped for want of room
// (ENOBUFS) is a notification like any other, and nothing that it may have said is missed.
func (m *live) Watch(ctx context.Context) (<-chan struct{}, error) {
	sock, err := nl.Subscribe(unix.NETLINK_ROUTE, unix.RTNLGRP_LINK, unix.RTNLGRP_IPV4_IFADDR, unix.RTNLGRP_IPV6_IFADDR,
		unix.RTNLGRP_IPV4_ROUTE, unix.RTNLGRP_IPV6_ROUTE, unix.RTNLGRP_NEIGH)
	if err != nil {
		return nil, translate("following changes", err)
	}
	changed := make(chan struct{}, 1)
	go func() {
		defer guard.Goroutine()
		<-ctx.Done()
		sock.Close()
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
		}
	}()
	return changed, nil
}
