package change_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/change"
	"passepartout/internal/core/endpoint"
)

// The addresses by which a device is visited lie next to it, and are such as hosts have.
func TestBesideADevice(t *testing.T) {
	for device, want := range map[string]string{"192.168.1.1/24": "[192.168.1.2 192.168.1.3 192.168.1.4]",
		"192.168.1.254/24": "[192.168.1.253 192.168.1.252 192.168.1.251]", "10.0.0.2/30": "[10.0.0.1]",
		"192.168.0.50/24": "[192.168.0.51 192.168.0.49 192.168.0.52]"} {
		got, err := change.Beside(prefix(device), 3)
		require.NoError(t, err, device)
		assert.Equal(t, want, fmt.Sprint(got), device)
	}
	for _, wrong := range []string{"192.168.1.0/24", "192.168.1.255/24", "192.168.1.1/31", "224.0.0.1/24", "2001:db8::1/64", "0.0.0.1/0"} {
		_, err := change.Beside(prefix(wrong), 3)
		assert.Error(t, err, wrong)
	}
}

// Where hosts are looked for is set, and set back as it was, octet by octet.
func TestWhereHostsAreLookedFor(t *testing.T) {
	for _, text := range []string{"passwd: files\nhosts: files [NOTFOUND=return] dns # for the trial\nethers: db files\n", "hosts: files\n",
		"hosts:\tfiles myhostname\n\n# hosts: files dns\n", "hosts: files\nhosts: files nis\n"} {
		was := change.Of(&endpoint.Endpoint{Switching: endpoint.ParseSwitching(strings.NewReader(text))}).Sources
		got := change.WithSources(text, "files dns")
		assert.Equal(t, []endpoint.NameSource{{Service: "files"}, {Service: "dns"}}, endpoint.ParseSwitching(strings.NewReader(got)), text)
		assert.Equal(t, text, change.WithSources(got, was))
	}
	assert.Equal(t, "passwd: files\nhosts: files dns\n", change.WithSources("passwd: files\n", "files dns"))
	assert.Equal(t, "passwd: files\n", change.WithSources("passwd: files\nhosts: files dns\n", ""))
}

// A name is taken out of the hosts file, and comes back as it was, octet by octet.
func TestANameOfTheHostsFile(t *testing.T) {
	h := change.Host{Address: addr("203.0.113.18"), Name: "bookings.kittiwake.example"}
	for name, c := range map[string]struct{ text, without string }{
		"a line of its own": {"127.0.0.1 localhost\n203.0.113.18\tbookings.kittiwake.example # for the trial\n::1 localhost\n",
			"127.0.0.1 localhost\n#passepartout# 203.0.113.18\tbookings.kittiwake.example # for the trial\n::1 localhost\n"},
		"beside other names": {"203.0.113.18  tides bookings.kittiwake.example  weather\n# end\n",
			"#passepartout# 203.0.113.18  tides bookings.kittiwake.example  weather\n203.0.113.18 tides weather\n# end\n"},
		"written otherwise": {"203.0.113.18 Bookings.Kittiwake.EXAMPLE\n", "#passepartout# 203.0.113.18 Bookings.Kittiwake.EXAMPLE\n"},
		"not there":         {"203.0.113.19 bookings.kittiwake.example\n# 203.0.113.18 bookings.kittiwake.example\n", ""},
		"rubbish":           {"\x00\xff 203.0.113.18\n203.0.113.18\n\n#\n", ""},
	} {
		want := c.without
		if want == "" {
			want = c.text
		}
		got := change.WithoutHost(c.text, h)
		assert.Equal(t, want, got, name)
		if c.without != "" {
			assert.Equal(t, c.text, change.WithHost(got, h), name)
		}
	}
	assert.Equal(t, "127.0.0.1 localhost\n203.0.113.18 bookings.kittiwake.example\n", change.WithHost("127.0.0.1 localhost", h))
	assert.Equal(t, "203.0.113.18 bookings.kittiwake.example\n", change.WithHost("", h))
}
