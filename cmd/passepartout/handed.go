package main

import (
	"io"
	"os"
	"path/filepath"

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
