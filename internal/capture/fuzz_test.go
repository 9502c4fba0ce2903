package capture_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/net/bpf"

	"passepartout/internal/capture"
	"passepartout/internal/core/exchange"
)

// Whatever somebody types as a choice is refused in one line, or becomes a program that runs over any frame.
func FuzzChoice(f *testing.F) {
	for _, text := range []string{"mine or arp", "not (tcp and port 443) or net 2001:db8::/33", "((", "host 10.0.0.1 and", "port 0"} {
		f.Add(text, []byte("\x02\x00\x00\x00\x00\x23\x02\x00\x00\x00\x00\x24\x08\x00\x45"))
	}
	f.Fuzz(func(t *testing.T, text string, frame []byte) {
		choice, err := capture.ParseChoice(text)
		if err != nil {
			require.NotContains(t, err.Error(), "\n")
			return
		}
		raw, err := choice.Compile(ours, 100)
		if err != nil {
			return
		}
		program, ok := bpf.Disassemble(raw)
		require.True(t, ok)
		vm, err := bpf.NewVM(program)
		require.NoError(t, err)
		_, _ = vm.Run(frame)
	})
}

// Any frames at all can be taken for exchanges.
func FuzzExchanges(f *testing.F) {
	f.Add([]byte("\x02\x00\x00\x00\x00\x23\x02\x00\x00\x00\x00\x24\x08\x06\x00\x01\x08\x00\x06\x04\x00\x01"), []byte{})
	f.Fuzz(func(t *testing.T, first, second []byte) {
		told := 0
		x := exchange.NewTracker(func(e exchange.Exchange) {
			told++
			require.NotContains(t, e.Asked+e.Answer, "\x1b")
			require.NotContains(t, e.Asked+e.Answer, "\n")
		})
		at := time.Unix(1_700_000_000, 0)
		for i, frame := range [][]byte{first, second, first} {
			capture.TakeFrame(x, at.Add(time.Duration(i)*time.Second), i+1, frame)
		}
		x.End()
		require.LessOrEqual(t, told, 3)
	})
}
