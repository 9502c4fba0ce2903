package main

import (
	"io"
	"os"
	"path/filepath"
	"runtime/debug"

	"github.com/adrg/xdg"

	"passepartout/internal/plainfile"
)

// keepCopied keeps what was copied last in a file of the state folder, for terminals that take nothing for their clipboard.
func keepCopied(text string) (string, error) {
	path := filepath.Join(xdg.StateHome, "passepartout", "copied.txt")
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return path, err
	}
	return path, plainfile.WritePrivate(path, func(w io.Writer) error {
		_, err := io.WriteString(w, text)
		return err
	})
}

// version is that of the program, as the compiler wrote it down: of a module, else the revision of the source.
func version() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return ""
	}
	if v := info.Main.Version; v != "" && v != "(devel)" {
		return v
	}
	revision, changed := "", ""
	for _, s := range info.Settings {
		switch {
		case s.Key == "vcs.revision":
			revision = s.Value[:min(len(s.Value), 12)]
		case s.Key == "vcs.modified" && s.Value == "true":
			changed = ", changed"
		}
	}
	if revision == "" {
		return ""
	}
	return revision + changed
}
