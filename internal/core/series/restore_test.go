package series

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// A record that is restored from its probes, in whatever order, is the one that they were taken from.
func TestRestored(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 9))
	was := New(1000)
	fates := []Fate{Replied, Replied, Replied, Silent, Late, Unreachable, NotSent, Void}
	for i := range 400 {
		n := was.Sent(time.Duration(i) * time.Second)
		was.End(n, fates[random.IntN(len(fates))], time.Duration(random.IntN(90_000))*time.Microsecond)
		if i%40 == 3 {
			was.Copy(n)
		}
	}
	probes := was.All()
	random.Shuffle(len(probes), func(i, j int) { probes[i], probes[j] = probes[j], probes[i] })
	is := Restored(probes)
	assert.Equal(t, was.Counts(), is.Counts())
	assert.Equal(t, was.Summary(), is.Summary())
	assert.Equal(t, was.All(), is.All())
	assert.Equal(t, was.Window(300*time.Second), is.Window(300*time.Second))
	assert.Equal(t, was.Between(20*time.Second, 90*time.Second), is.Between(20*time.Second, 90*time.Second))
	empty := Restored(nil)
	assert.Zero(t, empty.Counts())
	assert.Empty(t, empty.All())
}
