package leasefile

import "io/fs"

// interfaceOf finds the name of a device by its connection: the lease file of the same connection has it in its own name.
func interfaceOf(f file, uuid string) string {
	if uuid == "" {
		return ""
	}
	names, _ := fs.Glob(f.tree, "var/lib/NetworkManager/*.lease")
	for _, n := range names {
		if own, iface := connection(n[len("var/lib/NetworkManager/"):]); own == uuid {
			return iface
		}
	}
	return ""
}
