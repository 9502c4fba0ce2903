package namespaces

import (
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"os"
	"sync"
	"time"
	"unsafe"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"passepartout/internal/machine/wire"
	"passepartout/internal/nap"
	"passepartout/internal/scenario"
)

// hub joins the cables of one segment: by a kernel bridge where nothing is to be done to the frames, else by a relay of our own that delays
// and loses them as the segment says, since kernels without netem cannot.
type hub struct {
	treat  func(at time.Time) scenario.Treatment
	shaped bool
	ports  []string
	files  []*os.File
	lanes  [scenario.Lanes]chan relayed
	done   chan struct{}
	once   sync.Once
}

type relayed struct {
	due   time.Time
	from  int
	frame []byte
}

// relayFrom is the delay from which on a segment is relayed; below it a bridge's own time is close enough.
const relayFrom = time.Millisecond

func (h *hub) start(name string) error {
	h.done = make(chan struct{})
	if !h.shaped && h.treat(time.Now()).Delay < relayFrom {
		return h.bridge("br-" + name)
	}
	for i := range h.lanes {
		h.lanes[i] = make(chan relayed, 4096)
	}
	for i, port := range h.ports {
		file, err := packetSocket(port)
		if err != nil {
			return err
		}
		h.files = append(h.files, file)
		go h.read(i, file)
	}
	for _, lane := range h.lanes {
		go h.deliver(lane)
	}
	return nil
}

func (h *hub) bridge(name string) error {
	attrs := netlink.NewLinkAttrs()
	attrs.Name = name
	off := false
	bridge := &netlink.Bridge{LinkAttrs: attrs, MulticastSnooping: &off}
	if err := netlink.LinkAdd(bridge); err != nil {
		return err
	}
	for _, port := range h.ports {
		link, err := netlink.LinkByName(port)
		if err != nil {
			return err
		}
		if err := netlink.LinkSetMaster(link, bridge); err != nil {
			return err
		}
	}
	return netlink.LinkSetUp(bridge)
}

func packetSocket(port string) (*os.File, error) {
	link, err := netlink.LinkByName(port)
	if err != nil {
		return nil, err
	}
	const all = unix.ETH_P_ALL<<8&0xff00 | unix.ETH_P_ALL>>8
	fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_RAW|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	if err := unix.Bind(fd, &unix.SockaddrLinklayer{Protocol: all, Ifindex: link.Attrs().Index}); err != nil {
		unix.Close(fd)
		return nil, err
	}
	if err := unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_TIMESTAMPNS, 1); err != nil {
		unix.Close(fd)
		return nil, err
	}
	return os.NewFile(uintptr(fd), port), nil
}

func (h *hub) read(port int, file *os.File) {
	receive(file, func(frame []byte, arrived time.Time) bool {
		t := h.treat(arrived)
		if len(frame) > t.MTU+14 || t.Loss > 0 && rand.Float64() < t.Loss {
			return true
		}
		select {
		case h.lanes[t.Lane] <- relayed{arrived.Add(t.Delay), port, append([]byte(nil), frame...)}:
			return true
		case <-h.done:
			return false
		}
	})
}

// receive gives every frame that arrives at a packet socket, those left out that leave through it, until take has enough or the socket is
// closed. The time is the kernel's: when this process stands still for a moment, what arrived meanwhile is not taken for one lump.
func receive(file *os.File, take func(frame []byte, arrived time.Time) bool) {
	raw, err := file.SyscallConn()
	if err != nil {
		return
	}
	buf, control := make([]byte, 1<<16), make([]byte, 128)
	for {
		n, outgoing := 0, false
		var arrived time.Time
		var rerr error
		err := raw.Read(func(fd uintptr) bool {
			var from unix.Sockaddr
			var cn int
			n, cn, _, from, rerr = unix.Recvmsg(int(fd), buf, control, 0)
			arrived = stampOf(control[:cn])
			if ll, ok := from.(*unix.SockaddrLinklayer); ok {
				outgoing = ll.Pkttype == unix.PACKET_OUTGOING
			}
			return rerr != unix.EAGAIN
		})
		if err != nil {
			return
		}
		if rerr != nil || outgoing {
			if rerr == unix.ENETDOWN { // the other end was unplugged
				time.Sleep(10 * time.Millisecond)
			}
			continue
		}
		if !take(buf[:n], arrived) {
			return
		}
	}
}

// stampOf is the kernel's time in the control messages of a frame, or now.
func stampOf(control []byte) time.Time {
	messages, err := unix.ParseSocketControlMessage(control)
	if err != nil {
		return time.Now()
	}
	for _, m := range messages {
		if m.Header.Level == unix.SOL_SOCKET && m.Header.Type == unix.SCM_TIMESTAMPNS && len(m.Data) >= 16 {
			return time.Unix(int64(binary.NativeEndian.Uint64(m.Data)), int64(binary.NativeEndian.Uint64(m.Data[8:])))
		}
	}
	return time.Now()
}

// speak tells every port of the segment by LLDP that it is a switch, once a second.
func (h *hub) speak(name string, spec *scenario.Segment) error {
	var files []*os.File
	for _, port := range h.ports {
		file, err := packetSocket(port)
		if err != nil {
			return err
		}
		files = append(files, file)
	}
	go func() {
		tick := time.NewTicker(time.Second)
		defer tick.Stop()
		for {
			select {
			case <-h.done:
				for _, f := range files {
					f.Close()
				}
				return
			case <-tick.C:
			}
			for i, f := range files {
				_, _ = f.Write(wire.LLDPFrame(scenario.SwitchHardware(name), spec.Switch, fmt.Sprintf("p%d", i+1), spec.VLAN))
			}
		}
	}()
	return nil
}

func (h *hub) deliver(lane <-chan relayed) {
	for {
		select {
		case <-h.done:
			return
		case r := <-lane:
			nap.Until(r.due)
			for i, file := range h.files {
				if i != r.from {
					_, _ = file.Write(r.frame)
				}
			}
		}
	}
}

func (h *hub) close() {
	h.once.Do(func() {
		close(h.done)
		for _, f := range h.files {
			f.Close()
		}
	})
}

// withoutOffload makes a port compute its checksums itself: the relay would pass on frames whose checksums nobody has filled in.
func withoutOffload(name string) {
	const setTXChecksum = 0x17 // ETHTOOL_STXCSUM
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return
	}
	defer unix.Close(fd)
	value := struct{ cmd, data uint32 }{cmd: setTXChecksum}
	request := struct {
		name [unix.IFNAMSIZ]byte
		data unsafe.Pointer
		_    [16]byte
	}{data: unsafe.Pointer(&value)}
	copy(request.name[:unix.IFNAMSIZ-1], name)
	_, _, _ = unix.Syscall(unix.SYS_IOCTL, uintptr(fd), unix.SIOCETHTOOL, uintptr(unsafe.Pointer(&request)))
}
