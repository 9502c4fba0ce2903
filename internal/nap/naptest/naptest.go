// Package naptest is for tests that measure times: what comes out wrong while this machine itself stands still is no evidence of the
// program, for it or against it.
package naptest

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/nap"
)

// flaws collects what asserts find.
type flaws []string

func (f *flaws) Errorf(format string, args ...any) { *f = append(*f, fmt.Sprintf(format, args...)) }

// Undisturbed judges what f finds. If something is wrong and this process did not get its turn for longer than a packet takes, the test is
// set aside, with the reason, and not repeated.
func Undisturbed(t *testing.T, f func(t assert.TestingT)) {
	t.Helper()
	meter := nap.Measure(5 * time.Millisecond)
	defer meter.Stop()
	var found flaws
	f(&found)
	stood := meter.Worst()
	if len(found) > 0 && stood >= nap.Stood {
		t.Skipf("set aside, this machine stood still for %v meanwhile: %s", stood.Round(time.Millisecond), found)
	}
	for _, flaw := range found {
		t.Error(flaw)
	}
}
