// Package leasefile reads what DHCP clients wrote down of their leases: dhclient, dhcpcd, systemd-networkd and NetworkManager. It reads
// from the running system and from a mounted disk or a copied tree alike.
package leasefile

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"passepartout/internal/core/lease"
	"passepartout/internal/core/wiretext"
)

// place is where a client keeps its leases.
type place struct {
	pattern string
	read    func(f file) ([]lease.Lease, error)
}

// file is one file, read.
type file struct {
	source   string
	name     string
	content  []byte
	modified time.Time
	tree     fs.FS
}

// places lists where the clients of today's systems write.
var places = []place{
	{"var/lib/dhcp/dhclient*.leases", dhclient},
	{"var/lib/dhclient/dhclient*.leases", dhclient},
	{"var/lib/dhclient/dhclient*.lease", dhclient},
	{"var/lib/NetworkManager/dhclient*.lease", dhclient},
	{"var/lib/NetworkManager/dhclient*.leases", dhclient},
	{"var/lib/dhcpcd/*.lease", dhcpcd},
	{"var/lib/dhcpcd5/*.lease", dhcpcd},
	{"run/systemd/netif/leases/*", networkd},
	{"run/NetworkManager/devices/*", deviceFile},
	{"var/lib/NetworkManager/internal-*.lease", internalLease},
}

// The bounds of what is read of a tree that somebody else has filled.
const (
	mostFiles  = 256
	largestOne = 4 << 20 // octets; a dhclient that renews every minute fills one in weeks
)

// Read takes in all leases below a root. It decides nothing about them: see lease.Settle and lease.Alone.
func Read(tree fs.FS) (leases []lease.Lease, skipped []lease.Flaw) {
	looked := map[string]bool{} // several patterns share a folder
	for _, p := range places {
		names, err := fs.Glob(tree, p.pattern) // it passes over a folder that cannot be read
		if err != nil {
			continue
		}
		if folder := path.Dir(p.pattern); !looked[folder] {
			looked[folder] = true
			if errors.Is(readable(tree, folder), fs.ErrPermission) {
				skipped = append(skipped, lease.Flaw{Source: folder, Why: "this user may not look into it"})
			}
		}
		slices.Sort(names)
		for i, name := range names {
			if i == mostFiles {
				skipped = append(skipped, lease.Flaw{Source: p.pattern, Why: fmt.Sprintf("only the first %d files were read", mostFiles)})
				break
			}
			f, err := load(tree, name)
			if err != nil {
				skipped = append(skipped, lease.Flaw{Source: wiretext.Clean(name), Why: why(err)})
				continue
			}
			found, err := p.read(f)
			if err != nil {
				skipped = append(skipped, lease.Flaw{Source: f.source, Why: err.Error()})
			}
			for _, l := range found {
				l.Source = f.source
				l.Complete()
				leases = append(leases, l)
			}
		}
	}
	return withoutEchoes(leases), skipped
}

// readable says why a folder cannot be looked into.
func readable(tree fs.FS, folder string) error {
	f, err := tree.Open(folder)
	if err != nil {
		return err
	}
	return f.Close()
}

var errLarge = fmt.Errorf("larger than %d MiB", largestOne>>20)

func load(tree fs.FS, name string) (file, error) {
	f := file{source: wiretext.Clean(name), name: path.Base(name), tree: tree}
	h, err := tree.Open(name)
	if err != nil {
		return f, err
	}
	defer h.Close()
	info, err := h.Stat()
	switch {
	case err != nil:
		return f, err
	case !info.Mode().IsRegular():
		return f, errors.New("not a regular file")
	case info.Size() > largestOne:
		return f, errLarge
	}
	f.modified = info.ModTime().UTC().Truncate(time.Second) // leases count in seconds
	f.content, err = io.ReadAll(io.LimitReader(h, largestOne))
	return f, err
}

func why(err error) string {
	var p *fs.PathError
	switch {
	case errors.Is(err, fs.ErrPermission):
		return "this user may not read it"
	case errors.As(err, &p):
		return p.Err.Error()
	}
	return err.Error()
}

// withoutEchoes drops NetworkManager's own note of an address where its device file tells the whole lease.
func withoutEchoes(all []lease.Lease) []lease.Lease {
	return slices.DeleteFunc(all, func(l lease.Lease) bool {
		if l.Client != lease.NetworkManager || !strings.HasPrefix(path.Base(l.Source), "internal-") || l.Terms.Lease > 0 {
			return false
		}
		return slices.ContainsFunc(all, func(other lease.Lease) bool {
			return other.Client == lease.NetworkManager && other.Source != l.Source && other.Interface == l.Interface &&
				other.Terms.Address == l.Terms.Address
		})
	})
}

// noise reports whether text is none: control characters other than white space.
func noise(b []byte) bool {
	for _, c := range b {
		if c < 0x20 && c != '\n' && c != '\t' && c != '\r' {
			return true
		}
	}
	return false
}

var errNoise = errors.New("no lease: binary noise where text is expected")
