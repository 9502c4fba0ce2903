package farend_test

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/farend"
)

var (
	four = netip.MustParseAddr("198.51.100.2")
	six  = netip.MustParseAddr("2001:db8:40::23")
	run  = farend.Token([8]byte{1, 2, 3})
)

func TestTally(t *testing.T) {
	var tally farend.Tally
	take := func(b []byte, from netip.Addr) farend.Message {
		answer, _, ok := tally.Take(b, from)
		require.True(t, ok)
		assert.LessOrEqual(t, len(answer), len(b), "an answer is never longer than its question")
		m, ok := farend.Read(answer)
		require.True(t, ok)
		return m
	}
	for i := range 3 {
		assert.Equal(t, i+1, take(farend.Question(run, false), four).IPv4)
	}
	m := take(farend.Question(run, false), six)
	assert.Equal(t, 1, m.IPv6)
	m = take(farend.Question(run, true), six)
	assert.Equal(t, []int{3, 1}, []int{m.IPv4, m.IPv6}, "asking is not counted")
	m = take(farend.Question(farend.Token([8]byte{9}), false), netip.AddrFrom16(four.As16()))
	assert.Equal(t, 1, m.IPv4, "each run is counted by itself, and a mapped address is an IPv4 one")
	for i := range 2000 {
		take(farend.Question(fmt.Sprintf("%016x", i), false), four)
	}
	assert.Zero(t, take(farend.Question(run, true), four).IPv4, "the oldest runs are forgotten")
}

func TestWhatIsNoQuestion(t *testing.T) {
	var tally farend.Tally
	for _, text := range []string{"", "{}", `{"schema":"passepartout.answer/1","token":"xyz"}`,
		`{"schema":"passepartout.answer/2","token":"0102030000000000"}`, `{"schema":"passepartout.answer/1","token":"0102030000000000"}`} {
		_, _, ok := tally.Take([]byte(text), four)
		assert.False(t, ok, text)
	}
	assert.Len(t, farend.Question(run, false), farend.Size)
}

func FuzzRead(f *testing.F) {
	f.Add(farend.Question(run, true))
	f.Fuzz(func(t *testing.T, in []byte) {
		var tally farend.Tally
		if answer, m, ok := tally.Take(in, four); ok && (len(answer) > len(in) || len(m.Token) != 16) {
			t.Fatalf("%q gives %q", in, answer)
		}
	})
}
