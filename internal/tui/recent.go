package tui

import (
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/adrg/xdg"

	"passepartout/internal/core/target"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/plainfile"
)

// Recent remembers the targets that were asked for lately, in the user's state folder. That it cannot be read or written never stops the
// work.
type Recent struct {
	path    string
	targets []string
}

const mostRecent = 12

// OpenRecent reads the list.
func OpenRecent() *Recent {
	return openRecentAt(filepath.Join(xdg.StateHome, "passepartout", "recent.json"))
}

func openRecentAt(path string) *Recent {
	r := &Recent{path: path}
	r.targets = r.read()
	return r
}

// mostRecentOctets is far more than a list of names and addresses needs.
const mostRecentOctets = 64 << 10

// read gives what the file lists: targets alone, for anybody may have written to it.
func (r *Recent) read() (targets []string) {
	raw, err := plainfile.Read(r.path, mostRecentOctets)
	if err != nil || json.Unmarshal(raw, &targets) != nil {
		return nil
	}
	targets = slices.DeleteFunc(targets, func(t string) bool {
		_, err := target.Parse(t)
		return err != nil || wiretext.Clean(t) != t
	})
	return targets[:min(len(targets), mostRecent)]
}

// Targets lists them, the latest first.
func (r *Recent) Targets() []string { return slices.Clone(r.targets) }

// Add puts a target first and writes the list, with what other copies of this program have put there meanwhile.
func (r *Recent) Add(latest string) {
	if os.MkdirAll(filepath.Dir(r.path), 0o700) != nil {
		return
	}
	release := r.hold()
	defer release()
	merged := []string{latest}
	for _, t := range slices.Concat(r.read(), r.targets) {
		if !slices.Contains(merged, t) && len(merged) < mostRecent {
			merged = append(merged, t)
		}
	}
	r.targets = merged
	if f, err := os.OpenFile(r.path, os.O_CREATE|os.O_EXCL, 0o600); err == nil { // what somebody asked for is nobody else's to read
		f.Close()
	}
	if raw, err := json.Marshal(merged); err == nil {
		_ = plainfile.Write(r.path, func(w io.Writer) error { _, err := w.Write(raw); return err })
	}
}

// How long another copy of this program is waited for, and after how long it is taken to have died.
const (
	recentPatience = 300 * time.Millisecond
	recentStale    = 5 * time.Second
)

// hold keeps other copies of this program from writing the list; release lets them again. Whoever does not get it in time writes all the
// same.
func (r *Recent) hold() (release func()) {
	lock := r.path + ".lock"
	for began := time.Now(); time.Since(began) < recentPatience; time.Sleep(5 * time.Millisecond) {
		f, err := os.OpenFile(lock, os.O_CREATE|os.O_EXCL, 0o600)
		if err == nil {
			f.Close()
			return func() { os.Remove(lock) }
		}
		if info, err := os.Stat(lock); err == nil && time.Since(info.ModTime()) > recentStale {
			os.Remove(lock)
		}
	}
	return func() {}
}
