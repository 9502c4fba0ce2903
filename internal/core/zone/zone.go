// Package zone has the places in which a fault can lie, seen from the machine at which one stands.
package zone

import (
	"strings"

	"passepartout/internal/core/token"
)

// Zone is a place, or what a verdict says where it names none.
type Zone uint8

// The zones, from near to far, and the two words of a verdict that lays its fault into none of them.
const (
	Unknown Zone = iota
	Host
	LocalSubnet
	Beyond
	None         // there is no fault
	Undetermined // the evidence does not single one out
)

var names = [...]string{"", "host", "local-subnet", "beyond", "none", "undetermined"}

// Token is the contract's word.
func (z Zone) Token() string { return names[z] }

func (z Zone) String() string { return strings.ReplaceAll(names[z], "-", " ") }

// Blamed is the place in which a verdict lays a fault, Unknown of one that lays none anywhere.
func (z Zone) Blamed() Zone {
	if z > Beyond {
		return Unknown
	}
	return z
}

// MarshalText gives the contract's word.
func (z Zone) MarshalText() ([]byte, error) { return token.Marshal(names[:], z) }

// UnmarshalText reads the contract's word.
func (z *Zone) UnmarshalText(text []byte) error { return token.Unmarshal(names[:], text, z) }
