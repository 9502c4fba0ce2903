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
		wg.Go(func() { add(n); c.look(func(*evidence.Set) {}) })
	}
	wg.Wait()
	assert.Len(t, first.Heard, 1, "what was handed out stays as it was")
	assert.Equal(t, "172.27.40.1", first.Heard[0].Address.String())
	assert.Len(t, c.snapshot().Heard, 101)
}

func TestWhatOnlyWaitsIsOpenAndNotBusy(t *testing.T) {
	c := newCollector(nil)
	act, done := c.wait(evidence.Handoffs)
	assert.True(t, c.snapshot().IsOpen(evidence.Handoffs), "more may still come")
	assert.False(t, c.busy())
	other := c.expect(evidence.NameLookup)
	assert.True(t, c.busy())
	other()
	act()
	act()
	assert.True(t, c.busy(), "now it is under way")
	done()
	done()
	assert.False(t, c.busy())
	assert.Empty(t, c.snapshot().Open)
	_, given := c.wait(evidence.Handoffs)
	given()
	assert.Empty(t, c.snapshot().Open, "what never had its turn leaves nothing open")
}

func TestKindsAreOpenWhileTheyAreExpected(t *testing.T) {
	c := newCollector(nil)
	one := c.expect(evidence.NameLookup, evidence.PathTrace)
	two := c.expect(evidence.NameLookup)
	assert.True(t, c.snapshot().IsOpen(evidence.NameLookup))
	one()
	one() // once is enough
	assert.True(t, c.snapshot().IsOpen(evidence.NameLookup), "another look-up is still under way")
	assert.False(t, c.snapshot().IsOpen(evidence.PathTrace))
	two()
	assert.Empty(t, c.snapshot().Open)
	select {
	case <-c.changed:
	default:
		t.Error("the end of a question is news")
	}
}
