//go:build !linux

package linux

import (
	"fmt"
	"runtime"

	"passepartout/internal/machine"
)

func open() (machine.Machine, error) {
	return nil, fmt.Errorf("this machine runs %s, and only Linux can be examined; `passepartout demo` and --scenario work here",
		runtime.GOOS)
}
