package machine_test

import (
	"errors"
	"fmt"
	"io/fs"
	"testing"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/evidence"
	"passepartout/internal/machine"
)

// Above the machine nobody sees a system's error: only what it means for the question.
func TestLocalError(t *testing.T) {
	for _, c := range []struct {
		err       error
		reason    string
		forbidden bool
	}{
		{fmt.Errorf("sending: %w", fs.ErrPermission), "this machine's own rules refuse to send it", true},
		{fmt.Errorf("sending: %w", machine.ErrDown), "the interface is down", false},
		{fmt.Errorf("sending: %w (%w)", machine.ErrNoRoute, errors.New("network is unreachable")), "this machine knows no way there",
			false},
		{fmt.Errorf("binding to eth9: %w", machine.ErrGone), "the interface is gone", false},
		{errors.New("something else"), "something else", false},
	} {
		r := machine.LocalError(c.err)
		assert.Equal(t, evidence.LocalError, r.Outcome)
		assert.Equal(t, c.reason, r.Reason)
		assert.Equal(t, c.forbidden, r.Forbidden)
		assert.False(t, r.Came(), "nothing came from the network")
	}
}
