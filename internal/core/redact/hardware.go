package redact

import (
	"encoding/hex"
	"strings"
)

// hardware is the address of an interface, of six octets (IEEE 802-2014 §8.2).
type hardware [6]byte

// parseHardware reads one in colons, dashes, groups of four or none, and says what stood between.
func parseHardware(s string) (h hardware, between string, ok bool) {
	switch {
	case len(s) == 17 && strings.Count(s, ":") == 5:
		between = ":"
	case len(s) == 17 && strings.Count(s, "-") == 5:
		between = "-"
	case len(s) == 14 && strings.Count(s, ".") == 2:
		between = "."
	case len(s) != 12:
		return h, "", false
	}
	raw, err := hex.DecodeString(strings.ReplaceAll(s, between, ""))
	if err != nil || len(raw) != len(h) {
		return h, "", false
	}
	return hardware(raw), between, true
}

func (h hardware) write(between string) string {
	digits := hex.EncodeToString(h[:])
	step := 2
	switch between {
	case "":
		return digits
	case ".":
		step = 4
	}
	var b strings.Builder
	for i := 0; i < len(digits); i += step {
		if i > 0 {
			b.WriteString(between)
		}
		b.WriteString(digits[i : i+step])
	}
	return b.String()
}

// kept is how many of its octets stay: all of one that is for many, or nobody's; of a virtual router's all but its number (RFC 9568
// §7.3), and else the half of the maker.
func (h hardware) kept() int {
	switch {
	case h[0]&1 == 1, h == hardware{}:
		return 6
	case h[0] == 0 && h[1] == 0 && h[2] == 0x5e && h[3] == 0:
		return 5
	}
	return 3
}

// standIn turns the octets that do not stay by a key, so that no two addresses share a stand-in: each octet by what stands before it.
func (h hardware) standIn(key func(string, []byte) byte) hardware {
	out := h
	for i := h.kept(); i < len(h); i++ {
		out[i] ^= key("hardware", h[:i])
	}
	return out
}
