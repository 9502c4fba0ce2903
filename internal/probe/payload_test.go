package probe_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"

	"passepartout/internal/probe"
)

// A balancing router may look at the checksum as well: requests of one flow have the same one whatever their number, those of another flow
// another.
func TestEchoRequestsOfAFlowAreAlike(t *testing.T) {
	checksum := func(seq, flow uint16, size int) [2]byte {
		b, err := (&icmp.Message{Type: ipv4.ICMPTypeEcho,
			Body: &icmp.Echo{ID: 7, Seq: int(seq), Data: probe.EchoPayload(size, seq, flow)}}).Marshal(nil)
		assert.NoError(t, err)
		assert.Len(t, b, 8+size)
		return [2]byte(b[2:4])
	}
	for _, size := range []int{4, 24, 48, 1472} {
		for _, flow := range []uint16{0, 1, 7} {
			first := checksum(0, flow, size)
			for _, seq := range []uint16{1, 2, 255, 256, 0x7fff, 0xffff} {
				assert.Equal(t, first, checksum(seq, flow, size), "size %d, flow %d, number %d", size, flow, seq)
			}
			assert.NotEqual(t, first, checksum(0, flow+1, size), "size %d, flow %d and the next", size, flow)
		}
	}
	for size := range 4 { // too small to make up for the number: sent as it is
		assert.Len(t, probe.EchoPayload(size, 9, 0), size)
	}
}
