package tui

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/scenario"
)

const captured = "../capture/testdata/relayed.pcap"

func TestLeaseView(t *testing.T) {
	t.Parallel()
	m := alive(t, "dhcp-rogue", 140, 44)
	press(m, "3")
	shows(t, m, "172.27.40.210/24", "━━ bound", "by dhclient, from", "obtained", "now", "T1", "T2", "ends",
		"The client renews by itself at",
		"offered by", "172.27.40.66", "╍╍ differs", "disagree: router, name server", "heard since", "own left out")
	assert.NotContains(t, text(m), "informed by")
	press(m, "u") // and those of this program too
	shows(t, m, "informed by", "this program", "server 172.27.40.66", "inform 172.27.40.210")
	press(m, "d")
	shows(t, m, "asking DHCP servers", "of 4 s; no lease is taken")
	shows(t, m, "2 offers within", "no lease was taken")

	press(m, "/")
	type_(m, "relay pier")
	press(m, "enter")
	shows(t, m, `"pier" is no address`)
	press(m, "esc", "/")
	type_(m, "0x1")
	press(m, "enter")
	shows(t, m, "only 0x1: 0 of", "No exchange matches.")
	press(m, "esc")
	shows(t, m, "informed by")
}

func TestCaptureInTheLeaseView(t *testing.T) {
	t.Parallel()
	m := alive(t, "healthy", 140, 44)
	press(m, "3", "o")
	type_(m, "/nonexistent.pcap")
	press(m, "enter")
	shows(t, m, "no such file")
	press(m, "esc", "o")
	type_(m, "lease_test.go")
	press(m, "enter")
	shows(t, m, "neither pcap nor pcapng")
	press(m, "esc", "o")
	type_(m, captured)
	press(m, "enter")
	shows(t, m, "60 frames read", "in relayed.pcap: 2 discover, 2 offer, 5 request, 6 ack, 3 release", "ticket-03",
		"bound: 172.27.40.100/24 by 172.27.50.2", "client", "relay 172.27.40.1", "server 172.27.50.2", "seen again")
	press(m, "down", "down")
	shows(t, m, "▸ ", "release 172.27.40.100")
	file := filepath.Join(t.TempDir(), "lease")
	for ending, want := range map[string]string{".svg": "released: 172.27.40.100", ".json": `"passepartout.lease/1"`,
		".jsonl": `"outcome":"renewed"`, ".txt": "given by", ".pdf": "%PDF"} {
		press(m, "e")
		m.entry.input.SetValue(file + ending)
		press(m, "enter")
		shows(t, m, "written to")
		raw, err := os.ReadFile(file + ending)
		require.NoError(t, err)
		assert.Contains(t, string(raw), want)
	}
	press(m, "esc")
	shows(t, m, "heard since")
}

// On a small screen comparison and exchanges take turns.
func TestLeaseViewOnASmallScreen(t *testing.T) {
	t.Parallel()
	m := alive(t, "healthy", 80, 24)
	press(m, "3")
	shows(t, m, "━━ bound", "Settings", "held here", "tab shows the exchanges")
	assert.NotContains(t, text(m), "heard since")
	press(m, "tab", "u")
	shows(t, m, "heard since", "this program", "inform")
	whole(t, m, "lease on a small screen")
}

func TestLeaseViewWithoutALease(t *testing.T) {
	s, err := scenario.Load("healthy-fixed-address")
	require.NoError(t, err)
	site, err := simulated.Build(s, simulated.Options{Privilege: simulated.Unprivileged})
	require.NoError(t, err)
	m := newModel(t.Context(), Config{Ground: Ground{Machine: site.Machine(), Close: site.Close}, Deadline: 10 * time.Second})
	m.Init()
	m.width, m.height = 120, 40
	t.Cleanup(m.leave)
	carryOut(m, m.ask())
	press(m, "3")
	testsEnd(t, m)
	shows(t, m, "172.27.40.24/24, set by hand", "no lease is in force", "cannot be heard: it needs permission for raw frames",
		"could not be asked")
	press(m, "d")
	shows(t, m, "cannot be asked here")
}

func TestLeaseStatesInWords(t *testing.T) {
	for ago, want := range map[time.Duration]string{
		8 * time.Minute: "The client renews by itself", 40 * time.Minute: "T1 is past",
		55 * time.Minute: "T2 is past and nobody has renewed it", 3 * time.Hour: "It ran out 2 h",
	} {
		m := showing(t, 120, 40, func(s *evidence.Set) {
			Leased(s, ago, Offer(24).Terms)
			now, l := time.Now(), &s.Endpoint.Leases[0]
			shift := now.Sub(s.Endpoint.At)
			for _, at := range []*time.Time{&l.Obtained, &l.T1, &l.T2, &l.Expires} {
				*at = at.Add(shift)
			}
		})
		press(m, "3")
		assert.Contains(t, text(m), want)
		whole(t, m, want)
		if ago > time.Hour {
			assert.Contains(t, text(m), "━╳ expired")
			assert.Contains(t, strings.Join(strings.Fields(text(m)), " "), "╳")
		}
	}
}
