package tui

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"

	"github.com/adrg/xdg"
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
	raw, err := os.ReadFile(path)
	if err != nil || json.Unmarshal(raw, &r.targets) != nil {
		r.targets = nil
	}
	r.targets = r.targets[:min(len(r.targets), mostRecent)]
	return r
}

// Targets lists them, the latest first.
func (r *Recent) Targets() []string { return slices.Clone(r.targets) }

// Add puts a target first and writes the list.
func (r *Recent) Add(target string) {
	r.targets = slices.DeleteFunc(r.targets, func(t string) bool { return t == target })
	r.targets = append([]string{target}, r.targets...)
	r.targets = r.targets[:min(len(r.targets), mostRecent)]
	raw, err := json.Marshal(r.targets)
	if err != nil || os.MkdirAll(filepath.Dir(r.path), 0o700) != nil {
		return
	}
	_ = os.WriteFile(r.path, raw, 0o600)
}
