package farend_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/farend"
)

var (
	four = netip.MustParseAddrPort("198.51.100.2:40001")
	six  = netip.MustParseAddrPort("[2001:db8:40::23]:40001")
	run  = farend.Token([8]byte{1, 2, 3})
)

func TestTally(t *testing.T) {
	var tally farend.Tally
	take := func(b []byte, from netip.AddrPort) farend.Message {
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
	m = take(farend.Question(farend.Token([8]byte{9}), false), netip.AddrPortFrom(netip.AddrFrom16(four.Addr().As16()), 40001))
	assert.Equal(t, 1, m.IPv4, "each run is counted by itself, and a mapped address is an IPv4 one")
	for i := range 2000 {
		stranger := netip.AddrPortFrom(netip.AddrFrom4([4]byte{203, 0, byte(113 + i/256), byte(i)}), 40001)
		take(farend.Question(fmt.Sprintf("%016x", i), false), stranger)
		take(farend.Question(fmt.Sprintf("%016x", 1<<20+i), false), netip.AddrPortFrom(netip.MustParseAddr("203.0.113.9"), 40001))
	}
	assert.Equal(t, 3, take(farend.Question(run, true), four).IPv4, "a run that goes on is not forgotten for those of strangers")
}

func TestNobodyIsAnsweredInAnothersName(t *testing.T) {
	var tally farend.Tally
	answer, _, ok := tally.Take(farend.Question(run, false), four)
	require.True(t, ok)
	padded := append(answer[:len(answer)-1:len(answer)-1], []byte(`,"pad":"`+strings.Repeat(" ", farend.Size)+`"}`)...)
	for name, in := range map[string][]byte{"an answer": answer, "an answer made as long as a question": padded,
		"a question that is cut short": []byte(`{"schema":"passepartout.answer/1","token":"` + run + `","pad":" "}`)} {
		_, _, ok = tally.Take(in, four)
		assert.False(t, ok, name)
	}
	for _, port := range []uint16{53, 123, 1023, farend.Port} {
		_, _, ok = tally.Take(farend.Question(run, false), netip.AddrPortFrom(four.Addr(), port))
		assert.False(t, ok, "from port %d", port)
	}
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
