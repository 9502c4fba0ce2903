package tui

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/adrg/xdg"

	"passepartout/internal/plainfile"
)

// A background is what the colours are seen on.
type background uint8

const (
	unknownBackground background = iota // the terminal has not said: colours that read on both
	darkBackground
	lightBackground
)

// Themes are what can be said of the colours: what the terminal says of itself, or one of two.
var Themes = []string{"auto", "light", "dark"}

// Theme is the theme that was asked for, or the one that was asked for last; asked is empty for the latter. It is remembered where the
// user's state folder can be written.
func Theme(asked string) (string, error) {
	path := filepath.Join(xdg.StateHome, "passepartout", "theme")
	if asked == "" {
		raw, err := plainfile.Read(path, 64)
		if word := strings.TrimSpace(string(raw)); err == nil && slices.Contains(Themes, word) {
			return word, nil
		}
		return Themes[0], nil
	}
	if !slices.Contains(Themes, asked) {
		return "", fmt.Errorf("--theme %q: it is %s", asked, strings.Join(Themes, ", "))
	}
	if os.MkdirAll(filepath.Dir(path), 0o700) == nil { // that it cannot be remembered stops nobody
		_ = plainfile.Write(path, func(w io.Writer) error { _, err := fmt.Fprintln(w, asked); return err })
	}
	return asked, nil
}

// backgroundOf is what a theme says the background is.
func backgroundOf(theme string) background {
	return map[string]background{"light": lightBackground, "dark": darkBackground}[theme]
}
