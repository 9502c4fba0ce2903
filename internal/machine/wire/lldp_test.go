package wire_test

import (
	"strings"
	"testing"
	"time"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/machine/wire"
)

var switchCard = endpoint.HardwareAddr{2, 0, 0, 0, 0, 0x77}

func TestLLDP(t *testing.T) {
	s, ok := wire.ParseLLDP(wire.LLDPFrame(switchCard, "pier-switch-1", "p8", 40))
	require.True(t, ok)
	assert.Equal(t, "pier-switch-1", s.Name)
	assert.Equal(t, "p8", s.Port)
	assert.Equal(t, 40, s.VLAN)
	assert.Equal(t, switchCard.String(), s.Chassis)
	assert.Equal(t, 2*time.Minute, s.Life)
	s, ok = wire.ParseLLDP(wire.LLDPFrame(switchCard, "evil\x1b[2J", "p\x07", 0))
	require.True(t, ok)
	assert.Equal(t, `evil\x1b[2J`, s.Name)
	assert.Zero(t, s.VLAN)
	for _, frame := range [][]byte{nil, make([]byte, 14), wire.ARPRequest(switchCard, gateway, gateway),
		wire.LLDPFrame(switchCard, "x", "p", 1)[:20]} {
		_, ok := wire.ParseLLDP(frame)
		assert.False(t, ok)
	}
}

func FuzzLLDP(f *testing.F) {
	f.Add(wire.LLDPFrame(switchCard, "pier-switch-1", "p8", 40))
	f.Add(wire.LLDPFrame(switchCard, "", "p", 4094))
	f.Fuzz(func(t *testing.T, frame []byte) {
		s, ok := wire.ParseLLDP(frame)
		if !ok {
			return
		}
		for _, text := range []string{s.Name, s.Port, s.Chassis, s.About, s.PortText} {
			if strings.ContainsFunc(text, func(r rune) bool { return !unicode.IsPrint(r) }) {
				t.Fatalf("%q reaches the screen", text)
			}
		}
	})
}
