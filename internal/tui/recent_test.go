package tui

import (
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Several copies of the program keep one list.
func TestRecentOfSeveralCopies(t *testing.T) {
	path := filepath.Join(t.TempDir(), "state", "recent.json")
	copies := []*Recent{openRecentAt(path), openRecentAt(path), openRecentAt(path), openRecentAt(path)}
	var wg sync.WaitGroup
	for i, r := range copies {
		wg.Go(func() { r.Add(fmt.Sprintf("host-%d.kittiwake.example", i)) })
	}
	wg.Wait()
	assert.Len(t, openRecentAt(path).Targets(), len(copies), "none is lost")
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "what was asked for is nobody else's to read")
}

// What somebody else has written there is not taken for targets.
func TestRecentOfAStranger(t *testing.T) {
	path := filepath.Join(t.TempDir(), "recent.json")
	require.NoError(t, os.WriteFile(path, []byte(`["\u001b[31mred", "a\u202eb", "good.kittiwake.example", "two words"]`), 0o600))
	assert.Equal(t, []string{"good.kittiwake.example"}, openRecentAt(path).Targets())
	require.NoError(t, os.WriteFile(path, make([]byte, 1<<20), 0o600))
	assert.Empty(t, openRecentAt(path).Targets())
}
