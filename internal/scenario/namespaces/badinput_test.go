//go:build linux

package namespaces_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/vishvananda/netlink"

	"passepartout/internal/scenario"
	"passepartout/internal/scenario/namespaces"
)

func build(t *testing.T, name string, change func(*scenario.Scenario)) *namespaces.Lab {
	if why := namespaces.Unavailable(); why != "" {
		t.Skip(why)
	}
	s, err := scenario.Load(name)
	require.NoError(t, err)
	if change != nil {
		change(s)
	}
	l, err := namespaces.Build(s)
	require.NoError(t, err)
	t.Cleanup(l.Close)
	return l
}

// check runs the program in the lab; whatever the machine holds, it must give one whole JSON object and a status of the contract.
func check(t *testing.T, l *namespaces.Lab, args ...string) (r result, status int) {
	out, errs, status, err := l.Run(namespaces.Root, binary, append([]string{"check", "--format", "json"}, args...)...)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal([]byte(out), &r), "%s%s", out, errs)
	assert.NotContains(t, out+errs, "\x1b")
	assert.NotContains(t, errs, "panic")
	return r, status
}

func TestSettingsFullOfRubbish(t *testing.T) {
	noise := make([]byte, 60_000)
	rng := rand.New(rand.NewPCG(1, 2))
	for i := range noise {
		noise[i] = byte(rng.Uint32())
	}
	var hosts strings.Builder
	for i := range 50_000 {
		fmt.Fprintf(&hosts, "10.%d.%d.%d host-%d.example host-%d\n", i>>16, i>>8&255, i&255, i, i)
	}
	for _, c := range []struct {
		name, conf, hosts, target string
		zone, fault               string
	}{
		{name: "resolv.conf of noise", conf: string(noise), target: "203.0.113.80:443", zone: "none"},
		{name: "resolv.conf of noise, and a name", conf: string(noise), target: "bookings.kittiwake.example:443", zone: "host",
			fault: "resolver-not-set"},
		{name: "a good line among rubbish",
			conf:   "nameserver\nnameserver \x1b[31m\n\x00\x00\nnameserver 172.27.40.2 # here\n" + string(noise[:2000]),
			target: "bookings.kittiwake.example:443", zone: "none"},
		{name: "a hosts file of 50,000 lines", hosts: hosts.String(), target: "bookings.kittiwake.example:443", zone: "none"},
		{name: "a name that stands in it", hosts: hosts.String() + "203.0.113.80 pinned.example\n", target: "pinned.example:443",
			zone: "none"},
		{name: "a hosts file of noise", hosts: string(noise), target: "bookings.kittiwake.example:443", zone: "none"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			l := build(t, "healthy", nil)
			l.ResolvConf, l.Hosts = c.conf, c.hosts
			r, status := check(t, l, c.target)
			assert.Equal(t, c.zone, r.Verdict.Zone, r.Verdict.Sentence)
			assert.Equal(t, c.fault, r.Verdict.Fault)
			assert.Contains(t, []int{0, 1}, status)
			assert.Less(t, r.TookMS, int64(6000))
		})
	}
}

func TestPortRemovedDuringARun(t *testing.T) {
	l := build(t, "gateway-silent", nil) // a run that takes more than a second
	gone := make(chan error, 1)
	time.AfterFunc(400*time.Millisecond, func() {
		gone <- l.On("ticket-03", func() error {
			link, err := netlink.LinkByName("eth0")
			if err != nil {
				return err
			}
			return netlink.LinkDel(link)
		})
	})
	r, status := check(t, l, "bookings.kittiwake.example:443")
	require.NoError(t, <-gone)
	assert.Contains(t, []int{1, 2}, status)
	assert.NotEqual(t, "none", r.Verdict.Zone)
	assert.NotEqual(t, "beyond", r.Verdict.Zone, r.Verdict.Sentence)
	// And the next run, without the port, says so.
	r, status = check(t, l, "bookings.kittiwake.example:443")
	assert.Equal(t, 1, status)
	assert.Equal(t, "host", r.Verdict.Zone)
	out, errs, status, err := l.Run(namespaces.Root, binary, "check", "-i", "eth0")
	require.NoError(t, err)
	assert.Equal(t, 3, status)
	assert.Empty(t, out)
	assert.Contains(t, errs, "this machine has lo")
}

func TestNamesFromTheWireAreData(t *testing.T) {
	l := build(t, "healthy", func(s *scenario.Scenario) {
		// dnsmasq hands out what it is told; a reverse name of such length and shape must be shown and not obeyed.
		for _, server := range []string{"pier-core", "ns"} {
			records := s.Site.Nodes[server].DNS.Records
			records[strings.Repeat("x", 60)+"."+strings.Repeat("y", 60)+".kittiwake.example"] = records["pier-gw.kittiwake.example"]
			delete(records, "pier-gw.kittiwake.example")
		}
	})
	out, _, status, err := l.Run(namespaces.Root, binary, "trace", "203.0.113.80")
	require.NoError(t, err)
	assert.Zero(t, status)
	assert.Contains(t, out, strings.Repeat("x", 60))
}

func TestOtherPrefixesAndPorts(t *testing.T) {
	for _, c := range []struct {
		name        string
		own, gw     string
		args        []string
		zone, fault string
	}{
		{name: "a /31 between two", own: "172.27.40.2/31", gw: "172.27.40.3/31", zone: "none"},
		{name: "a /22, the gateway at its end", own: "172.27.41.23/22", gw: "172.27.43.254/22", zone: "none"},
		{name: "public addresses on the segment", own: "198.51.100.66/26", gw: "198.51.100.65/26", zone: "none"},
		{name: "a port named that exists", own: "172.27.40.23/24", gw: "172.27.40.1/24", args: []string{"-i", "eth0"}, zone: "none"},
		{name: "loopback named", own: "172.27.40.23/24", gw: "172.27.40.1/24", args: []string{"-i", "lo"}, zone: "none"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			l := build(t, "healthy", func(s *scenario.Scenario) {
				own, gw := s.Site.Nodes["ticket-03"], s.Site.Nodes["pier-gw"]
				own.Ports["eth0"].Addresses = prefixes(c.own)
				gw.Ports["eth0"].Addresses = prefixes(c.gw)
				own.Routes = []scenario.Route{{To: prefixes("0.0.0.0/0")[0], Via: prefixes(c.gw)[0].Addr()}}
				s.Site.Nodes["pier-core"].Off = true
				own.Resolvers = own.Resolvers[1:]
			})
			r, _ := check(t, l, append([]string{"bookings.kittiwake.example:443"}, c.args...)...)
			assert.Equal(t, c.zone, r.Verdict.Zone, r.Verdict.Sentence)
			assert.Equal(t, c.fault, r.Verdict.Fault)
		})
	}
}

func prefixes(list ...string) (out []netip.Prefix) {
	for _, p := range list {
		out = append(out, netip.MustParsePrefix(p))
	}
	return out
}
