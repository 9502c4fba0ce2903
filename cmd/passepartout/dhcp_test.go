package main_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const relayed = "../../internal/capture/testdata/relayed.pcap"

// exchangesOf is what a script reads of dhcp's JSON.
type exchangesOf struct {
	Schema, File string
	Frames       int
	Skipped      []struct {
		Frame int
		Why   string
	}
	Counts    map[string]int
	Exchanges []struct {
		XID, Client, Hostname, Relay, Outcome, Address, Domain, Server, Requested string
		PrefixLength                                                              int `json:"prefix_length"`
		Routers, Resolvers, Remarks                                               []string
		LeaseS                                                                    int `json:"lease_s"`
		T1S                                                                       int `json:"t1_s"`
		T2S                                                                       int `json:"t2_s"`
		Messages                                                                  []struct {
			Frame                                             int
			At, Type, From, To, Server, Offered, Relay, State string
			Options                                           []struct {
				Code        int
				Name, Value string
			}
		}
	}
}

func TestDHCPReadJSON(t *testing.T) {
	out, _, status := run(t, "dhcp", "--read", relayed, "--format", "json")
	assert.Zero(t, status)
	var got exchangesOf
	require.NoError(t, json.Unmarshal([]byte(out), &got))
	assert.Equal(t, "passepartout.dhcp/1", got.Schema)
	assert.Equal(t, 60, got.Frames)
	assert.Equal(t, map[string]int{"discover": 2, "offer": 2, "request": 5, "ack": 6, "nak": 0, "decline": 0, "release": 3, "inform": 0},
		got.Counts)
	require.Len(t, got.Exchanges, 3)
	e := got.Exchanges[0]
	assert.Equal(t, []string{"bound", "renewed", "released"}, []string{e.Outcome, got.Exchanges[1].Outcome, got.Exchanges[2].Outcome})
	assert.Equal(t, []any{"ticket-03", "172.27.40.1", "172.27.40.100", 24, "172.27.50.2", 120, 3, 7},
		[]any{e.Hostname, e.Relay, e.Address, e.PrefixLength, e.Server, e.LeaseS, e.T1S, e.T2S})
	assert.Equal(t, []string{"172.27.40.1"}, e.Routers)
	assert.Equal(t, "discover", e.Messages[0].Type)
	assert.Equal(t, "SELECTING", e.Messages[0].State)
	assert.NotEmpty(t, e.Messages[0].Options)
	assert.NotNil(t, got.Skipped)
	assert.Less(t, strings.Index(out, `"exchanges"`), strings.Index(out, `"counts"`), "exchanges are written as they end, counts last")
}

func TestDHCPFilters(t *testing.T) {
	for args, want := range map[string]int{"--client 02:00:00:00:10:11": 3, "--client 02:00:00:00:10:12": 0, "--host TICKET": 3,
		"--address 172.27.40.100": 3, "--relay 172.27.40.1": 3, "--relay 172.27.40.9": 0, "--xid 0x1": 0} {
		out, _, status := run(t, append([]string{"dhcp", "--read", relayed, "--format", "json"}, strings.Fields(args)...)...)
		var got exchangesOf
		require.NoError(t, json.Unmarshal([]byte(out), &got), args)
		assert.Len(t, got.Exchanges, want, args)
		assert.Zero(t, status, "what a filter leaves out was there all the same")
	}
}

func TestDHCPText(t *testing.T) {
	out, _, _ := run(t, "dhcp", "--read", relayed)
	for _, want := range []string{"bound: 172.27.40.100/24 by 172.27.50.2 for 2 min, through the relay 172.27.40.1", "client", "relay .1",
		"server .2", "3 exchanges: 1 bound, 1 renewed, 1 released"} {
		assert.Contains(t, out, want)
	}
	out, _, status := run(t, "dhcp", "--scenario", "dhcp-rogue", "--wait", "400ms")
	assert.Zero(t, status)
	assert.Contains(t, out, "172.27.40.2 and 172.27.40.66 disagree: router, name server")
	out, _, status = run(t, "dhcp", "--scenario", "dhcp-silent", "--wait", "400ms", "--format", "json")
	assert.Equal(t, 1, status, "no offer")
	assert.Contains(t, out, `"offers": []`)
}

func TestLease(t *testing.T) {
	out, _, status := run(t, "lease", "--scenario", "healthy", "--format", "json")
	assert.Zero(t, status)
	var got struct {
		Schema string
		Leases []map[string]any
	}
	require.NoError(t, json.Unmarshal([]byte(out), &got))
	assert.Equal(t, "passepartout.lease/1", got.Schema)
	require.Len(t, got.Leases, 1)
	for key, want := range map[string]any{"interface": "eth0", "client": "dhclient", "family": 4.0, "address": "172.27.40.23",
		"prefix_length": 24.0, "server": "172.27.40.2", "lease_s": 3600.0, "state": "bound", "in_force": true,
		"domain": "kittiwake.example"} {
		assert.Equal(t, want, got.Leases[0][key], key)
	}

	root := t.TempDir()
	file := filepath.Join(root, "var/lib/dhcp/dhclient.eth0.leases")
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, os.WriteFile(file, []byte("lease {\n interface \"eth0\";\n fixed-address 172.27.40.23;\n option subnet-mask "+
		"255.255.255.0;\n option dhcp-lease-time 3600;\n expire 1 2026/11/23 09:12:00;\n}\n"), 0o644))
	for at, want := range map[string]string{"2026-11-23T08:30:00Z": "bound", "2026-11-23T08:50:00Z": "renewing",
		"2026-11-23T09:10:00Z": "rebinding", "2026-11-23T09:12:00Z": "expired"} {
		out, _, status := run(t, "lease", "--root", root, "--at", at, "--format", "json")
		assert.Contains(t, out, `"state": "`+want+`"`, at)
		assert.Equal(t, map[bool]int{true: 1}[want == "expired"], status)
	}
	require.NoError(t, os.Remove(file)) // a link out of the tree leads nowhere: what lies there is another machine's
	require.NoError(t, os.Symlink("/etc/hostname", file))
	out, _, status = run(t, "lease", "--root", root)
	assert.Contains(t, out, "path escapes from parent")
	assert.Contains(t, out, "No lease could be read here")
	assert.Equal(t, 1, status)
	out, _, status = run(t, "lease", "--root", t.TempDir())
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "No DHCP client has written down a lease here")
}

func TestBadInputOfLeasesAndCaptures(t *testing.T) {
	empty := filepath.Join(t.TempDir(), "empty")
	require.NoError(t, os.WriteFile(empty, nil, 0o644))
	for args, says := range map[string]string{
		"dhcp --read /nonexistent": "no such file", "dhcp --read .": "a directory", "dhcp --read main.go": "neither pcap nor pcapng",
		"dhcp --read " + empty:            "the file is empty",
		"dhcp --read x --client nonsense": "give a hardware address", "dhcp --read x --address 1.2.3": "give an IPv4 address",
		"dhcp --read x --xid 7": "give a transaction id", "dhcp --host pier": "give --read FILE",
		"dhcp --scenario healthy --wait 1h": "give 100ms to 1m", "lease --root /nonexistent": "not there",
		"lease --root main.go": "not a directory", "lease --at noon --root .": "give a time such as",
		"lease --at 2026-11-23T08:30:00Z":  "--at goes with --root",
		"lease --scenario healthy -i eth9": "this machine has lo, eth0",
	} {
		out, errs, status := run(t, strings.Fields(args)...)
		assert.Equal(t, 3, status, args)
		assert.Empty(t, out, args)
		assert.Equal(t, 1, strings.Count(errs, "\n"), errs)
		assert.Contains(t, errs, says)
	}
}
