//go:build !linux

package linux

import (
	"context"
	"fmt"
	"runtime"

	"passepartout/internal/core/sockets"
	"passepartout/internal/machine"
)

func open(*Teller) (machine.Machine, error) {
	return nil, fmt.Errorf("this machine runs %s, and only Linux can be examined; `passepartout demo` and --scenario work here",
		runtime.GOOS)
}

func readOwners(context.Context) *sockets.Owners { return &sockets.Owners{} }
