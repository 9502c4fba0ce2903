package fault

import (
	"fmt"
	"net/netip"
	"strings"
	"time"
)

// List writes addresses in a row, the first few of them.
func List(addrs []netip.Addr) string {
	const most = 6
	var parts []string
	for i, a := range addrs {
		if i == most {
			parts = append(parts, fmt.Sprintf("and %d more", len(addrs)-most))
			break
		}
		parts = append(parts, a.String())
	}
	return strings.Join(parts, ", ")
}

// Millis writes a time with a unit that fits it.
func Millis(d time.Duration) string {
	switch {
	case d < 10*time.Millisecond:
		return fmt.Sprintf("%.2f ms", float64(d)/1e6)
	case d < time.Second:
		return fmt.Sprintf("%.0f ms", float64(d)/1e6)
	}
	return fmt.Sprintf("%.1f s", d.Seconds())
}

func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}
