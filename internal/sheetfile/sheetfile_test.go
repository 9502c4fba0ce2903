package sheetfile_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/sheetfile"
)

const whole = `site: Kittiwake Ferries, North Pier
networks:
  - name: pier
    prefixes: [172.27.40.0/24, "2001:db8:40::/64"]
    gateways: [172.27.40.1]
    gateway_hardware: ["02-00-00-00-00-01"]
    dhcp_servers: [172.27.40.2]
    resolvers: [172.27.40.2, 203.0.113.53]
    domain: Kittiwake.Example
    port: {speed_mbit: 1000, duplex: full}
    switch: pier-switch-1
    vlan: 40
    ranges:
      - {from: 172.27.40.100, to: 172.27.40.199, use: leases}
    addresses:
      - {address: 172.27.40.23, name: ticket-03, hardware: "0200.0000.1017"}
services:
  - target: bookings.kittiwake.example:443
    delay_ms: 200
`

// What is written is read again as the same sheet.
func TestRoundTrip(t *testing.T) {
	s, err := sheetfile.Parse([]byte(whole), "pier.yaml")
	require.NoError(t, err)
	assert.Equal(t, "kittiwake.example", s.Networks[0].Domain)
	assert.Equal(t, "02:00:00:00:10:17", s.Networks[0].Fixed[0].Hardware.String())
	raw, err := sheetfile.Write(s)
	require.NoError(t, err)
	again, err := sheetfile.Parse(raw, "pier.yaml")
	require.NoError(t, err, "%s", raw)
	assert.Equal(t, s, again)
}

// Each error names the file, the line, and what is wrong there; nothing is half-applied.
func TestErrors(t *testing.T) {
	for _, c := range []struct{ name, old, new, want string }{
		{"an address that is none", "203.0.113.53]", "203.0.113.5x]", `pier.yaml: line 8: address "203.0.113.5x" is none`},
		{"a prefix too long", "172.27.40.0/24", "172.27.40.0/33", `line 4: prefix "172.27.40.0/33": longer than 32`},
		{"a prefix without a length", "[172.27.40.0/24,", "[172.27.40.0,", `line 4: prefix "172.27.40.0": the length is missing`},
		{"host bits", "172.27.40.0/24", "172.27.40.9/24",
			`line 4: prefix "172.27.40.9/24": it has host bits; the network is 172.27.40.0/24`},
		{"a gateway elsewhere", "gateways: [172.27.40.1]", "gateways: [172.27.41.1]",
			"line 5: gateway 172.27.41.1 lies in none of the network's prefixes"},
		{"a card of five octets", "02-00-00-00-00-01", "02-00-00-00-00", "line 6: hardware address"},
		{"a duplex of its own", "duplex: full", "duplex: both", `line 10: duplex "both": give full or half`},
		{"a VLAN above all", "vlan: 40", "vlan: 4095", "line 12: vlan 4095: give 1 to 4094"},
		{"a range backwards", "to: 172.27.40.199", "to: 172.27.40.9",
			"line 14: range 172.27.40.100 to 172.27.40.9: the end lies before the beginning"},
		{"a range outside", "to: 172.27.40.199", "to: 172.27.41.199", "line 14: range 172.27.40.100 to 172.27.41.199 lies outside"},
		{"an address outside", "address: 172.27.40.23", "address: 172.27.41.23", "line 16: address 172.27.41.23 lies outside"},
		{"an address twice", "services:", "      - {address: 172.27.40.23, name: twin}\nservices:",
			"line 17: address 172.27.40.23 is given twice, to ticket-03 and twin"},
		{"a target that is none", "target: bookings.kittiwake.example:443", "target: 'bookings:x'", "line 18: target"},
		{"a delay below zero", "delay_ms: 200", "delay_ms: -1", "line 19: delay_ms -1"},
		{"a field that is not known", "vlan: 40", "vlann: 40", `line 12: unknown field "vlann"`},
		{"no YAML", "networks:", "networks: [", "pier.yaml: line "},
		{"no networks", "networks:\n", "networks: []\nother:\n", "pier.yaml: line "},
		{"brackets without end", "networks:", "networks: " + strings.Repeat("[", 24_000), "line 2: brackets nested deeper"},
		{"an alias", "duplex: full", "duplex: *all", "line 10: anchors, aliases and merges are not read"},
		{"an anchor", "duplex: full", "duplex: &all full", "line 10: anchors"},
		{"a merge", "duplex: full", "<<: {duplex: full}", "line 10: anchors"},
		{"an ampersand in a name", "name: ticket-03,", "name: 'fish & chips',", ""},
		{"control characters", "name: ticket-03,", `name: "ticket\x1b[31m",`, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			text := strings.Replace(whole, c.old, c.new, 1)
			require.NotEqual(t, whole, text)
			s, err := sheetfile.Parse([]byte(text), "pier.yaml")
			if c.want == "" {
				require.NoError(t, err)
				assert.NotContains(t, s.Networks[0].Fixed[0].Name, "\x1b")
				return
			}
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.want)
			assert.NotContains(t, err.Error(), "\n")
			assert.Nil(t, s)
		})
	}
}

func TestFilesThatAreNone(t *testing.T) {
	dir := t.TempDir()
	write := func(name string, content []byte) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, content, 0o644))
		return path
	}
	for path, want := range map[string]string{
		filepath.Join(dir, "nosuch.yaml"): "no such file",
		dir:                               "give a file",
		write("empty.yaml", nil):          "empty",
		write("binary.yaml", []byte("site: x\n\x00")):   "line 2: this is no text",
		write("large.yaml", make([]byte, 5<<20)):        "at most 4 MiB",
		write("list.yaml", []byte("- a\n- b\n")):        "list.yaml: line 1",
		write("none.yaml", []byte("site: somewhere\n")): "no networks are given",
	} {
		_, err := sheetfile.Read(path)
		require.Error(t, err, path)
		assert.Contains(t, err.Error(), want)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(whole))
	f.Add([]byte("networks:\n  - prefixes: [10.0.0.0/8]\n    ranges: [{from: 10.0.0.1, to: ::1, use: x}]\n"))
	f.Add([]byte("networks: &a [*a]\n"))
	f.Fuzz(func(t *testing.T, in []byte) {
		s, err := sheetfile.Parse(in, "f.yaml")
		if (s == nil) == (err == nil) {
			t.Fatal("a sheet or an error, not both and not neither")
		}
		if err != nil {
			if strings.ContainsAny(err.Error(), "\n\x1b") {
				t.Fatalf("%q reaches the screen", err)
			}
			return
		}
		for _, n := range s.Networks {
			for _, x := range n.Fixed {
				if strings.ContainsAny(x.Name, "\n\x1b") {
					t.Fatalf("%q reaches the screen", x.Name)
				}
			}
		}
	})
}
