// Package plainfile is the one way to read and write files that a user or the system has named: plain files alone, within a stated size,
// and whole or not at all.
package plainfile

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"passepartout/internal/core/wiretext"
)

// ErrKind is the error for what is no plain file: a folder, a pipe or a device, which might never end.
var ErrKind = errors.New("no plain file; give a file")

// ErrLarge is the error for a file that is larger than what is read of it.
var ErrLarge = errors.New("it is too large")

// patience is how long a file is waited for that the system gives piece by piece, as some below /proc.
const patience = 5 * time.Second

// Open opens a plain file for reading. An error is one line that names the file and what is wrong; fs.ErrNotExist and fs.ErrPermission can
// be told by errors.Is.
func Open(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0) // a pipe that nobody writes to would be waited for otherwise
	if err != nil {
		return nil, flaw(path, err)
	}
	info, err := f.Stat()
	switch {
	case err != nil:
	case !info.Mode().IsRegular():
		err = fmt.Errorf("%s, %w", kindOf(info.Mode()), ErrKind)
	default:
		return f, nil
	}
	f.Close()
	return nil, flaw(path, err)
}

func kindOf(m fs.FileMode) string {
	switch {
	case m.IsDir():
		return "a directory"
	case m&fs.ModeNamedPipe != 0:
		return "a pipe"
	case m&fs.ModeSocket != 0:
		return "a socket"
	}
	return "a device"
}

// Read reads a plain file of at most so many octets.
func Read(path string, most int64) ([]byte, error) {
	f, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	_ = f.SetReadDeadline(time.Now().Add(patience)) // an error says that it never waits
	raw, err := io.ReadAll(io.LimitReader(f, most+1))
	switch {
	case err != nil:
		return nil, flaw(path, err)
	case int64(len(raw)) > most:
		return nil, flaw(path, fmt.Errorf("%w: give one of at most %s", ErrLarge, octets(most)))
	}
	return raw, nil
}

func octets(n int64) string {
	if n >= 1<<20 {
		return fmt.Sprintf("%d MiB", n>>20)
	}
	return fmt.Sprintf("%d octets", n)
}

// flaw says in one line what is wrong with a file.
func flaw(path string, err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		err = p.Err
	}
	return fmt.Errorf("%s: %w", wiretext.Clean(path), err)
}

// Write writes a file beside its place and moves it there when it is complete, so that a full disk leaves what was there before. A file
// that is replaced keeps its mode; a new one gets what this process gives new files.
func Write(path string, write func(io.Writer) error) error { return replace(path, 0o666, write) }

// WritePrivate is Write; a new file is nobody else's to read.
func WritePrivate(path string, write func(io.Writer) error) error { return replace(path, 0o600, write) }

func replace(path string, fresh fs.FileMode, write func(io.Writer) error) error {
	if info, err := os.Stat(path); err == nil && !info.Mode().IsRegular() {
		return unwritten(path, fmt.Errorf("%s, %w", kindOf(info.Mode()), ErrKind))
	}
	beside, f, err := beside(path, fresh)
	if err != nil {
		return unwritten(path, err)
	}
	defer os.Remove(beside)
	mode := func() error { return nil }
	if info, err := os.Stat(path); err == nil {
		mode = func() error { return os.Chmod(beside, info.Mode().Perm()) }
	}
	if err := errors.Join(mode(), write(f), f.Sync(), f.Close()); err != nil {
		return unwritten(path, err)
	}
	if err := os.Rename(beside, path); err != nil {
		return unwritten(path, err)
	}
	return nil
}

// beside creates a file of a name of its own in the folder of another.
func beside(path string, mode fs.FileMode) (name string, f *os.File, err error) {
	for range 100 {
		name = filepath.Join(filepath.Dir(path), fmt.Sprintf(".passepartout-%08x", rand.Uint32()))
		if f, err = os.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_EXCL, mode); !errors.Is(err, fs.ErrExist) {
			return name, f, err
		}
	}
	return name, nil, err
}

// unwritten says in one line why a file could not be written: of several causes the first.
func unwritten(path string, err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		err = p.Err
	}
	return fmt.Errorf("%s was not written: %w; nothing else is lost, give another place", wiretext.Clean(path), err)
}
