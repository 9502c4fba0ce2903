package namespaces

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"strconv"
	"time"
	"unsafe"

	"github.com/vishvananda/netlink"
	"github.com/vishvananda/netns"
	"golang.org/x/sys/unix"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/scenario"
)

// worn makes a port whose frames pass through our hands, so that it can be slow in name, half duplex, and lose frames as a port does that
// receives damaged ones: a tap device at the node, and a relay between it and the end of the cable in the hub. It returns the device's
// name.
func (l *Lab) worn(p *scenario.Port, cable string, hw endpoint.HardwareAddr, ns netns.NsHandle) (string, error) {
	name := "t" + cable
	var tap *os.File
	err := In(ns, func() error {
		var err error
		if tap, err = device(name, unix.IFF_TAP); err != nil {
			return err
		}
		link, err := netlink.LinkByName(name)
		if err != nil {
			return err
		}
		if err := netlink.LinkSetHardwareAddr(link, hw[:]); err != nil {
			return err
		}
		speed, duplex := 1000, "full"
		if p.Speed > 0 {
			speed = p.Speed
		}
		if p.Half {
			duplex = "half"
		}
		if out, err := exec.Command("ethtool", "-s", name, "speed", strconv.Itoa(speed), "duplex", duplex, "autoneg", "off").
			CombinedOutput(); err != nil {
			return fmt.Errorf("ethtool: %w: %s", err, out)
		}
		return nil
	})
	if err != nil {
		return "", err
	}
	var line *os.File
	if err := In(l.hub, func() (err error) { line, err = packetSocket(cable); return err }); err != nil {
		tap.Close()
		return "", err
	}
	l.closers = append(l.closers, func() { line.Close(); tap.Close() })
	go func() {
		buf := make([]byte, 1<<16)
		for {
			n, err := tap.Read(buf)
			if err != nil {
				return
			}
			_, _ = line.Write(buf[:n])
		}
	}()
	go receive(line, func(frame []byte, _ time.Time) bool {
		if rand.Float64()*100 < p.Damage {
			spoil(tap)
		} else {
			_, _ = tap.Write(frame)
		}
		return true
	})
	return name, nil
}

// spoil makes the device count a frame that it could not take: a part of the frame lies where nothing can be read.
func spoil(tap *os.File) {
	raw, err := tap.SyscallConn()
	if err != nil {
		return
	}
	head := make([]byte, 60)
	parts := [2]unix.Iovec{{Base: &head[0]}, {}}
	parts[0].SetLen(len(head))
	parts[1].SetLen(40) // of memory at address 0, which nobody has
	_ = raw.Control(func(fd uintptr) {
		_, _, _ = unix.Syscall(unix.SYS_WRITEV, fd, uintptr(unsafe.Pointer(&parts[0])), uintptr(len(parts)))
	})
}

// tunnel makes a tunnel whose far end has gone: a tun device from which nobody reads. It runs inside the node's namespace.
func (l *Lab) tunnel(name string, p *scenario.Port) error {
	file, err := device(name, unix.IFF_TUN)
	if err != nil {
		return err
	}
	l.closers = append(l.closers, func() { file.Close() })
	return l.configurePort(name, name, p)
}

// device makes a tun or tap device in the calling thread's namespace.
func device(name string, kind uint16) (*os.File, error) {
	fd, err := unix.Open("/dev/net/tun", unix.O_RDWR|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	request, err := unix.NewIfreq(name)
	if err == nil {
		request.SetUint16(kind | unix.IFF_NO_PI)
		err = unix.IoctlIfreq(fd, unix.TUNSETIFF, request)
	}
	if err != nil {
		unix.Close(fd)
		return nil, fmt.Errorf("tun device: %w", err)
	}
	return os.NewFile(uintptr(fd), name), nil
}
