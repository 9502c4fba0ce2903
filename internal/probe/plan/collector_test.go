package plan

import (
	"net/netip"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/evidence"
)

func TestSnapshotsDoNotChange(t *testing.T) {
	c := newCollector(nil)
	add := func(n byte) {
		c.observe(evidence.Heard{Address: netip.AddrFrom4([4]byte{172, 27, 40, n})})
	}
	add(1)
	first := c.snapshot()
	var wg sync.WaitGroup
	for n := range byte(100) {
		wg.Go(func() { add(n); c.snapshot() })
	}
	wg.Wait()
	assert.Len(t, first.Heard, 1, "what was handed out stays as it was")
	assert.Equal(t, "172.27.40.1", first.Heard[0].Address.String())
	assert.Len(t, c.snapshot().Heard, 101)
}
