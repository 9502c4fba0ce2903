package linux

import (
	"errors"
	"net"
	"os"
	"time"

	mpacket "github.com/mdlayher/packet"
	"golang.org/x/sys/unix"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/machine"
)

type framePort struct {
	conn *mpacket.Conn
	hw   endpoint.HardwareAddr
	buf  []byte
}

// OpenFrames implements machine.Machine.
func (m *live) OpenFrames(iface string) (machine.FramePort, error) {
	ifi, err := net.InterfaceByName(iface)
	if err != nil {
		return nil, translate("opening "+iface, unix.ENODEV)
	}
	conn, err := mpacket.Listen(ifi, mpacket.Raw, unix.ETH_P_ALL, nil)
	if err != nil {
		var call *os.SyscallError
		if errors.As(err, &call) {
			err = call.Err
		}
		return nil, translate("opening "+iface+" for frames", err)
	}
	p := &framePort{conn: conn, buf: make([]byte, 1<<16)}
	p.hw, _ = endpoint.HardwareFrom(ifi.HardwareAddr)
	return p, nil
}

func (p *framePort) Hardware() endpoint.HardwareAddr { return p.hw }

func (p *framePort) Send(frame []byte) error {
	if len(frame) < 14 {
		return errors.New("frame shorter than its header")
	}
	_, err := p.conn.WriteTo(frame, &mpacket.Addr{HardwareAddr: net.HardwareAddr(frame[:6])})
	return translate("sending a frame", err)
}

func (p *framePort) Receive() ([]byte, time.Time, error) {
	for {
		n, _, err := p.conn.ReadFrom(p.buf)
		at := time.Now()
		if err != nil {
			if isClosed(err) {
				return nil, at, net.ErrClosed
			}
			return nil, at, translate("receiving frames", err)
		}
		if n < 14 || string(p.buf[6:12]) == string(p.hw[:]) { // sent by this machine
			continue
		}
		return append([]byte(nil), p.buf[:n]...), at, nil
	}
}

func (p *framePort) Close() error { return p.conn.Close() }
