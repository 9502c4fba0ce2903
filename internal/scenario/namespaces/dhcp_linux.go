package namespaces

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"passepartout/internal/machine/simulated"
	"passepartout/internal/scenario"
)

// ask lets a DHCP client keep asking on a port, if the scenario has one there; it runs inside the node's namespace.
func (l *Lab) ask(node, port string) error {
	spec := l.scenario.Site.Nodes[node].Ports[port].Asks
	if spec == nil {
		return nil
	}
	file, err := packetSocket(port)
	if err != nil {
		return err
	}
	client := simulated.NewAsker(l.scenario.Site.HardwareOf(node, port), *spec, func(frame []byte) { _, _ = file.Write(frame) })
	go func() {
		buf := make([]byte, 65536)
		for {
			n, err := file.Read(buf)
			if err != nil {
				return
			}
			client.Hear(append([]byte(nil), buf[:n]...))
		}
	}()
	l.closers = append(l.closers, func() { client.Close(); file.Close() })
	return nil
}

// exhaust writes the file of a DHCP server all of whose addresses are given to others.
func (l *Lab) exhaust(node string, d *scenario.DHCP) error {
	var b strings.Builder
	until := time.Now().Add(time.Hour).Unix()
	for a, n := d.First, 0; a.Compare(d.Last) <= 0 && n < 256; a, n = a.Next(), n+1 {
		fmt.Fprintf(&b, "%d 02:00:00:00:ee:%02x %v taken-%d *\n", until, n, a, n)
	}
	return os.WriteFile(filepath.Join(l.dir, node+".leases"), []byte(b.String()), 0o644)
}

// libraryOf makes the directory that stands for /var/lib at the endpoint: its DHCP client's files and nothing else.
func (l *Lab) libraryOf(node string) (string, error) {
	dir := filepath.Join(l.dir, "lib")
	path := filepath.Join(dir, strings.TrimPrefix(scenario.LeasePath, "var/lib/"))
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return "", err
	}
	return dir, os.WriteFile(path, []byte(l.scenario.SiteAt(time.Since(l.Began)).LeaseFile(node, l.Began)), 0o644)
}
