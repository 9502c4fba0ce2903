// Package privilege gives up what a command does not need, before it hears anybody: capabilities, what an exec could bring, and where the
// kernel has Landlock the files. What strangers send is read without them.
package privilege

import (
	"os"
	"path/filepath"
	"slices"
)

// Keep is what a command goes on needing.
type Keep struct {
	Frames bool // raw sockets: opened anew whenever an interface comes back
	Read   bool // files, those too that only root may read: leases
	Change bool // interfaces, addresses, routes
	Owners bool // what other processes have open: more than a file may be kept from, so that it confines no files
	Write  bool // files where a person keeps theirs: what is exported
}

// system are the folders at the root that are the system's own: nothing is exported there.
var system = []string{"bin", "boot", "dev", "etc", "lib", "lib32", "lib64", "libx32", "lost+found", "nix", "proc", "run", "sbin", "sys",
	"usr",
	"var"}

// people are folders within the system's own in which people keep files.
var people = []string{"/run/media", "/run/user", "/var/tmp", "/var/home"}

// writable lists the folders in which something may be written: all that are not the system's own, the present one, and those named.
func writable(root string, also []string) (out []string) {
	entries, _ := os.ReadDir(root)
	for _, e := range entries {
		if e.IsDir() && !slices.Contains(system, e.Name()) {
			out = append(out, filepath.Join(root, e.Name()))
		}
	}
	out = append(out, people...)
	if here, err := os.Getwd(); err == nil && here != "/" {
		out = append(out, here)
	}
	return append(out, also...)
}
