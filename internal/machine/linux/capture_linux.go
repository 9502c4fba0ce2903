package linux

import (
	"encoding/binary"
	"fmt"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"

	"passepartout/internal/machine"
)

var _ machine.Capturer = (*live)(nil)

// captureRoom is what the kernel keeps of frames until they are read.
const captureRoom = 64 << 20

type captureSocket struct {
	fd      int
	frame   []byte
	control []byte
	dropped uint64
	closing atomic.Bool // whoever receives lets go
	use     sync.Mutex  // of fd, which is -1 once it is closed
}

// OpenCapture implements machine.Capturer. The program is in place before the first frame can come.
func (m *live) OpenCapture(c machine.CaptureConfig) (machine.CaptureSocket, error) {
	doing := "recording frames of " + c.Interface
	ifi, err := net.InterfaceByName(systemName(c.Interface))
	if err != nil {
		return nil, translate(doing, unix.ENODEV)
	}
	fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_RAW|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, translate(doing, err)
	}
	s := &captureSocket{fd: fd, frame: make([]byte, 1<<16+4), control: make([]byte, 256)}
	if err = s.prepare(c.Choose, ifi.Index); err != nil {
		unix.Close(fd)
		return nil, translate(doing, err)
	}
	return s, nil
}

func (s *captureSocket) prepare(choose []bpf.RawInstruction, index int) error {
	filter := make([]unix.SockFilter, len(choose))
	for i, x := range choose {
		filter[i] = unix.SockFilter{Code: x.Op, Jt: x.Jt, Jf: x.Jf, K: x.K}
	}
	if err := unix.SetsockoptSockFprog(s.fd, unix.SOL_SOCKET, unix.SO_ATTACH_FILTER,
		&unix.SockFprog{Len: uint16(len(filter)), Filter: &filter[0]}); err != nil {
		return fmt.Errorf("the choice: %w", err)
	}
	if unix.SetsockoptInt(s.fd, unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, captureRoom) != nil {
		_ = unix.SetsockoptInt(s.fd, unix.SOL_SOCKET, unix.SO_RCVBUF, captureRoom) // as much as anybody may have
	}
	for _, o := range [][2]int{{unix.SOL_SOCKET, unix.SO_TIMESTAMPNS}, {unix.SOL_PACKET, unix.PACKET_AUXDATA}} {
		if err := unix.SetsockoptInt(s.fd, o[0], o[1], 1); err != nil {
			return err
		}
	}
	if err := unix.SetsockoptTimeval(s.fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Usec: 200_000}); err != nil {
		return err
	}
	all := uint16(unix.ETH_P_ALL)
	err := unix.Bind(s.fd, &unix.SockaddrLinklayer{Protocol: all<<8 | all>>8, Ifindex: index})
	if err != nil {
		return err
	}
	everybody := unix.PacketMreq{Ifindex: int32(index), Type: unix.PACKET_MR_PROMISC}
	return unix.SetsockoptPacketMreq(s.fd, unix.SOL_PACKET, unix.PACKET_ADD_MEMBERSHIP, &everybody)
}

// The words of struct tpacket_auxdata (linux/if_packet.h).
const (
	auxLength, auxTag, auxTagProtocol = 4, 16, 18
	auxTagged                         = unix.TP_STATUS_VLAN_VALID
)

// Receive implements machine.CaptureSocket. A tag that the kernel has taken off a frame is put back.
func (s *captureSocket) Receive(c *machine.Captured) (bool, error) {
	s.use.Lock()
	defer s.use.Unlock()
	for {
		if s.closing.Load() {
			return false, net.ErrClosed
		}
		n, told, _, _, err := unix.Recvmsg(s.fd, s.frame[4:], s.control, 0)
		switch err {
		case nil:
		case unix.EAGAIN:
			return false, nil
		case unix.EINTR:
			continue
		default:
			return false, translate("recording frames", err)
		}
		c.At, c.Length, c.Data = time.Now(), n, s.frame[4:4+n]
		messages, _ := unix.ParseSocketControlMessage(s.control[:told])
		for _, m := range messages {
			switch {
			case m.Header.Level == unix.SOL_SOCKET && m.Header.Type == unix.SCM_TIMESTAMPNS && len(m.Data) >= 16:
				c.At = time.Unix(getInt64(m.Data), getInt64(m.Data[8:]))
			case m.Header.Level == unix.SOL_PACKET && m.Header.Type == unix.PACKET_AUXDATA && len(m.Data) >= 20:
				c.Length = int(getInt32(m.Data[auxLength:]))
				if getInt32(m.Data)&auxTagged != 0 && n >= 12 {
					protocol := uint16(unix.ETH_P_8021Q)
					if getInt32(m.Data)&unix.TP_STATUS_VLAN_TPID_VALID != 0 {
						protocol = getUint16(m.Data[auxTagProtocol:])
					}
					copy(s.frame[:12], s.frame[4:16])
					binary.BigEndian.PutUint16(s.frame[12:], protocol)
					binary.BigEndian.PutUint16(s.frame[14:], getUint16(m.Data[auxTag:]))
					c.Data, c.Length = s.frame[:n+4], c.Length+4
				}
			}
		}
		return true, nil
	}
}

// Dropped implements machine.CaptureSocket: what the kernel counts starts again whenever it is asked.
func (s *captureSocket) Dropped() uint64 {
	s.use.Lock()
	defer s.use.Unlock()
	if stats, err := unix.GetsockoptTpacketStats(s.fd, unix.SOL_PACKET, unix.PACKET_STATISTICS); err == nil {
		s.dropped += uint64(stats.Drops)
	}
	return s.dropped
}

// Close implements machine.CaptureSocket. It waits until nobody reads any more: the number may mean something else by then.
func (s *captureSocket) Close() error {
	s.closing.Store(true)
	s.use.Lock()
	defer s.use.Unlock()
	fd := s.fd
	s.fd = -1
	if fd < 0 {
		return nil
	}
	return unix.Close(fd)
}
