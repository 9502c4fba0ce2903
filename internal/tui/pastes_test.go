package tui

import (
	"io"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
)

// spoken gives one piece of what a terminal sends at a time, after a rest.
type spoken struct {
	pieces []string
	rests  []time.Duration
}

func (s *spoken) Read(b []byte) (int, error) {
	if len(s.pieces) == 0 {
		return 0, io.EOF
	}
	time.Sleep(s.rests[0])
	n := copy(b, s.pieces[0])
	if s.pieces[0] = s.pieces[0][n:]; s.pieces[0] == "" {
		s.pieces, s.rests = s.pieces[1:], s.rests[1:]
	}
	return n, nil
}

func TestAPasteEnds(t *testing.T) {
	const begin, end = "\x1b[200~", "\x1b[201~"
	soon, late := 10*time.Millisecond, 2*time.Second
	for name, c := range map[string]struct {
		pieces []string
		rests  []time.Duration
		want   string
	}{
		"keys alone":        {[]string{"a", "b"}, []time.Duration{late, late}, "ab"},
		"ended":             {[]string{begin + "x" + end, "q"}, []time.Duration{soon, late}, begin + "x" + end + "q"},
		"in pieces":         {[]string{begin + "x", "y", "z" + end + "q"}, []time.Duration{soon, soon, soon}, begin + "xyz" + end + "q"},
		"a mark in pieces":  {[]string{"\x1b[20", "0~x", "q"}, []time.Duration{soon, soon, late}, begin + "x" + end + "q"},
		"never ended":       {[]string{begin + "x", "q"}, []time.Duration{soon, late}, begin + "x" + end + "q"},
		"its end in pieces": {[]string{begin + "x\x1b[2", "01~", "q"}, []time.Duration{soon, soon, late}, begin + "x" + end + "q"},
		"twice, not ended": {[]string{begin + "x" + end + begin + "y", "q"}, []time.Duration{soon, late},
			begin + "x" + end + begin + "y" + end + "q"},
		"more than a list is": {[]string{begin + strings.Repeat("x", mostPasted), "q"}, []time.Duration{soon, soon}, ""},
	} {
		for _, size := range []int{4, 256} {
			synctest.Test(t, func(t *testing.T) {
				p := &pastes{from: &spoken{slices.Clone(c.pieces), c.rests}}
				var got []byte
				b := make([]byte, size)
				for {
					n, err := p.Read(b)
					got = append(got, b[:n]...)
					if err != nil {
						break
					}
				}
				if c.want == "" {
					assert.Equal(t, 1, strings.Count(string(got), end), name)
					assert.False(t, p.open, name)
					return
				}
				assert.Equal(t, c.want, string(got), "%s, read by %d", name, size)
			})
		}
	}
}
