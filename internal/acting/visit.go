package acting

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"passepartout/internal/core/change"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/machine"
)

// mostTried is how many addresses are tried to find a free one next to a device.
const mostTried = 8

// Visit is a second address for a while to reach a device that has another network's settings: one that nobody has.
func Visit(ctx context.Context, m machine.Machine, e *endpoint.Endpoint, iface string, device netip.Prefix, during time.Duration) (
	c change.Change, err error) {
	if i, ok := e.Interface(iface); ok && i.OnLink(device.Addr()) {
		return c, fmt.Errorf("%v lies in a network of %s already: it is reached as it is", device.Addr(), iface)
	}
	beside, err := change.Beside(device, mostTried)
	if err != nil {
		return c, err
	}
	for _, a := range beside {
		switch held, asked := isHeld(ctx, m, e, iface, a); {
		case !asked:
			return c, errors.New("whether an address is free cannot be asked here: it needs permission for raw frames")
		case !held:
			return change.Visit(iface, device.Addr(), a, during), nil
		}
	}
	return c, fmt.Errorf("the %d addresses next to %v are all in use; give another length", len(beside), device.Addr())
}
