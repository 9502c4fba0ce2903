package linux

import (
	"errors"
	"net"
	"os"
	"sync/atomic"
	"time"

	mpacket "github.com/mdlayher/packet"
	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/machine"
	"passepartout/internal/machine/wire"
)

type frameSocket struct {
	conn *mpacket.Conn
	hw   endpoint.HardwareAddr
	own  bool
	buf  []byte

	closed atomic.Bool // the poller's own error for that has no exported name
}

// OpenFrames implements machine.Machine.
func (m *live) OpenFrames(c machine.FrameConfig) (machine.FrameSocket, error) {
	iface := c.Interface
	ifi, err := net.InterfaceByName(systemName(iface))
	if err != nil {
		return nil, translate("opening "+iface, unix.ENODEV)
	}
	config := &mpacket.Config{Filter: filters[c.Only]}
	conn, err := mpacket.Listen(ifi, mpacket.Raw, unix.ETH_P_ALL, config)
	if err != nil {
		var call *os.SyscallError
		if errors.As(err, &call) {
			err = call.Err
		}
		return nil, translate("opening "+iface+" for frames", err)
	}
	if c.Only != machine.OnlyDHCP {
		joinGroup(conn, ifi.Index)
	}
	p := &frameSocket{conn: conn, own: c.Own, buf: make([]byte, 1<<16)}
	p.hw, _ = endpoint.HardwareFrom(ifi.HardwareAddr)
	return p, nil
}

// joinGroup has the port take in what is sent to the nearest bridge's group: LLDP. A port that cannot hears the rest all the same.
func joinGroup(conn *mpacket.Conn, index int) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return
	}
	group := unix.PacketMreq{Ifindex: int32(index), Type: unix.PACKET_MR_MULTICAST, Alen: 6}
	copy(group.Address[:], wire.NearestBridge[:])
	_ = raw.Control(func(fd uintptr) {
		_ = unix.SetsockoptPacketMreq(int(fd), unix.SOL_PACKET, unix.PACKET_ADD_MEMBERSHIP, &group)
	})
}

func (p *frameSocket) Hardware() endpoint.HardwareAddr { return p.hw }

func (p *frameSocket) Send(frame []byte) error {
	if len(frame) < 14 {
		return errors.New("frame shorter than its header")
	}
	_, err := p.conn.WriteTo(frame, &mpacket.Addr{HardwareAddr: net.HardwareAddr(frame[:6])})
	return translate("sending a frame", err)
}

func (p *frameSocket) Receive() ([]byte, time.Time, error) {
	for {
		n, _, err := p.conn.ReadFrom(p.buf)
		at := time.Now()
		if err != nil {
			if p.closed.Load() || isClosed(err) {
				return nil, at, net.ErrClosed
			}
			return nil, at, translate("receiving frames", err)
		}
		if n < 14 || !p.own && string(p.buf[6:12]) == string(p.hw[:]) { // sent by this machine
			continue
		}
		return append([]byte(nil), p.buf[:n]...), at, nil
	}
}

func (p *frameSocket) Close() error {
	p.closed.Store(true)
	return p.conn.Close()
}

// onlyDHCP passes UDP over IPv4 to the ports of DHCP, the first parts of fragments included.
var onlyDHCP = assembled(
	bpf.LoadAbsolute{Off: 12, Size: 2},
	bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.ETH_P_IP, SkipTrue: 8},
	bpf.LoadAbsolute{Off: 14 + 9, Size: 1},
	bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.IPPROTO_UDP, SkipTrue: 6},
	bpf.LoadAbsolute{Off: 14 + 6, Size: 2},
	bpf.JumpIf{Cond: bpf.JumpBitsSet, Val: 0x1fff, SkipTrue: 4}, // a later fragment has no ports
	bpf.LoadMemShift{Off: 14},
	bpf.LoadIndirect{Off: 14 + 2, Size: 2},
	bpf.JumpIf{Cond: bpf.JumpEqual, Val: dhcp.ServerPort, SkipTrue: 2},
	bpf.JumpIf{Cond: bpf.JumpEqual, Val: dhcp.ClientPort, SkipTrue: 1},
	bpf.RetConstant{Val: 0},
	bpf.RetConstant{Val: 1 << 16},
)

// onlyHousekeeping passes the protocols by which machines find each other and are set up.
var onlyHousekeeping = assembled(
	bpf.LoadAbsolute{Off: 12, Size: 2},
	bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.ETH_P_ARP, SkipTrue: 18},
	bpf.JumpIf{Cond: bpf.JumpEqual, Val: etherLLDP, SkipTrue: 17},
	bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.ETH_P_PAE, SkipTrue: 16},
	bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.ETH_P_IPV6, SkipTrue: 8},
	bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.ETH_P_IP, SkipTrue: 13},
	bpf.LoadAbsolute{Off: 14 + 9, Size: 1},
	bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.IPPROTO_UDP, SkipTrue: 11},
	bpf.LoadMemShift{Off: 14},
	bpf.LoadIndirect{Off: 14 + 2, Size: 2},
	bpf.JumpIf{Cond: bpf.JumpEqual, Val: dhcp.ServerPort, SkipTrue: 9},
	bpf.JumpIf{Cond: bpf.JumpEqual, Val: dhcp.ClientPort, SkipTrue: 8},
	bpf.RetConstant{Val: 0},
	bpf.LoadAbsolute{Off: 14 + 6, Size: 1}, // IPv6: the next header
	bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.IPPROTO_ICMPV6, SkipTrue: 5},
	bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.IPPROTO_UDP, SkipTrue: 3},
	bpf.LoadAbsolute{Off: 14 + 40 + 2, Size: 2},
	bpf.JumpIf{Cond: bpf.JumpEqual, Val: dhcp6ClientPort, SkipTrue: 2},
	bpf.JumpIf{Cond: bpf.JumpEqual, Val: dhcp6ServerPort, SkipTrue: 1},
	bpf.RetConstant{Val: 0},
	bpf.RetConstant{Val: 1 << 16},
)

// filters are the kernel's programs; none for everything.
var filters = map[machine.Filter][]bpf.RawInstruction{machine.OnlyDHCP: onlyDHCP, machine.OnlyHousekeeping: onlyHousekeeping}

// What package unix has no names for: LLDP's Ethernet type (IEEE 802.1AB), and the ports of DHCPv6 (RFC 8415 §7.2).
const (
	etherLLDP                        = 0x88cc
	dhcp6ClientPort, dhcp6ServerPort = 546, 547
)

func assembled(program ...bpf.Instruction) []bpf.RawInstruction {
	raw, err := bpf.Assemble(program)
	if err != nil {
		panic(err) // a program of our own
	}
	return raw
}
