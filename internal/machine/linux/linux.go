// Package linux is the live machine on Linux: its settings by netlink, procfs and sysfs, its probes by ordinary and raw sockets.
// It runs no other program. On other systems New says that they are not supported.
package linux

import "passepartout/internal/machine"

// New returns the machine that this process runs on. The error says on which systems that works.
func New() (machine.Machine, error) { return open(nil) }

// NewToldBy is New, with another process that tells whose the sockets are; nil: there is none.
func NewToldBy(t *Teller) (machine.Machine, error) { return open(t) }
