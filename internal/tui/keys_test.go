package tui

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/machine/simulated"
	"passepartout/internal/scenario"
)

var keySeeds = flag.Uint64("key-seeds", 6, "how many sequences of keys are typed")

// What a terminal may send, but for what leaves the program.
var strokes = []string{"\r", "\x1b[A", "\x1b[B", "\x1b[C", "\x1b[D", "\x1b[5~", "\x1b[6~", "\x1b[H", "\x1b[F", "\x7f", "\t", "\x1b[Z",
	"\x1b\x1b", "\x1b[200~10.0.0.1 bookings.kittiwake.example:443\x1b[201~", "\x1b[200~never ended", "\x1b[201~",
	"\x1b[<0;10;5M", "\x1b[<0;10;5m", "\x1b[<64;3;3M", "\x1b[<0;9999;9999M", "\x00", "\x1a\x18", "\xff\xfe", "é", "\u202e", " ", "@", "[", "%"}

// Any keys in any order, at any size: the program goes on, and draws.
func TestAnyKeysAtAnySize(t *testing.T) {
	t.Chdir(t.TempDir()) // exports are written somewhere
	seeds := *keySeeds
	if testing.Short() {
		seeds = 2
	}
	for seed := range seeds {
		t.Run(fmt.Sprintf("seed %d", seed), func(t *testing.T) {
			rng := rand.New(rand.NewPCG(seed, 1))
			s, err := scenario.Load([]string{"healthy", "uplink-down", "address-conflict"}[seed%3])
			require.NoError(t, err)
			site, err := simulated.Build(s, simulated.Options{})
			require.NoError(t, err)
			keys, typed := io.Pipe()
			ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
			defer cancel()
			target := ""
			if seed%2 == 0 {
				target = s.Target
			}
			c := Config{Ground: Ground{Machine: site.Machine(), Close: site.Close, Targets: []string{s.Target}}, Deadline: 3 * time.Second,
				Target: target, Asked: target != ""}
			ended := make(chan error, 1)
			m := newModel(ctx, c)
			p := tea.NewProgram(m, tea.WithContext(ctx), tea.WithInput(&pastes{from: keys}), tea.WithOutput(io.Discard), tea.WithWindowSize(100, 30),
				tea.WithoutSignalHandler())
			go func() {
				_, err := p.Run()
				keys.Close() // nobody reads any more: what is typed is refused
				ended <- err
			}()
			for range 400 {
				k := strokes[rng.IntN(len(strokes))]
				if rng.IntN(2) == 0 {
					k = string("0123456789abcdefghijklmnoprstuvwxyz?/+-=.,:"[rng.IntN(43)])
				}
				if rng.IntN(25) == 0 {
					p.Send(tea.WindowSizeMsg{Width: rng.IntN(200), Height: rng.IntN(60)})
				}
				_, err := typed.Write([]byte(k))
				if err != nil {
					break
				}
				time.Sleep(time.Duration(rng.IntN(4)) * time.Millisecond)
			}
			time.Sleep(100 * time.Millisecond)
			p.Quit()
			select {
			case err := <-ended:
				assert.False(t, errors.Is(err, tea.ErrProgramPanic), "%v", err)
			case <-time.After(time.Minute):
				t.Fatal("it hangs")
			}
			m.leave()
			typed.Close()
		})
	}
}
