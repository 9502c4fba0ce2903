package linux

import (
	"context"
	"errors"
	"maps"
	"net/netip"
	"os"
	"os/user"
	"strconv"
	"strings"
	"time"
	"unsafe"

	"github.com/vishvananda/netlink/nl"
	"golang.org/x/sys/unix"

	"passepartout/internal/core/sockets"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
)

var _ machine.SocketTeller = (*live)(nil)

// The messages of sock_diag(7).
const (
	diagRequestSize = 56 // struct inet_diag_req_v2
	diagMessageSize = 72 // struct inet_diag_msg

	diagInfo     = 2 // INET_DIAG_INFO: struct tcp_info
	diagMemory   = 7 // INET_DIAG_SKMEMINFO
	diagProtocol = 10
	diagOnlyV6   = 11

	memoryDrops = 8 // SK_MEMINFO_DROPS
)

// kernelStates are the states as the kernel numbers them (include/net/tcp_states.h).
var kernelStates = [...]sockets.State{1: sockets.Established, 2: sockets.SynSent, 3: sockets.SynReceived, 4: sockets.FinWait1,
	5: sockets.FinWait2,
	6: sockets.TimeWait, 7: sockets.Closed, 8: sockets.CloseWait, 9: sockets.LastAck,
	10: sockets.Listen, 11: sockets.Closing, 12: sockets.SynReceived}

// Sockets implements machine.SocketTeller: whose they are is looked up meanwhile.
func (m *live) Sockets(ctx context.Context) (*sockets.Table, error) {
	owners := make(chan *sockets.Owners, 1)
	go func() {
		defer guard.Goroutine()
		if m.teller != nil {
			if o, err := m.teller.ask(ctx); err == nil {
				owners <- o
				return
			}
		}
		owners <- readOwners(ctx)
	}()
	t := &sockets.Table{At: time.Now(), Own: os.Getpid(), Linear: linearTimeouts(), Opens: connectionsOpened(),
		Sockets: make([]sockets.Socket, 0, socketsInUse())}
	var failed error
	for _, ask := range []struct {
		family, protocol uint8
	}{{unix.AF_INET, unix.IPPROTO_TCP}, {unix.AF_INET6, unix.IPPROTO_TCP}, {unix.AF_INET, unix.IPPROTO_UDP}, {unix.AF_INET6,
		unix.IPPROTO_UDP}} {
		err := dumpSockets(ctx, ask.family, ask.protocol, &t.Sockets)
		if errors.Is(err, unix.ENOENT) { // a kernel without this family, or without the part that tells of it
			continue
		}
		failed = errors.Join(failed, err)
	}
	if failed != nil {
		<-owners
		return nil, translate("reading the sockets", failed)
	}
	o := <-owners
	t.Programs = o.Programs
	unknown := 0
	for i := range t.Sockets {
		s := &t.Sockets[i]
		s.Owner = -1
		if at, ok := o.Of[s.Inode]; ok && s.Inode != 0 {
			s.Owner = at
		} else if s.Inode != 0 {
			unknown++
		}
	}
	if o.Refused > 0 && unknown > 0 {
		t.Withheld = sockets.Unknown(unknown, o.Refused)
	}
	t.Settle()
	t.Users = m.userNames(t.Sockets)
	return t, ctx.Err()
}

// mostUsers have their names looked up.
const mostUsers = 100

// userNames gives the names of those whose sockets they are (passwd(5)). Each is looked up once.
func (m *live) userNames(list []sockets.Socket) map[uint32]string {
	m.usersLock.Lock()
	defer m.usersLock.Unlock()
	if m.users == nil {
		m.users = map[uint32]string{}
	}
	for i := range list {
		id := list[i].User
		if _, known := m.users[id]; known || len(m.users) >= mostUsers {
			continue
		}
		m.users[id] = ""
		if u, err := user.LookupId(strconv.FormatUint(uint64(id), 10)); err == nil {
			m.users[id] = wiretext.Clean(u.Username)
		}
	}
	return maps.Clone(m.users)
}

// dumpSockets has the kernel tell of all sockets of a sort, one datagram of answers at a time.
func dumpSockets(ctx context.Context, family, protocol uint8, out *[]sockets.Socket) error {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.NETLINK_SOCK_DIAG)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	// The kernel answers at once, or never.
	if err := unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Sec: 5}); err != nil {
		return err
	}
	ask := nl.NewNetlinkRequest(unix.SOCK_DIAG_BY_FAMILY, unix.NLM_F_DUMP)
	extensions := uint8(1<<(diagInfo-1) | 1<<(diagMemory-1))
	ask.AddRawData(append([]byte{family, protocol, extensions, 0, 0xff, 0xff, 0xff, 0xff}, make([]byte, diagRequestSize-8)...))
	if err := unix.Sendto(fd, ask.Serialize(), 0, &unix.SockaddrNetlink{Family: unix.AF_NETLINK}); err != nil {
		return err
	}
	buffer := make([]byte, 64<<10)
	for ctx.Err() == nil {
		n, from, err := unix.Recvfrom(fd, buffer, 0)
		switch kernel, ok := from.(*unix.SockaddrNetlink); {
		case err == unix.EINTR:
			continue
		case err != nil:
			return err
		case !ok || kernel.Pid != 0: // another program may send to this socket too
			continue
		}
		done, err := eachMessage(buffer[:n], func(body []byte) {
			if s, ok := socketOf(body, protocol); ok {
				*out = append(*out, s)
			}
		})
		if done || err != nil {
			return err
		}
	}
	return ctx.Err()
}

// eachMessage hands out the bodies of netlink messages. It is true after the last of a dump.
func eachMessage(b []byte, take func(body []byte)) (done bool, err error) {
	for len(b) >= unix.SizeofNlMsghdr {
		length, kind := int(getInt32(b)), getUint16(b[4:])
		if length < unix.SizeofNlMsghdr || length > len(b) {
			return true, errors.New("the kernel's answer is cut short")
		}
		body := b[unix.SizeofNlMsghdr:length]
		switch kind {
		case unix.NLMSG_DONE:
			return true, nil
		case unix.NLMSG_ERROR:
			if len(body) < 4 {
				return true, errors.New("the kernel's answer is cut short")
			}
			return true, unix.Errno(-getInt32(body))
		case unix.SOCK_DIAG_BY_FAMILY:
			take(body)
		}
		b = b[min((length+3)&^3, len(b)):]
	}
	return false, nil
}

// socketOf reads a struct inet_diag_msg and what follows it. protocol is what was asked for; 0 leaves it to the message.
func socketOf(b []byte, protocol uint8) (s sockets.Socket, ok bool) {
	if len(b) < diagMessageSize || int(b[1]) >= len(kernelStates) {
		return s, false
	}
	id := b[4:52]
	s = sockets.Socket{State: kernelStates[b[1]], Timer: sockets.Timer(min(b[2], uint8(sockets.Probe))), Retries: b[3], Owner: -1,
		Local: endOf(b[0], id[4:20], id[0:2]), Remote: endOf(b[0], id[20:36], id[2:4]), Interface: int(getInt32(id[36:])),
		ID: uint64(getInt64(id[40:])), Expires: time.Duration(uint32(getInt32(b[52:]))) * time.Millisecond,
		Unread: uint32(getInt32(b[56:])), Unacked: uint32(getInt32(b[60:])), User: uint32(getInt32(b[64:])),
		Inode: uint64(uint32(getInt32(b[68:])))}
	for b = b[diagMessageSize:]; len(b) >= 4; {
		length, kind := int(getUint16(b)), getUint16(b[2:])
		if length < 4 || length > len(b) {
			break
		}
		value := b[4:length]
		switch kind {
		case diagInfo:
			measured(&s, value)
		case diagMemory:
			if len(value) >= 4*(memoryDrops+1) {
				s.Dropped = uint32(getInt32(value[4*memoryDrops:]))
			}
		case diagProtocol:
			if len(value) > 0 && protocol == 0 {
				protocol = value[0]
			}
		case diagOnlyV6:
			s.OnlyV6 = len(value) > 0 && value[0] != 0
		}
		b = b[min((length+3)&^3, len(b)):]
	}
	if protocol == unix.IPPROTO_UDP {
		s.Protocol = sockets.UDP
	}
	return s, true
}

// endOf reads one end of a socket. No address and no port is no end.
func endOf(family uint8, addr, port []byte) netip.AddrPort {
	n := uint16(port[0])<<8 | uint16(port[1])
	var a netip.Addr
	if family == unix.AF_INET {
		a = netip.AddrFrom4([4]byte(addr[:4]))
	} else {
		a = netip.AddrFrom16([16]byte(addr)).Unmap()
	}
	if n == 0 && a.IsUnspecified() {
		return netip.AddrPort{}
	}
	return netip.AddrPortFrom(a, n)
}

// measured takes in what the kernel knows of a connection. An older one tells less.
func measured(s *sockets.Socket, value []byte) {
	var info unix.TCPInfo
	copy(unsafe.Slice((*byte)(unsafe.Pointer(&info)), unsafe.Sizeof(info)), value)
	s.Measured = s.State != sockets.Listen
	s.RTT, s.RTTVar = time.Duration(info.Rtt)*time.Microsecond, time.Duration(info.Rttvar)*time.Microsecond
	s.Timeout = time.Duration(info.Rto) * time.Microsecond
	s.SinceData, s.SinceAck = time.Duration(info.Last_data_recv)*time.Millisecond, time.Duration(info.Last_ack_recv)*time.Millisecond
	s.Received, s.SegmentsOut, s.PathMTU = info.Bytes_received, info.Segs_out, info.Pmtu
	s.Retransmitted, s.Needless = info.Total_retrans, info.Dsack_dups
}

// linearTimeouts is how many openings are repeated after a second each (ip-sysctl, tcp_syn_linear_timeouts); older kernels have none.
func linearTimeouts() int {
	text, err := os.ReadFile("/proc/sys/net/ipv4/tcp_syn_linear_timeouts")
	if err != nil {
		return 0
	}
	n, err := strconv.Atoi(strings.TrimSpace(string(text)))
	if err != nil {
		return 0
	}
	return n
}

// socketsInUse is about how many sockets there will be to tell of (/proc/net/sockstat, proc(5)): room for them is made once.
func socketsInUse() (n int) {
	for _, file := range []string{"/proc/thread-self/net/sockstat", "/proc/thread-self/net/sockstat6"} {
		text, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(text)) {
			fields := strings.Fields(line)
			if len(fields) < 3 || !strings.HasPrefix(fields[0], "TCP") && !strings.HasPrefix(fields[0], "UDP") {
				continue
			}
			for i := 1; i+1 < len(fields); i += 2 {
				if fields[i] == "inuse" || fields[i] == "tw" {
					x, _ := strconv.Atoi(fields[i+1])
					n += max(x, 0)
				}
			}
		}
	}
	const most = 1 << 20
	return min(n+n/50+16, most)
}

// connectionsOpened is the kernel's own count (RFC 4022, tcpActiveOpens and tcpPassiveOpens).
func connectionsOpened() (n uint64) {
	text, err := os.ReadFile("/proc/thread-self/net/snmp")
	if err != nil {
		return 0
	}
	var names []string
	for line := range strings.Lines(string(text)) {
		fields := strings.Fields(line)
		if len(fields) == 0 || fields[0] != "Tcp:" {
			continue
		}
		if names == nil {
			names = fields
			continue
		}
		for i, name := range names {
			if i < len(fields) && (name == "ActiveOpens" || name == "PassiveOpens") {
				x, _ := strconv.ParseUint(fields[i], 10, 64)
				n += x
			}
		}
	}
	return n
}
