//go:build unix

package acting_test

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/acting"
)

// What was on trial when the process that held it ended is taken back at the next start; what somebody holds is his.
func TestWhatWasOnTrialAtARestart(t *testing.T) {
	for _, held := range []bool{false, true} {
		m, from, to, steps := counter(t)
		m.now = to.Clone()
		path := filepath.Join(t.TempDir(), "changes.jsonl")
		journal := acting.JournalAt(path)
		require.NoError(t, journal.Append(acting.Entry{ID: 1, At: time.Now(), Who: "counter", Outcome: acting.OnTrial, From: from, To: to,
			Steps: steps}))
		if held {
			lock, err := os.OpenFile(filepath.Join(filepath.Dir(path), "changes.lock"), os.O_RDWR|os.O_CREATE, 0o600)
			require.NoError(t, err)
			defer lock.Close()
			require.NoError(t, syscall.Flock(int(lock.Fd()), syscall.LOCK_EX))
		}
		tell, _, ended := served(t, m, path)
		tell.Close()
		require.NoError(t, <-ended)
		entries, _, err := journal.Read()
		require.NoError(t, err)
		now := m.is()
		assert.Equal(t, !held, from.Equal(&now))
		assert.Equal(t, map[bool]acting.Outcome{false: acting.TakenBack, true: acting.OnTrial}[held], entries[0].Outcome, entries[0].Says)
	}
}
