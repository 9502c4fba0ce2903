package dhcp_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/dhcp"
)

func TestDescribe(t *testing.T) {
	tests := map[string]struct {
		code uint8
		data string
		want string
	}{
		"mask":                         {1, "\xff\xff\xff\x00", "255.255.255.0 (/24)"},
		"mask that is none":            {1, "\xff\x00\xff\x00", "255.0.255.0 (no mask: its ones are not together)"},
		"routers":                      {3, "\xac\x1b\x28\x01\xac\x1b\x28\x02", "172.27.40.1, 172.27.40.2"},
		"routers, an octet too many":   {3, "\xac\x1b\x28\x01\x00", "ac1b280100"},
		"empty":                        {3, "", "(empty)"},
		"lease":                        {51, "\x00\x00\x0e\x10", "3600 s"},
		"lease without end":            {51, "\xff\xff\xff\xff", "without end"},
		"time offset":                  {2, "\xff\xff\xf1\xf0", "-3600 s"},
		"MTU":                          {26, "\x05\xdc", "1500"},
		"type":                         {53, "\x05", "ack"},
		"a type that is none":          {53, "\x63", "none"},
		"name with an escape sequence": {12, "tic\x1b[31mket\x00", `tic\x1b[31mket`},
		"parameters":                   {55, "\x01\x03\x79", "1 3 121"},
		"client by hardware address":   {61, "\x01\x02\x00\x00\x00\x10\x17", "02:00:00:00:10:17"},
		"client by DUID":               {61, "\xff\x29\xb3\xa2\x3c\x00\x02\x00", "DUID 000200, association 29b3a23c"},
		"classless routes": {121, "\x18\xac\x1b\x32\xac\x1b\x28\x01\x00\xac\x1b\x28\x01",
			"172.27.50.0/24 by 172.27.40.1, 0.0.0.0/0 by 172.27.40.1"},
		"classless route on the link": {121, "\x18\xac\x1b\x32\x00\x00\x00\x00", "172.27.50.0/24 on the link"},
		"classless route cut":         {121, "\x18\xac\x1b\x32\xac", "18ac1b32ac"},
		"a width that is none":        {121, "\x21\xac\x1b\x32\xac\xac\x1b\x28\x01", "21ac1b32acac1b2801"},
		"captive portal":              {114, "https://portal.kittiwake.example/api", "https://portal.kittiwake.example/api"},
		"fqdn":                        {81, "\x00\x00\x00ticket-03.kittiwake.example", "ticket-03.kittiwake.example"},
		"fqdn in labels":              {81, "\x04\x00\x00\x09ticket-03\x09kittiwake\x07example\x00", "ticket-03.kittiwake.example"},
		"fqdn with a label too long":  {81, "\x04\x00\x00\x3fa", ""},
		"relay agent": {82, "\x01\x04eth0\x02\x02\x00\x07\x05\x04\xac\x1b\x28\x00",
			"circuit eth0, remote 0007, link selection 172.27.40.0"},
		"relay agent, past the end": {82, "\x01\x09eth0", "010965746830"},
		"overload":                  {52, "\x03", "further options in file and sname"},
		"vendor class":              {124, "\x00\x00\x00\x09\x03abc", "enterprise 9: 616263"},
		"private":                   {230, "\x01\x02", "0102"},
	}
	for name, test := range tests {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, test.want, dhcp.Describe(dhcp.Option{Code: test.code, Data: []byte(test.data)}).Value)
		})
	}
	assert.Equal(t, "IP Address Lease Time", dhcp.Name(51))
	assert.Equal(t, "Private Use", dhcp.Name(240))
}

// A default route in option 121 beats option 3, and option 121 without one leaves no router (RFC 3442).
func TestRoutersInForce(t *testing.T) {
	router := dhcp.Option{Code: dhcp.OptRouters, Data: four("172.27.40.9")}
	for data, want := range map[string][]netip.Addr{
		"": {addr("172.27.40.9")}, "\x00\xac\x1b\x28\x01": {addr("172.27.40.1")}, "\x18\xac\x1b\x32\xac\x1b\x28\x01": nil,
	} {
		m := dhcp.Message{Options: []dhcp.Option{router}}
		if data != "" {
			m.Options = append(m.Options, dhcp.Option{Code: dhcp.OptClasslessRoutes, Data: []byte(data)})
		}
		assert.Equal(t, want, m.Terms().Routers)
	}
}

func TestHardware(t *testing.T) {
	h, ok := dhcp.ParseHardware("02-00-00-00-10-17")
	assert.True(t, ok)
	assert.Equal(t, ticket, h)
	for _, bad := range []string{"", "ticket", "02:00:00:00:10:171", "zz:00", strings.Repeat("00:", 17)} {
		_, ok := dhcp.ParseHardware(bad)
		assert.False(t, ok, bad)
	}
}

func FuzzDescribe(f *testing.F) {
	f.Add(uint8(121), []byte("\x18\xac\x1b\x32\xac\x1b\x28\x01"))
	f.Add(uint8(82), []byte("\x01\x04eth0"))
	f.Add(uint8(81), []byte("\x04\x00\x00\x09ticket-03"))
	f.Fuzz(func(t *testing.T, code uint8, data []byte) {
		d := dhcp.Describe(dhcp.Option{Code: code, Data: data})
		if len(d.Value) > 16*len(data)+200 || strings.ContainsAny(d.Value, "\x1b\n\r\x00") {
			t.Fatalf("%d octets give %q", len(data), d.Value)
		}
		m := dhcp.Message{Options: []dhcp.Option{{Code: code, Data: data}}}
		_ = m.Terms().Prefix()
		_ = m.Hostname()
	})
}
