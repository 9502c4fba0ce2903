package change

import (
	"errors"
	"fmt"
	"net/netip"
	"time"

	"passepartout/internal/core/subnet"
)

// UsualVisit is how long a device is reached where nobody says otherwise.
const UsualVisit = 10 * time.Minute

// Visit is a second address for a while, to reach a device that has another network's settings. It goes by itself, and the way to the
// device with it: nothing but the device is reached by it, so that it is in nobody's way.
func Visit(iface string, device, own netip.Addr, during time.Duration) Change {
	alone := func(a netip.Addr) netip.Prefix { return netip.PrefixFrom(a, a.BitLen()) }
	return Change{Steps: []Op{
		{Do: AddAddress, Interface: iface, Prefix: alone(own), For: during},
		{Do: AddRoute, Interface: iface, Prefix: alone(device), Source: own},
	}}
}

// Visited is the device that a change reaches for a while, and how long; ok is false for any other change.
func (c Change) Visited() (device netip.Addr, during time.Duration, ok bool) {
	if c.Set != nil || len(c.Steps) != 2 {
		return device, 0, false
	}
	own, way := c.Steps[0], c.Steps[1]
	ok = own.Do == AddAddress && own.For > 0 && own.Prefix.IsSingleIP() && way.Do == AddRoute && way.Prefix.IsSingleIP() &&
		way.Source == own.Prefix.Addr()
	return way.Prefix.Addr(), own.For, ok
}

// Beside are addresses in the network of a device that could be taken to reach it, the nearest first.
func Beside(device netip.Prefix, most int) (out []netip.Addr, err error) {
	switch a := device.Addr(); {
	case !a.Is4():
		return nil, errors.New("a device is visited by IPv4; by IPv6 it has a link-local address, which is reached as it is")
	case usable(device) != nil:
		return nil, usable(device)
	case device.Bits() > 30:
		return nil, fmt.Errorf("a network of /%d has no room for one more; give the device's own mask, such as /24", device.Bits())
	}
	up, down := device.Addr().Next(), device.Addr().Prev()
	for len(out) < most && (device.Contains(up) || device.Contains(down)) {
		if subnet.Usable(device, up) {
			out = append(out, up)
		}
		if len(out) < most && subnet.Usable(device, down) {
			out = append(out, down)
		}
		up, down = up.Next(), down.Prev()
	}
	return out, nil
}
