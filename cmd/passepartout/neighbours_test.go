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

func decode(t *testing.T, out string) (got map[string]any) {
	require.NoError(t, json.Unmarshal([]byte(out), &got), out)
	return got
}

func TestNeighbours(t *testing.T) {
	out, _, status := run(t, "neighbours", "--scenario", "healthy", "--ask", "--for", "2s", "--format", "json")
	assert.Zero(t, status)
	var got struct {
		Schema, Interface string
		Neighbours        []struct {
			Address, State, Words string
			Hardware              string `json:"hardware_address"`
			Names                 []struct{ Name, Source string }
			Marks                 []string
		}
		Asked  struct{ Addresses, Answered int }
		Switch struct {
			Name string
			VLAN int
		}
	}
	require.NoError(t, json.Unmarshal([]byte(out), &got))
	assert.Equal(t, "passepartout.neighbours/1", got.Schema)
	assert.Equal(t, 253, got.Asked.Addresses)
	assert.Equal(t, 7, got.Asked.Answered)
	assert.Equal(t, "pier-switch-1", got.Switch.Name)
	names := map[string]string{}
	for _, n := range got.Neighbours {
		assert.NotEmpty(t, n.Words)
		assert.NotNil(t, n.Marks)
		if len(n.Names) > 0 {
			names[n.Address] = n.Names[0].Name + " " + n.Names[0].Source
		}
	}
	assert.Equal(t, "label-printer.local mDNS", names["172.27.40.50"])
	assert.Equal(t, "office-store.kittiwake.example reverse DNS", names["172.27.40.70"])

	out, _, _ = run(t, "neighbours", "--scenario", "gateway-impersonated", "--ask", "--for", "0s")
	assert.Contains(t, out, "gateway, several answer: also 02:00:")
	out, _, _ = run(t, "neighbours", "--scenario", "wrong-segment", "--for", "1s", "--ask", "--format", "csv")
	assert.Contains(t, out, "address,hardware_address,vendor,state,name,name_source,documented,marks\n10.66.0.1,")
}

func TestFree(t *testing.T) {
	for _, c := range []struct {
		args   string
		status int
		result string
		says   string
	}{
		{"healthy 172.27.40.50", 1, "taken", "172.27.40.50 is taken: 02:00:"},
		{"healthy 172.27.40.90", 0, "quiet", "Nobody answers for 172.27.40.90"},
		{"healthy 203.0.113.80", 2, "cannot-tell", "outside 172.27.40.0/24"},
		{"address-conflict", 1, "taken", "Somebody else uses this machine's address 172.27.40.23"},
	} {
		args := append([]string{"free", "--format", "json", "--scenario"}, strings.Fields(c.args)...)
		out, _, status := run(t, args...)
		got := decode(t, out)
		assert.Equal(t, c.status, status, c.args)
		assert.Equal(t, c.result, got["result"])
		assert.Contains(t, got["sentence"], c.says)
		assert.NotNil(t, got["limits"])
	}
	out, _, status := run(t, "free", "--scenario", "slow-port", "172.27.40.120")
	assert.Zero(t, status)
	assert.Contains(t, out, "The site sheet has it for: leases.")
}

func TestNames(t *testing.T) {
	out, _, status := run(t, "names", "--scenario", "name-answers-differ", "--format", "json", "--tcp", "bookings")
	assert.Equal(t, 1, status, "servers that disagree")
	got := decode(t, out)
	assert.Equal(t, "passepartout.names/1", got["schema"])
	assert.Equal(t, true, got["servers_disagree"])
	assert.Equal(t, []any{"bookings.kittiwake.example", "bookings"}, got["tried"])
	values := map[string]bool{}
	for _, a := range got["answers"].([]any) {
		x := a.(map[string]any)
		for _, r := range x["records"].([]any) {
			values[x["server"].(string)+" "+x["transport"].(string)+" "+r.(map[string]any)["value"].(string)] = true
		}
	}
	assert.Equal(t,
		map[string]bool{"172.27.40.2 udp 203.0.113.18": true, "172.27.40.2 tcp 203.0.113.18": true, "203.0.113.53 udp 203.0.113.80": true,
			"203.0.113.53 tcp 203.0.113.80": true}, values)
	for args, want := range map[string]struct {
		status int
		says   string
	}{
		"healthy bookings.kittiwake.example":             {0, "203.0.113.80"},
		"healthy nosuch.kittiwake.example":               {1, "no such name"},
		"healthy 172.27.40.1":                            {0, "pier-gw.kittiwake.example"},
		"hosts-file-override bookings.kittiwake.example": {0, "the hosts file has 203.0.113.18"},
		"healthy --server 172.27.40.60 bookings":         {1, "no name service there"},
	} {
		out, _, status := run(t, append([]string{"names", "--scenario"}, strings.Fields(args)...)...)
		assert.Equal(t, want.status, status, args)
		assert.Contains(t, out, want.says, args)
	}
}

func TestResolvers(t *testing.T) {
	out, _, status := run(t, "resolvers", "--scenario", "healthy", "--rounds", "10", "bookings.kittiwake.example", "--format", "json")
	assert.Zero(t, status)
	got := decode(t, out)
	assert.Equal(t, "172.27.40.2", got["best"], got["advice"])
	servers := got["servers"].([]any)
	require.Len(t, servers, 2)
	again := servers[1].(map[string]any)["again"].(map[string]any)
	assert.Equal(t, 9.0, again["answered"])
	assert.Greater(t, again["typical_ms"], 15.0)
	out, _, _ = run(t, "resolvers", "--scenario", "second-resolver-dead", "--rounds", "5", "bookings.kittiwake.example",
		"weather.kittiwake.example")
	assert.Contains(t, out, "Take 172.27.40.2: it answers 100 % of the look-ups")
}

func TestPort(t *testing.T) {
	out, _, status := run(t, "port", "--scenario", "slow-port", "--for", "300ms")
	assert.Zero(t, status)
	assert.Contains(t, out, "eth0, wired, 10 Mbit/s half duplex; documented: 1 Gbit/s full duplex")
	assert.Contains(t, out, "lost      nothing")
	out, _, _ = run(t, "port", "--scenario", "healthy", "--for", "200ms", "--format", "json")
	assert.Equal(t, "passepartout.port/1", decode(t, out)["schema"])
}

// A sheet that is learnt from a healthy machine is read again, and calls the same machine healthy.
func TestSiteSheet(t *testing.T) {
	sheet := filepath.Join(t.TempDir(), "pier.yaml")
	_, errs, status := run(t, "site", "learn", "--scenario", "healthy", "-o", sheet)
	require.Zero(t, status, errs)
	out, _, status := run(t, "site", "check", sheet)
	assert.Zero(t, status)
	assert.Contains(t, out, "172.27.40.0/24")
	out, _, status = run(t, "check", "--scenario", "healthy", "--site", sheet, "--format", "json")
	assert.Zero(t, status)
	assert.Empty(t, decode(t, out)["verdict"].(map[string]any)["also"])
	out, _, status = run(t, "check", "--scenario", "wrong-segment-works", "--site", sheet)
	assert.Zero(t, status)
	assert.Contains(t, out, "belongs on")
	_, errs, status = run(t, "site", "learn", "--scenario", "healthy", "-o", sheet)
	assert.Equal(t, 3, status)
	assert.Contains(t, errs, "--force")
	_, errs, status = run(t, "site", "learn", "--scenario", "gateway-silent", "--deadline", "6s")
	assert.Equal(t, 3, status, "what is wrong must not be documented as right")
	assert.Contains(t, errs, "not healthy")
}

func TestBadInputOfTheAddressPlane(t *testing.T) {
	broken := filepath.Join(t.TempDir(), "broken.yaml")
	require.NoError(t, os.WriteFile(broken, []byte("networks:\n  - prefixes: [172.27.40.0/33]\n"), 0o644))
	for args, says := range map[string]string{
		"check --scenario healthy --site " + broken:    "broken.yaml: line 2: prefix \"172.27.40.0/33\": longer than 32",
		"check --scenario healthy --site /nonexistent": "no such file", "site check " + broken: "line 2",
		"demo --site " + broken: "line 2", "free --scenario healthy 172.27.40": "is no address",
		"names --scenario healthy a..b": "two dots", "names --scenario healthy --type ZZ a": "give some of A, AAAA",
		"names --scenario healthy --server x a":                             "is no address",
		"names --scenario healthy " + strings.Repeat("a.", 150) + "example": "at most 253",
		"resolvers --scenario healthy --rounds 1 a":                         "give 2 to 1000",
		"neighbours --scenario healthy --rate 9999":                         "give 1 to 5000",
		"neighbours --scenario healthy --for 1h":                            "give 0s to 10m",
		"port --scenario healthy --for 1ms":                                 "give 100ms to 1h",
		"neighbours --scenario healthy -i eth9":                             "this machine has lo, eth0",
		"neighbours --scenario proxy-arp --ask":                             "at most 4096",
	} {
		out, errs, status := run(t, strings.Fields(args)...)
		assert.Equal(t, 3, status, args)
		assert.Empty(t, out, args)
		assert.Equal(t, 1, strings.Count(errs, "\n"), errs)
		assert.Contains(t, errs, says)
	}
	_, errs, _ := run(t, "names", "--scenario", "healthy", "a\x1b[2Jb")
	assert.NotContains(t, errs, "\x1b")
}

func TestScreenNeighboursNamesCounters(t *testing.T) {
	t.Parallel()
	x := open(t, 142, 44, nil, "demo", "slow-port")
	x.see("What should be reachable?")
	x.press("Enter")
	x.see("No fault stands in the way.")
	x.press("4")
	x.see("Neighbours on eth0", ".0 ├", "The cable leads to pier-switch-1", "documented")
	x.press("a")
	x.see("253 of 253 addresses asked", "7 answer", "label-printer", "leases")
	x.press("f")
	x.see("is this address free?")
	x.press("C-u")
	x.tmux("send-keys", "-l", "172.27.40.5x")
	x.press("Enter")
	x.see("is no address")
	x.press("BSpace", "0", "Enter")
	x.see("172.27.40.50 is taken: 02:00:", "The site sheet has it for: label-printer.")
	x.press("m")
	x.see("Nobody else uses 172.27.40.23")
	x.press("5")
	x.see("Who is asked", "pier-core 172.27.40.2", "bookings.kittiwake.example", "203.0.113.80", "A TCP")
	x.press("n")
	x.see("look up")
	x.press("C-u")
	x.tmux("send-keys", "-l", "tides")
	x.press("Enter")
	x.see("asked as tides.kittiwake.example", "203.0.113.70", "2001:db8:113::70")
	x.press("c")
	x.see("Compared", "at first", "No difference that matters between")
	x.press("8")
	x.see("documented: 1 Gbit/s full duplex", "Traffic", "Lost at the interface", "While the tests ran")
	x.press("?")
	x.see("count from zero")
	x.press("Escape")
	x.see("Lost at the interface")
	x.press("z")
	x.see("counted from zero since")
	file := filepath.Join(t.TempDir(), "port.json")
	x.press("e")
	x.see("write to (.json .txt)")
	x.press("C-u")
	x.tmux("send-keys", "-l", file)
	x.press("Enter")
	x.see("written to")
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(raw), "passepartout.port/1")
	x.tmux("resize-window", "-x", "80", "-y", "24")
	x.press("4")
	x.see("Neighbours on eth0", "pier-gw")
	x.press("5")
	x.see("Who is asked", "tides.kittiwake.example")
	x.press("q")
	x.ended()
}
