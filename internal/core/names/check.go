package names

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"unicode"

	"passepartout/internal/core/wiretext"
)

// The bounds of a name (RFC 1035 §3.1, in text).
const (
	longestName  = 253
	longestLabel = 63
)

// Check refuses what cannot be looked up, in one line; an address is fine, it is looked up backwards.
func Check(name string) (string, error) {
	text := strings.TrimSuffix(strings.TrimSpace(name), ".")
	shown := text
	if len(shown) > 40 {
		shown = shown[:37] + "..."
	}
	shown = wiretext.Clean(shown)
	switch {
	case text == "":
		return "", errors.New("give a name, as bookings.kittiwake.example, or an address")
	case len(text) > longestName:
		return "", fmt.Errorf("name %q: %d octets, at most %d are allowed (RFC 1035 §3.1)", shown, len(text), longestName)
	}
	if _, err := netip.ParseAddr(text); err == nil {
		return text, nil
	}
	for _, r := range text {
		if unicode.IsControl(r) || unicode.IsSpace(r) || r == '/' || r == '@' || r == '\\' || r == unicode.ReplacementChar {
			return "", fmt.Errorf("name %q: %q has no place in a name; give it as bookings.kittiwake.example", shown, r)
		}
	}
	for _, label := range strings.Split(text, ".") {
		switch {
		case label == "":
			return "", fmt.Errorf("name %q: two dots follow each other, or it begins with one", shown)
		case len(label) > longestLabel:
			return "", fmt.Errorf("name %q: a part of %d octets, at most %d are allowed (RFC 1035 §3.1)", shown, len(label), longestLabel)
		}
	}
	return strings.ToLower(text), nil
}
