package dhcplab

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"
	"github.com/mdlayher/packet"
	"github.com/stretchr/testify/require"
	"github.com/vishvananda/netlink"
	"github.com/vishvananda/netns"
	"golang.org/x/sys/unix"

	"passepartout/internal/capture"
	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/lease"
	"passepartout/internal/leasefile"
	"passepartout/internal/scenario/namespaces"
)

// lab is one or two segments with a bridge each, and machines on them.
type lab struct {
	t     *testing.T
	dir   string
	hub   netns.NsHandle
	nodes map[string]netns.NsHandle
	ports int

	mu  sync.Mutex // guards what is captured
	raw bytes.Buffer
}

// client is where the client of every lab stands: the only node without an address of its own.
const client = "client"

// newLab needs these programs, and skips the test that lacks one.
func newLab(t *testing.T, programs ...string) *lab {
	t.Helper()
	for _, p := range append(programs, "nft", "unshare") {
		if p == ours {
			continue // it is built
		}
		if _, err := lookPath(p); err != nil {
			t.Skip(p + " is not installed: sh scripts/test-tools.sh installs it, as root")
		}
	}
	if os.Getuid() != 0 {
		t.Skip("real DHCP clients and servers need root")
	}
	hub, err := namespaces.New()
	if err != nil {
		t.Skipf("network namespaces are not permitted: %v", err)
	}
	l := &lab{t: t, dir: t.TempDir(), hub: hub, nodes: map[string]netns.NsHandle{}}
	require.NoError(t, os.Chmod(l.dir, 0o755))
	t.Cleanup(func() {
		for _, h := range l.nodes {
			endAllIn(h)
			h.Close()
		}
		hub.Close()
	})
	l.bridge("near")
	l.node(client, "near")
	l.capture("near")
	return l
}

// endAllIn ends what still runs in a node: what its programs have begun and left to itself.
func endAllIn(h netns.NsHandle) {
	var own unix.Stat_t
	if unix.Fstat(int(h), &own) != nil {
		return
	}
	spaces, _ := filepath.Glob("/proc/[0-9]*/ns/net")
	for _, path := range spaces {
		var at unix.Stat_t
		pid, err := strconv.Atoi(strings.Split(path, "/")[2])
		if err == nil && unix.Stat(path, &at) == nil && at.Ino == own.Ino && at.Dev == own.Dev && pid != os.Getpid() {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
	}
}

// lookPath finds system programs for a PATH that lacks their directories.
func lookPath(p string) (string, error) {
	for _, dir := range []string{"", "/usr/sbin/", "/sbin/", "/lib/systemd/"} {
		if path, err := exec.LookPath(dir + p); err == nil {
			return path, nil
		}
	}
	return "", exec.ErrNotFound
}

func (l *lab) in(h netns.NsHandle, f func() error) {
	l.t.Helper()
	require.NoError(l.t, namespaces.In(h, f))
}

func (l *lab) bridge(name string) {
	off := false
	attrs := netlink.NewLinkAttrs()
	attrs.Name = name
	l.in(l.hub, func() error {
		b := &netlink.Bridge{LinkAttrs: attrs, MulticastSnooping: &off}
		if err := netlink.LinkAdd(b); err != nil {
			return err
		}
		return netlink.LinkSetUp(b)
	})
}

// node puts a machine onto segments, one port each: eth0, eth1; addresses are given per port, "" for none.
func (l *lab) node(name string, segments ...string) {
	h, err := namespaces.New()
	require.NoError(l.t, err)
	l.nodes[name] = h
	for i, segment := range segments {
		segment, address, _ := strings.Cut(segment, " ")
		l.ports++
		outside, inside := fmt.Sprintf("p%d", l.ports), fmt.Sprintf("i%d", l.ports)
		l.in(l.hub, func() error {
			attrs := netlink.NewLinkAttrs()
			attrs.Name = outside
			hw := net.HardwareAddr{2, 0, 0, 0, 0x10, byte(16 + l.ports)}
			if err := netlink.LinkAdd(&netlink.Veth{LinkAttrs: attrs, PeerName: inside, PeerHardwareAddr: hw}); err != nil {
				return err
			}
			peer, err := netlink.LinkByName(inside)
			if err != nil {
				return err
			}
			if err := netlink.LinkSetNsFd(peer, int(h)); err != nil {
				return err
			}
			port, _ := netlink.LinkByName(outside)
			bridge, err := netlink.LinkByName(segment)
			if err != nil {
				return err
			}
			if err := netlink.LinkSetMaster(port, bridge); err != nil {
				return err
			}
			return netlink.LinkSetUp(port)
		})
		l.in(h, func() error {
			link, err := netlink.LinkByName(inside)
			if err != nil {
				return err
			}
			if err := netlink.LinkSetName(link, fmt.Sprintf("eth%d", i)); err != nil {
				return err
			}
			if lo, err := netlink.LinkByName("lo"); err == nil {
				_ = netlink.LinkSetUp(lo)
			}
			if address != "" {
				a, err := netlink.ParseAddr(address)
				if err != nil {
					return err
				}
				if err := netlink.AddrAdd(link, a); err != nil {
					return err
				}
			}
			if err := netlink.LinkSetUp(link); err != nil {
				return err
			}
			return running(link)
		})
	}
}

// running waits until an interface can be used: some servers look once, when they start, and never again.
func running(link netlink.Link) error {
	for began := time.Now(); time.Since(began) < 10*time.Second; time.Sleep(5 * time.Millisecond) {
		now, err := netlink.LinkByIndex(link.Attrs().Index)
		if err != nil {
			return err
		}
		if now.Attrs().RawFlags&unix.IFF_RUNNING != 0 {
			return nil
		}
	}
	return fmt.Errorf("%s does not come up", link.Attrs().Name)
}

// capture keeps every frame that passes a bridge.
func (l *lab) capture(bridge string) {
	var conn *packet.Conn
	l.in(l.hub, func() error {
		ifi, err := net.InterfaceByName(bridge)
		if err != nil {
			return err
		}
		if conn, err = packet.Listen(ifi, packet.Raw, unix.ETH_P_ALL, nil); err != nil {
			return err
		}
		return conn.SetPromiscuous(true)
	})
	w := pcapgo.NewWriterNanos(&l.raw)
	if l.raw.Len() == 0 {
		require.NoError(l.t, w.WriteFileHeader(65536, layers.LinkTypeEthernet))
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		buf := make([]byte, 65536)
		for {
			n, _, err := conn.ReadFrom(buf)
			if err != nil {
				return
			}
			l.mu.Lock()
			_ = w.WritePacket(gopacket.CaptureInfo{Timestamp: time.Now(), CaptureLength: n, Length: n}, buf[:n])
			l.mu.Unlock()
		}
	}()
	l.t.Cleanup(func() { conn.Close(); <-done })
}

// pcap is everything captured so far, as a file.
func (l *lab) pcap() []byte {
	l.mu.Lock()
	defer l.mu.Unlock()
	return bytes.Clone(l.raw.Bytes())
}

// exchanges rebuilds what was said so far.
func (l *lab) exchanges() (out []*dhcp.Exchange) {
	tracker := dhcp.NewTracker(dhcp.Config{Ended: func(e *dhcp.Exchange) { out = append(out, e) }})
	_, err := capture.DHCP(bytes.NewReader(l.pcap()), tracker, func(frame int, why string) { l.t.Errorf("frame %d: %s", frame, why) })
	require.NoError(l.t, err)
	tracker.Close()
	return out
}

// process is a program at work in a node.
type process struct {
	cmd  *exec.Cmd
	log  string
	done chan struct{}
}

// run starts a shell script in a node, with mounts of its own. It is ended with the test.
func (l *lab) run(node, name, script string) *process {
	l.t.Helper()
	p := &process{log: filepath.Join(l.dir, name+".log"), done: make(chan struct{})}
	log, err := os.Create(p.log)
	require.NoError(l.t, err)
	p.cmd = exec.Command("unshare", "-m", "sh", "-c", "set -e\nexport PATH=$PATH:/usr/sbin:/sbin\ncd "+l.dir+"\n"+script)
	p.cmd.Stdout, p.cmd.Stderr = log, log
	p.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	l.in(l.nodes[node], p.cmd.Start)
	go func() { _ = p.cmd.Wait(); log.Close(); close(p.done) }()
	l.t.Cleanup(func() {
		p.end(syscall.SIGKILL)
		if l.t.Failed() {
			raw, _ := os.ReadFile(p.log)
			if len(raw) > 3000 {
				raw = raw[len(raw)-3000:]
			}
			l.t.Logf("%s:\n%s", name, raw)
		}
	})
	return p
}

// end asks the program and its children to end, and waits.
func (p *process) end(with syscall.Signal) {
	_ = syscall.Kill(-p.cmd.Process.Pid, with)
	select {
	case <-p.done:
	case <-time.After(4 * time.Second):
		_ = syscall.Kill(-p.cmd.Process.Pid, syscall.SIGKILL)
		<-p.done
	}
}

// tell sends a signal to the program alone.
func (p *process) tell(with syscall.Signal) { _ = syscall.Kill(p.cmd.Process.Pid, with) }

// write puts a file into the lab's directory.
func (l *lab) write(name, content string) string {
	path := filepath.Join(l.dir, name)
	require.NoError(l.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(l.t, os.WriteFile(path, []byte(content), 0o644))
	return path
}

// onlyBroadcast lets no unicast request reach the server any more, so that the client must go on to REBINDING.
func (l *lab) onlyBroadcast(server string) {
	rules := "table bridge deaf { chain forward { type filter hook forward priority 0; ip daddr " + server + " udp dport 67 drop; }; }"
	l.in(l.hub, func() error {
		cmd := exec.Command("nft", "-f", "-")
		cmd.Stdin = strings.NewReader(strings.ReplaceAll(rules, "; ", "\n") + "\n")
		out, err := cmd.CombinedOutput()
		if err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
		return nil
	})
}

// patient is how many times as long as on an idle machine something may take: others may be at work on the same two cores.
const patient = 4

// until waits for something to be so, which on an idle machine takes less than limit.
func (l *lab) until(what string, limit time.Duration, so func() bool) {
	l.t.Helper()
	limit *= patient
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	for !so() {
		select {
		case <-ctx.Done():
			for _, e := range l.exchanges() {
				l.t.Logf("exchange: %v %v %v, %d messages, %q", e.Client, e.Outcome, e.Terms.Prefix(), len(e.Steps), e.Remarks)
			}
			require.FailNow(l.t, "not within "+limit.String()+": "+what)
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// held are the addresses that the kernel has at the client.
func (l *lab) held() (out []lease.Held) {
	l.in(l.nodes[client], func() error {
		link, err := netlink.LinkByName("eth0")
		if err != nil {
			return err
		}
		addrs, err := netlink.AddrList(link, netlink.FAMILY_V4)
		for _, a := range addrs {
			h := lease.Held{Interface: "eth0", Index: link.Attrs().Index}
			h.Address, _ = netipPrefix(a.IPNet)
			if a.ValidLft > 0 && uint32(a.ValidLft) != 0xffffffff {
				h.Expires = time.Now().Add(time.Duration(a.ValidLft) * time.Second)
			}
			out = append(out, h)
		}
		return err
	})
	return out
}

// root is the tree in which the lab's clients keep their files.
func (l *lab) root() string { return filepath.Join(l.dir, "root") }

// inForce reads the clients' files and picks the lease in force by the kernel's addresses.
func (l *lab) inForce() (lease.Lease, bool) {
	found, _ := leasefile.Read(os.DirFS(l.root()))
	return lease.For(lease.Settle(found, l.held(), time.Now()), "eth0")
}
