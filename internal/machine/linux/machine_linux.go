package linux

import (
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"sync"

	"golang.org/x/sys/unix"

	"passepartout/internal/machine"
)

type live struct {
	permissions func() machine.Permissions
	teller      *Teller // nil: this process looks for itself

	usersLock sync.Mutex
	users     map[uint32]string // names, by their numbers; "" where there is none
}

var _ machine.Machine = (*live)(nil)

func open(t *Teller) (machine.Machine, error) {
	return &live{permissions: sync.OnceValue(tryPermissions), teller: t}, nil
}

func (*live) Roots() *x509.CertPool { return nil }

func (m *live) Permissions() machine.Permissions { return m.permissions() }

// tryPermissions opens each kind of socket once: a capability bit, a sysctl and a security module can each say no.
func tryPermissions() machine.Permissions {
	const grant = "sudo setcap cap_net_raw+ep $(command -v passepartout)"
	var p machine.Permissions
	switch {
	case canOpen(unix.AF_INET, unix.SOCK_RAW, unix.IPPROTO_ICMP):
		p.Echo = machine.Permission{Granted: true, How: "raw"}
	case canOpen(unix.AF_INET, unix.SOCK_DGRAM, unix.IPPROTO_ICMP):
		p.Echo = machine.Permission{Granted: true, How: "datagram"}
	default:
		p.Echo = machine.Permission{Why: "needs permission to send echo requests",
			Mend: `sudo sysctl -w net.ipv4.ping_group_range="0 2147483647"`}
	}
	if canOpen(unix.AF_PACKET, unix.SOCK_RAW, 0) {
		p.Frames = machine.Permission{Granted: true, How: "raw"}
	} else {
		p.Frames = machine.Permission{Why: "needs permission to send raw frames", Mend: grant}
	}
	return p
}

func canOpen(family, kind, proto int) bool {
	fd, err := unix.Socket(family, kind|unix.SOCK_CLOEXEC, proto)
	if err != nil {
		return false
	}
	unix.Close(fd)
	return true
}

// translate turns a system error into the few that callers act on; op says what was being done.
func translate(op string, err error) error {
	if err == nil {
		return nil
	}
	switch {
	case errors.Is(err, unix.ENETUNREACH), errors.Is(err, unix.EHOSTUNREACH), errors.Is(err, unix.EADDRNOTAVAIL):
		return fmt.Errorf("%s: %w (%w)", op, machine.ErrNoRoute, err)
	case errors.Is(err, unix.ENETDOWN):
		return fmt.Errorf("%s: %w", op, machine.ErrDown)
	case errors.Is(err, unix.ENODEV), errors.Is(err, unix.ENXIO):
		return fmt.Errorf("%s: %w", op, machine.ErrGone)
	case errors.Is(err, unix.EMSGSIZE):
		return fmt.Errorf("%s: %w", op, machine.ErrTooLong)
	case errors.Is(err, unix.EPERM), errors.Is(err, unix.EACCES):
		return fmt.Errorf("%s: %w", op, fs.ErrPermission)
	case errors.Is(err, net.ErrClosed), errors.Is(err, fs.ErrClosed):
		return net.ErrClosed
	}
	return fmt.Errorf("%s: %w", op, err)
}

func family(v6 bool) int {
	if v6 {
		return unix.AF_INET6
	}
	return unix.AF_INET
}

func sockaddr(to netip.AddrPort) unix.Sockaddr {
	if to.Addr().Is4() {
		return &unix.SockaddrInet4{Port: int(to.Port()), Addr: to.Addr().As4()}
	}
	sa := &unix.SockaddrInet6{Port: int(to.Port()), Addr: to.Addr().As16()}
	if zone := to.Addr().Zone(); zone != "" {
		if ifi, err := net.InterfaceByName(systemName(zone)); err == nil {
			sa.ZoneId = uint32(ifi.Index)
		}
	}
	return sa
}

func addrOf(sa unix.Sockaddr) netip.AddrPort {
	switch sa := sa.(type) {
	case *unix.SockaddrInet4:
		return netip.AddrPortFrom(netip.AddrFrom4(sa.Addr), uint16(sa.Port))
	case *unix.SockaddrInet6:
		return netip.AddrPortFrom(netip.AddrFrom16(sa.Addr).Unmap(), uint16(sa.Port))
	}
	return netip.AddrPort{}
}
