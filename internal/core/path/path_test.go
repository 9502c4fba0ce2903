package path_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/path"
)

func TestSegments(t *testing.T) {
	onLink := func(a netip.Addr) bool { return netip.MustParsePrefix("172.27.40.0/24").Contains(a) }
	for _, c := range []struct{ to, stations, want string }{
		{"203.0.113.80", "172.27.40.1 198.51.100.1 198.51.100.9 203.0.113.1 203.0.113.80",
			"local-subnet provider provider far destination"},
		{"203.0.113.80", "172.27.40.1 192.168.1.1 100.64.0.1 203.0.113.80", "local-subnet private provider destination"},
		{"203.0.113.80", "172.27.40.1 198.51.100.1 - 198.51.100.9 - 203.0.113.80",
			"local-subnet provider provider provider unknown destination"},
		{"203.0.113.80", "- -", "unknown unknown"},
		{"2001:db8:113::70", "2001:db8:1::1 2001:db8:113::1 2001:db8:113::70", "provider far destination"},
	} {
		var stations []netip.Addr
		for _, s := range strings.Fields(c.stations) {
			a, _ := netip.ParseAddr(s)
			stations = append(stations, a)
		}
		var got []string
		for _, s := range path.Segments(stations, netip.MustParseAddr(c.to), onLink) {
			got = append(got, string(s))
		}
		assert.Equal(t, c.want, strings.Join(got, " "), c.stations)
	}
}
