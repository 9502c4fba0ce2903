package linux

import (
	"context"
	"net"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"passepartout/internal/core/evidence"
	"passepartout/internal/machine"
)

// Connect implements machine.Machine. connect(2) says the same for "host unreachable" and "prohibited"; the error queue has the code and
// the one who sent it.
func (m *live) Connect(ctx context.Context, c machine.ConnectConfig) (net.Conn, evidence.Reply) {
	s, err := newSocket(c.To.Addr().Is6(), unix.SOCK_STREAM, 0, options{iface: c.Interface, hopLimit: c.HopLimit, errors: true})
	if err != nil {
		return nil, machine.LocalError(err)
	}
	defer s.Close()
	unsent := repeatsUnsent()
	began := time.Now() // after the file was read: what follows is measured
	cerr := error(nil)
	_ = s.raw.Control(func(fd uintptr) { cerr = unix.Connect(int(fd), sockaddr(c.To)) })
	if cerr == unix.EINPROGRESS {
		cerr = s.connected(ctx)
	}
	took := time.Since(began)
	if isDeadline(cerr) || (cerr != nil && ctx.Err() != nil) {
		return nil, evidence.Reply{Outcome: evidence.Silent, Waited: took, Unsent: repeatsUnsent() - unsent}
	}
	if cerr == nil {
		conn, err := net.FileConn(s.file)
		if err != nil {
			return nil, machine.LocalError(err)
		}
		return conn, evidence.Reply{Outcome: evidence.Answered, From: c.To.Addr(), RTT: took}
	}
	if q := s.queued(c.To.Addr().Unmap()); q != nil && !q.local {
		return nil, evidence.Reply{Outcome: q.Outcome, From: q.From, Why: q.Why, ICMPType: q.ICMPType, ICMPCode: q.ICMPCode, RTT: took}
	} else if q != nil {
		return nil, evidence.Reply{Outcome: evidence.LocalError, Reason: q.Reason, RTT: took}
	}
	switch cerr {
	case unix.ECONNREFUSED, unix.ECONNRESET: // no ICMP in the queue: a reset from the host itself
		return nil, evidence.Reply{Outcome: evidence.Refused, From: c.To.Addr(), RTT: took}
	case unix.ETIMEDOUT:
		return nil, evidence.Reply{Outcome: evidence.Silent, Waited: took, Unsent: repeatsUnsent() - unsent}
	}
	return nil, machine.LocalError(translate("connecting", cerr))
}

// repeatsUnsent is how often, since this machine was started, a segment of TCP could not be sent again: TCPRetransFail in
// /proc/net/netstat. A filter that swallows what goes out gives the program no error for TCP; it shows here, to anybody.
func repeatsUnsent() int {
	raw, err := os.ReadFile("/proc/thread-self/net/netstat")
	if err != nil {
		return 0
	}
	return netstat(string(raw), "TcpExt:", "TCPRetransFail")
}

// netstat finds a counter: the file has two lines a group, the names and the values. 0 if it is not there.
func netstat(text, group, name string) int {
	var names []string
	for line := range strings.Lines(text) {
		fields := strings.Fields(line)
		if len(fields) == 0 || fields[0] != group {
			continue
		}
		if names == nil {
			names = fields
			continue
		}
		if i := slices.Index(names, name); i >= 0 && i < len(fields) {
			n, _ := strconv.Atoi(fields[i])
			return n
		}
		return 0
	}
	return 0
}

// connected waits until the connection is there or has failed, and returns why.
func (s *socket) connected(ctx context.Context) error {
	stop := context.AfterFunc(ctx, func() { _ = s.file.SetWriteDeadline(time.Unix(1, 0)) })
	defer stop()
	var result error
	err := s.raw.Write(func(fd uintptr) bool {
		n, err := unix.Poll([]unix.PollFd{{Fd: int32(fd), Events: unix.POLLOUT}}, 0)
		if n == 0 || err != nil {
			return false
		}
		code, err := unix.GetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_ERROR)
		if err != nil {
			result = err
		} else if code != 0 {
			result = syscall.Errno(code)
		}
		return true
	})
	if err != nil {
		return err
	}
	return result
}

// queued takes the newest entry of the error queue, if there is one.
func (s *socket) queued(asked netip.Addr) (last *queued) {
	_ = s.raw.Control(func(fd uintptr) {
		buf, control := make([]byte, 512), make([]byte, 512)
		for {
			_, cn, _, _, err := unix.Recvmsg(int(fd), buf, control, unix.MSG_ERRQUEUE)
			if err != nil {
				return
			}
			p := packet{}
			p.readControl(control[:cn], s.v6, true, asked)
			if p.report != nil {
				last = p.report
			}
		}
	})
	return last
}
