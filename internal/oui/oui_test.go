package oui_test

import (
	"testing"

	"github.com/gopacket/gopacket/macs"
	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/oui"
)

// The packed register says what the library's says: go generate ./internal/oui makes it anew.
func TestRegisterIsTheLibrarys(t *testing.T) {
	asked := 0
	for prefix, name := range macs.ValidMACPrefixMap {
		h := endpoint.HardwareAddr{prefix[0], prefix[1], prefix[2], 1, 2, 3}
		if h.Private() || h.IsZero() || h.Shared() {
			continue
		}
		asked++
		if got := oui.Of(h); len(name) < 200 && name[0] < 0x80 && got != name {
			// longer where a control character is shown
			assert.GreaterOrEqual(t, len(got), len(name), "%v: %q, the library has %q", h, got, name)
		}
	}
	assert.Greater(t, asked, 30_000)
	for h, want := range map[endpoint.HardwareAddr]string{
		{}: "", {2, 0, 0, 0, 0x10, 0x17}: "random (locally administered)", {0, 0, 0x5e, 0, 1, 0x28}: "shared by routers",
		{0, 0, 0x0c, 0x07, 0xac, 1}: "shared by routers", {0xfc, 0xff, 0xff, 0, 0, 1}: "",
	} {
		assert.Equal(t, want, oui.Of(h), h.String())
	}
}
