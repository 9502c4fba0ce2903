package casefile

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"passepartout/internal/core/event"
	"passepartout/internal/core/wiretext"
)

// Shelf is the folder in which the screen keeps cases by itself.
type Shelf string

// Most is how many closed cases stay on a shelf: where one more comes, the oldest is thrown away.
const Most = 100

// Kept is a case on a shelf.
type Kept struct {
	Manifest
	Path   string // of the file, or of the unfinished one
	Size   int64  // octets
	Left   bool   // it was never closed, and nobody writes it any more
	Writes bool   // it is being written
	Flaw   string // why nothing is known of it; "": it is
}

// Name is what it is called on its shelf.
func (k Kept) Name() string {
	return strings.TrimSuffix(strings.TrimSuffix(filepath.Base(k.Path), Unfinished), Ending)
}

// Fresh is where a case is kept that begins now.
func (s Shelf) Fresh(at time.Time) (string, error) {
	if err := os.MkdirAll(string(s), 0o700); err != nil {
		return "", err
	}
	for n := range 100 {
		name := at.Format("2006-01-02-150405")
		if n > 0 {
			name += fmt.Sprintf("-%d", n+1)
		}
		path := filepath.Join(string(s), name+Ending)
		_, closed := os.Lstat(path)
		_, left := os.Lstat(path + Unfinished)
		if os.IsNotExist(closed) && os.IsNotExist(left) {
			return path, nil
		}
	}
	return "", errors.New("a hundred cases began in this second")
}

// List gives what is kept, the newest first. A folder that is not there holds nothing.
func (s Shelf) List() (out []Kept, err error) {
	entries, err := os.ReadDir(string(s))
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		unfinished := strings.HasSuffix(e.Name(), Ending+Unfinished)
		if info, err := e.Info(); err == nil && info.Mode().IsRegular() && (unfinished || strings.HasSuffix(e.Name(), Ending)) {
			k := Kept{Path: filepath.Join(string(s), e.Name()), Size: info.Size()}
			if k.Manifest, err = head(k.Path); err != nil {
				k.Flaw = err.Error()
			}
			if unfinished {
				k.Writes = isHeld(k.Path)
				k.Left = !k.Writes
			}
			out = append(out, k)
		}
	}
	slices.SortFunc(out, func(a, b Kept) int { return strings.Compare(b.Name(), a.Name()) })
	return out, nil
}

// Find gives the case of a name, as List has it.
func (s Shelf) Find(name string) (Kept, error) {
	all, err := s.List()
	if err != nil {
		return Kept{}, err
	}
	want := Kept{Path: name}.Name()
	for _, k := range all {
		if k.Name() == want {
			return k, nil
		}
	}
	return Kept{}, fmt.Errorf("no case %s is kept here; passepartout cases lists them", wiretext.Clip(name))
}

// Close makes a closed case of one that was left.
func (s Shelf) Close(k Kept, at time.Time) error {
	switch {
	case k.Writes:
		return fmt.Errorf("%s is being written; it is closed when its program ends", k.Name())
	case !k.Left:
		return fmt.Errorf("%s is closed", k.Name())
	case k.Flaw != "":
		return fmt.Errorf("%s: %s", k.Name(), k.Flaw)
	}
	m := k.Manifest
	m.Closed = at
	if err := finish(k.Path, strings.TrimSuffix(k.Path, Unfinished), m); err != nil {
		return told(k.Path, err)
	}
	return os.Remove(k.Path)
}

// Throw throws a case away.
func (s Shelf) Throw(k Kept) error {
	if k.Writes {
		return fmt.Errorf("%s is being written; end its program first", k.Name())
	}
	return os.Remove(k.Path)
}

// Tidy throws the oldest closed cases away that are too many of those that List gave.
func (s Shelf) Tidy(all []Kept) (err error) {
	closed := slices.DeleteFunc(slices.Clone(all), func(k Kept) bool { return k.Left || k.Writes })
	for _, k := range closed[min(Most, len(closed)):] {
		err = errors.Join(err, os.Remove(k.Path))
	}
	return err
}

// head reads the manifest of a case alone.
func head(path string) (m Manifest, err error) {
	f, err := os.Open(path)
	if err != nil {
		return m, err
	}
	defer f.Close()
	if strings.HasSuffix(path, Unfinished) {
		m, log, err := unpack(f)
		if err != nil {
			return m, err
		}
		if line, _, err := firstLine(log); err == nil { // of whom it is stands in what happened first
			if e, err := event.Parse(bytes.TrimSpace(line)); err == nil {
				m.know(e)
			}
		}
		return m, nil
	}
	info, err := f.Stat()
	if err != nil {
		return m, err
	}
	z, err := zip.NewReader(f, info.Size())
	if err != nil || len(z.File) > mostMembers {
		return m, errors.New("it is no case, or is cut short")
	}
	raw, err := member(z, manifestName, mostManifest)
	if err == nil && json.NewDecoder(raw).Decode(&m) != nil {
		err = errors.New("its manifest cannot be read")
	}
	return m, err
}
