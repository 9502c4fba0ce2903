package facts

import "passepartout/internal/core/endpoint"

func (f *Facts) HasUsable() bool {
	return f.Iface != nil && len(f.Iface.Usable(false))+len(f.Iface.Usable(true)) > 0
}

// Claims counts the addresses for which a hardware address was heard to speak.
func (f *Facts) Claims(hw endpoint.HardwareAddr) (n int) {
	for _, h := range f.Heard {
		if h.Hardware == hw {
			n++
		}
	}
	return n
}
