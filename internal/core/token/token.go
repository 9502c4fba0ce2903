// Package token writes the values of enumerations as words and reads them back: what a log or a file holds stays readable, and does not
// depend on the order in which constants are declared.
package token

import (
	"fmt"
	"slices"
	"strings"
)

// Marshal gives the token of a value: its name in the table, with hyphens for spaces. The empty name is the empty token.
func Marshal[T ~uint8](names []string, v T) ([]byte, error) {
	if int(v) >= len(names) {
		return nil, fmt.Errorf("%T %d has no name", v, v)
	}
	return []byte(strings.ReplaceAll(names[v], " ", "-")), nil
}

// Unmarshal finds the value of a token.
func Unmarshal[T ~uint8](names []string, text []byte, v *T) error {
	i := slices.IndexFunc(names, func(name string) bool { return strings.ReplaceAll(name, " ", "-") == string(text) })
	if i < 0 {
		return fmt.Errorf("%q is none of %s", clip(string(text)), strings.Join(names, ", "))
	}
	*v = T(i)
	return nil
}

func clip(s string) string {
	if len(s) > 40 {
		return s[:37] + "..."
	}
	return s
}
