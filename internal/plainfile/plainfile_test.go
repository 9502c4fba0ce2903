//go:build unix

package plainfile_test

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/plainfile"
)

func TestRead(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(t, os.WriteFile(at("plain"), []byte("text"), 0o600))
	require.NoError(t, os.WriteFile(at("long"), make([]byte, 4097), 0o600))
	require.NoError(t, syscall.Mkfifo(at("pipe"), 0o600))
	require.NoError(t, os.Symlink(at("plain"), at("link")))
	require.NoError(t, os.Symlink(at("pipe"), at("led to a pipe")))
	for name, c := range map[string]struct {
		path string
		err  error
	}{
		"plain": {at("plain"), nil}, "a link to one": {at("link"), nil}, "a pipe": {at("pipe"), plainfile.ErrKind},
		"a link to a pipe": {at("led to a pipe"), plainfile.ErrKind}, "a folder": {dir, plainfile.ErrKind},
		"a device without end": {"/dev/zero", plainfile.ErrKind}, "too large": {at("long"), plainfile.ErrLarge},
		"not there": {at("nothing"), fs.ErrNotExist},
	} {
		began := time.Now()
		raw, err := plainfile.Read(c.path, 4096)
		assert.Less(t, time.Since(began), 10*time.Second, name)
		if c.err == nil {
			assert.NoError(t, err, name)
			assert.Equal(t, "text", string(raw), name)
			continue
		}
		require.ErrorIs(t, err, c.err, name)
		assert.NotContains(t, err.Error(), "\n", name)
		assert.Contains(t, err.Error(), c.path, name)
	}
	_, err := plainfile.Read("\x1b[31m\u202e", 4096)
	require.Error(t, err)
	assert.NotContains(t, err.Error(), "\x1b", "a name is text from outside")
}

func TestWrite(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "kept.csv")
	text := func(s string) func(io.Writer) error {
		return func(w io.Writer) error { _, err := io.WriteString(w, s); return err }
	}
	old := syscall.Umask(0o027)
	defer syscall.Umask(old)
	require.NoError(t, plainfile.Write(path, text("one")))
	mode := func() fs.FileMode {
		info, err := os.Stat(path)
		require.NoError(t, err)
		return info.Mode().Perm()
	}
	assert.Equal(t, fs.FileMode(0o640), mode(), "a new file is what the umask allows")
	require.NoError(t, os.Chmod(path, 0o600))
	require.NoError(t, plainfile.Write(path, text("two")))
	assert.Equal(t, fs.FileMode(0o600), mode(), "one that is replaced keeps its mode")
	err := plainfile.Write(path, func(w io.Writer) error {
		_, _ = io.WriteString(w, "half")
		return errors.New("no space left on device")
	})
	assert.ErrorContains(t, err, "no space left on device")
	got, _ := os.ReadFile(path)
	assert.Equal(t, "two", string(got), "what was there is there")
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o600))
	assert.ErrorIs(t, plainfile.Write(filepath.Join(dir, "pipe"), text("x")), plainfile.ErrKind)
	left, _ := os.ReadDir(dir)
	assert.Len(t, left, 2, "nothing half written stays behind")
	err = plainfile.Write(filepath.Join(dir, "none", "a.csv"), text("x"))
	require.Error(t, err)
	assert.False(t, strings.Contains(err.Error(), "\n"))
}
