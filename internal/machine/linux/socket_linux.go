package linux

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"os"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"passepartout/internal/core/evidence"
	"passepartout/internal/machine"
	"passepartout/internal/machine/wire"
)

// socket is a non-blocking socket under Go's poller, so that a wait is ended by a deadline or by Close.
type socket struct {
	file   *os.File
	raw    syscall.RawConn
	v6     bool
	closed atomic.Bool
}

// options that every probing socket is given.
type options struct {
	iface    string
	hopLimit int
	errors   bool // ICMP errors into the socket's error queue (IP_RECVERR)
	stamps   bool // kernel time of receipt, and hop limit of what comes
	departed bool // kernel time of departure, through the error queue
	whole    bool // never in fragments
	onLink   bool // past the routing table (SO_DONTROUTE, socket(7)): bound to an interface, the kernel takes any address to be on its link
}

func newSocket(v6 bool, kind, proto int, o options) (*socket, error) {
	fd, err := unix.Socket(family(v6), kind|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, proto)
	if err != nil {
		return nil, translate("opening a socket", err)
	}
	if err := configure(fd, v6, o); err != nil {
		unix.Close(fd)
		return nil, err
	}
	file := os.NewFile(uintptr(fd), "probe")
	raw, err := file.SyscallConn()
	if err != nil {
		file.Close()
		return nil, err
	}
	return &socket{file: file, raw: raw, v6: v6}, nil
}

func configure(fd int, v6 bool, o options) error {
	level, recvErr, hops, recvHops := unix.IPPROTO_IP, unix.IP_RECVERR, unix.IP_TTL, unix.IP_RECVTTL
	if v6 {
		level, recvErr, hops, recvHops = unix.IPPROTO_IPV6, unix.IPV6_RECVERR, unix.IPV6_UNICAST_HOPS, unix.IPV6_RECVHOPLIMIT
	}
	if o.iface != "" {
		if err := unix.SetsockoptString(fd, unix.SOL_SOCKET, unix.SO_BINDTODEVICE, systemName(o.iface)); err != nil {
			return translate("binding to "+o.iface, err)
		}
	}
	if o.onLink {
		if err := unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_DONTROUTE, 1); err != nil {
			return translate("leaving the routing table aside", err)
		}
	}
	if o.hopLimit > 0 {
		if err := unix.SetsockoptInt(fd, level, hops, o.hopLimit); err != nil {
			return translate("setting the hop limit", err)
		}
	}
	if o.errors {
		if err := unix.SetsockoptInt(fd, level, recvErr, 1); err != nil {
			return translate("asking for ICMP errors", err)
		}
	}
	if o.whole {
		option, value := unix.IP_MTU_DISCOVER, unix.IP_PMTUDISC_PROBE
		if v6 {
			option, value = unix.IPV6_MTU_DISCOVER, unix.IPV6_PMTUDISC_PROBE
		}
		if err := unix.SetsockoptInt(fd, level, option, value); err != nil {
			return translate("forbidding fragments", err)
		}
		if v6 {
			if err := unix.SetsockoptInt(fd, level, unix.IPV6_DONTFRAG, 1); err != nil {
				return translate("forbidding fragments", err)
			}
		}
	}
	if o.stamps { // both are refinements: without them the process's own clock is used
		_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_TIMESTAMPNS, 1)
		_ = unix.SetsockoptInt(fd, level, recvHops, 1)
	}
	if o.departed {
		_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_TIMESTAMPING,
			unix.SOF_TIMESTAMPING_TX_SOFTWARE|unix.SOF_TIMESTAMPING_SOFTWARE|unix.SOF_TIMESTAMPING_OPT_ID|unix.SOF_TIMESTAMPING_OPT_TSONLY)
	}
	return nil
}

func (s *socket) Close() error {
	s.closed.Store(true)
	return s.file.Close()
}

// send hands one packet to the kernel, with a hop limit of its own if that is not 0.
func (s *socket) send(packet []byte, to netip.AddrPort, hopLimit int) (at time.Time, err error) {
	var control []byte
	if hopLimit > 0 {
		control = hopControl(s.v6, hopLimit)
	}
	var sa unix.Sockaddr
	if to.IsValid() {
		sa = sockaddr(to)
	}
	werr := s.raw.Write(func(fd uintptr) bool {
		// A socket reports an ICMP error about an earlier packet at its next use, and does not send then (ip(7)). What that error said
		// stands in the error queue; one that is about this packet comes again.
		for range 4 {
			at = time.Now()
			if _, err = unix.SendmsgN(int(fd), packet, control, sa, 0); !isICMPErrno(err) {
				break
			}
		}
		return err != unix.EAGAIN
	})
	if err == unix.ENOBUFS {
		err = nil // dropped on its way out of the port, which only a socket that asks for errors is told (ip(7)): lost like any other
	}
	return at, translate("sending", errors.Join(werr, err))
}

func hopControl(v6 bool, hopLimit int) []byte {
	b := make([]byte, unix.CmsgSpace(4))
	h := (*unix.Cmsghdr)(ptr(b))
	h.Level, h.Type = unix.IPPROTO_IP, unix.IP_TTL
	if v6 {
		h.Level, h.Type = unix.IPPROTO_IPV6, unix.IPV6_HOPLIMIT
	}
	h.SetLen(unix.CmsgLen(4))
	putInt32(b[unix.CmsgLen(0):], int32(hopLimit))
	return b
}

// packet is what one receive gave.
type packet struct {
	data   []byte
	from   netip.AddrPort
	at     time.Time
	stamp  time.Time
	hops   int
	report *queued // set when this came from the error queue
}

// queued is an entry of a socket's error queue: an ICMP error, a local one, or the time at which a packet left.
type queued struct {
	machine.Arrival
	local    bool
	errno    syscall.Errno
	departed bool   // the packet of that number left at the packet's stamp
	number   uint32 // packets are counted from 0 on each socket (OPT_ID)
}

// receive blocks for a packet or for an entry of the error queue.
func (s *socket) receive(buf []byte) (p packet, err error) {
	control := make([]byte, 512)
	rerr := s.raw.Read(func(fd uintptr) bool {
		for _, flags := range []int{unix.MSG_ERRQUEUE, 0} {
			n, cn, _, from, e := unix.Recvmsg(int(fd), buf, control, flags)
			if e == unix.EAGAIN || e == unix.EINTR {
				continue
			}
			err = e
			if e != nil {
				if flags == 0 && isICMPErrno(e) { // the queue tells more; it is read at the next turn
					err = nil
					continue
				}
				return true
			}
			p = packet{data: buf[:n], from: addrOf(from), at: time.Now()}
			p.readControl(control[:cn], s.v6, flags == unix.MSG_ERRQUEUE, p.from.Addr())
			return true
		}
		return false
	})
	if rerr != nil {
		return packet{}, rerr
	}
	return p, err
}

// isICMPErrno: errors that a socket reports because of an ICMP message which stands in its error queue as well.
func isICMPErrno(err error) bool {
	return err == unix.ECONNREFUSED || err == unix.EHOSTUNREACH || err == unix.ENETUNREACH || err == unix.EMSGSIZE || err == unix.EACCES ||
		err == unix.EPROTO || err == unix.ENOPROTOOPT || err == unix.EHOSTDOWN || err == unix.EOPNOTSUPP
}

func (p *packet) readControl(b []byte, v6, queue bool, asked netip.Addr) {
	messages, err := unix.ParseSocketControlMessage(b)
	if err != nil {
		return
	}
	for _, m := range messages {
		switch {
		case m.Header.Level == unix.SOL_SOCKET && m.Header.Type == unix.SCM_TIMESTAMPNS && len(m.Data) >= 16:
			p.stamp = time.Unix(getInt64(m.Data), getInt64(m.Data[8:]))
		case m.Header.Level == unix.SOL_SOCKET && m.Header.Type == unix.SCM_TIMESTAMPING && len(m.Data) >= 16 && p.stamp.IsZero():
			p.stamp = time.Unix(getInt64(m.Data), getInt64(m.Data[8:])) // the first of three: software
		case m.Header.Level == unix.IPPROTO_IP && m.Header.Type == unix.IP_TTL, m.Header.Level == unix.IPPROTO_IPV6 &&
			m.Header.Type == unix.IPV6_HOPLIMIT:
			if len(m.Data) >= 4 {
				p.hops = int(getInt32(m.Data))
			}
		case queue &&
			(m.Header.Level == unix.IPPROTO_IP && m.Header.Type == unix.IP_RECVERR || m.Header.Level == unix.IPPROTO_IPV6 &&
				m.Header.Type == unix.IPV6_RECVERR):
			p.report = parseQueued(m.Data, v6, asked)
		}
	}
	if p.report != nil {
		p.report.At, p.report.Stamp, p.report.HopLimitLeft = p.at, p.stamp, p.hops
	}
}

// parseQueued reads a sock_extended_err and the address of the one who complained (ip(7), IP_RECVERR).
func parseQueued(b []byte, v6 bool, asked netip.Addr) *queued {
	const size = 16 // of struct sock_extended_err
	if len(b) < size {
		return nil
	}
	q := &queued{errno: syscall.Errno(getInt32(b))}
	origin := b[4]
	q.ICMPType, q.ICMPCode = b[5], b[6]
	if q.errno == unix.EMSGSIZE {
		q.MTU = int(getInt32(b[8:]))
	}
	if origin == unix.SO_EE_ORIGIN_TIMESTAMPING {
		q.departed, q.number = true, uint32(getInt32(b[12:]))
		return q
	}
	if origin != unix.SO_EE_ORIGIN_ICMP && origin != unix.SO_EE_ORIGIN_ICMP6 {
		q.local, q.Outcome = true, evidence.LocalError
		q.Reason = localReason(q.errno)
		return q
	}
	switch offender := b[size:]; {
	case len(offender) >= 8 && getUint16(offender) == unix.AF_INET:
		q.From = netip.AddrFrom4([4]byte(offender[4:8]))
	case len(offender) >= 24 && getUint16(offender) == unix.AF_INET6:
		q.From = netip.AddrFrom16([16]byte(offender[8:24])).Unmap()
	}
	expired := q.ICMPType == 11
	if v6 {
		expired = q.ICMPType == 3
	}
	q.Outcome, q.Why = wire.OutcomeOf(expired, v6, q.ICMPType, q.ICMPCode, q.From, asked)
	return q
}

func localReason(errno syscall.Errno) string {
	switch errno {
	case unix.EHOSTUNREACH:
		return evidence.NoNextHop
	case unix.EMSGSIZE:
		return "larger than the path is known to carry"
	}
	return errno.Error()
}

// endWith makes a context's end interrupt a blocked receive. The function it returns must be called when the wait is over; it reports
// whether the context was the cause.
func (s *socket) endWith(ctx context.Context) func() {
	stop := context.AfterFunc(ctx, func() { _ = s.file.SetReadDeadline(time.Unix(1, 0)) })
	return func() {
		if !stop() {
			_ = s.file.SetReadDeadline(time.Time{})
		}
	}
}

func isDeadline(err error) bool { return errors.Is(err, os.ErrDeadlineExceeded) }

func isClosed(err error) bool { return errors.Is(err, os.ErrClosed) || errors.Is(err, net.ErrClosed) }

// ended reports whether an error came because the socket was closed; the poller's own error for that has no exported name.
func (s *socket) ended(err error) bool { return err != nil && (s.closed.Load() || isClosed(err)) }
