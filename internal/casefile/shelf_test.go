package casefile_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/casefile"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/event"
)

func TestShelf(t *testing.T) {
	t.Parallel()
	shelf := casefile.Shelf(filepath.Join(t.TempDir(), "cases"))
	all, err := shelf.List()
	require.NoError(t, err)
	assert.Empty(t, all, "a folder that is not there")
	at := time.Date(2026, 11, 23, 9, 14, 3, 0, time.UTC)
	record := func() (*casefile.Recorder, string) {
		path, err := shelf.Fresh(at)
		require.NoError(t, err)
		r, err := casefile.Record(path, casefile.Manifest{Began: at})
		require.NoError(t, err)
		return r, path
	}
	began := event.Event{At: at, Body: event.Began{Round: 1, Endpoint: &endpoint.Endpoint{Host: "ticket-03"}}}

	empty, _ := record()
	require.NoError(t, empty.Close(at))
	all, _ = shelf.List()
	assert.Empty(t, all, "nothing was asked: there is no case")

	first, _ := record()
	first.Take(began, nil)
	second, path := record()
	assert.Equal(t, "2026-11-23-091403-2.case", filepath.Base(path), "two in one second")
	all, _ = shelf.List()
	require.Len(t, all, 2)
	assert.True(t, all[0].Writes && all[1].Writes)
	assert.ErrorContains(t, shelf.Throw(all[0]), "is being written")
	assert.ErrorContains(t, shelf.Close(all[0], at), "is being written")
	require.NoError(t, first.Close(at))

	second.Take(began, nil)
	time.Sleep(700 * time.Millisecond) // it is on the disk
	left, err := os.ReadFile(path + casefile.Unfinished)
	require.NoError(t, err)
	require.NoError(t, second.Close(at))
	require.NoError(t, os.Remove(path))
	require.NoError(t, os.WriteFile(path+casefile.Unfinished, left, 0o600)) // as a program leaves it that was killed
	k, err := shelf.Find("2026-11-23-091403-2")
	require.NoError(t, err)
	assert.True(t, k.Left)
	assert.Equal(t, "ticket-03", k.Host)
	require.NoError(t, shelf.Close(k, at))
	c, err := casefile.Open(path)
	require.NoError(t, err)
	assert.Empty(t, c.Flaws)
	assert.Equal(t, []any{1, "ticket-03", at}, []any{c.Count, c.Host, c.Closed})
	assert.ErrorContains(t, shelf.Close(casefile.Kept{Path: path}, at), "is closed")

	require.NoError(t, os.WriteFile(filepath.Join(string(shelf), "broken.case"), []byte("nonsense"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(string(shelf), "notes.txt"), nil, 0o600))
	k, err = shelf.Find("broken.case")
	require.NoError(t, err)
	assert.NotEmpty(t, k.Flaw)
	require.NoError(t, shelf.Throw(k))
	_, err = shelf.Find("broken")
	assert.ErrorContains(t, err, "no case broken is kept here")

	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	for n := range casefile.Most {
		name := at.Add(time.Duration(n+1)*time.Hour).Format("2006-01-02-150405") + casefile.Ending
		require.NoError(t, os.WriteFile(filepath.Join(string(shelf), name), whole, 0o600))
	}
	all, err = shelf.List()
	require.NoError(t, err)
	require.NoError(t, shelf.Tidy(all))
	all, _ = shelf.List()
	assert.Len(t, all, casefile.Most)
	assert.Equal(t, "2026-11-23-101403", all[len(all)-1].Name(), "the oldest are gone")
}
