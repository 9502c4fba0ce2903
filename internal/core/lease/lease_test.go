package lease_test

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/lease"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// hour is a lease of an hour, obtained some time before noon.
func hour(client, iface, address string, ago time.Duration) lease.Lease {
	l := lease.Lease{Client: client, Interface: iface,
		Terms: dhcp.Terms{Address: netip.MustParseAddr(address), PrefixLength: 24, Lease: time.Hour}, Obtained: noon.Add(-ago),
		Source: client}
	l.Complete()
	return l
}

func held(address string, left time.Duration) lease.Held {
	h := lease.Held{Interface: "eth0", Index: 2, Address: netip.MustParsePrefix(address)}
	if left > 0 {
		h.Expires = noon.Add(left)
	}
	return h
}

func TestStates(t *testing.T) {
	l := hour(lease.Dhclient, "eth0", "172.27.40.23", 0)
	for at, want := range map[time.Duration]lease.State{
		-time.Hour: lease.Bound, 0: lease.Bound, 30*time.Minute - 1: lease.Bound, 30 * time.Minute: lease.Renewing,
		3150*time.Second - 1: lease.Renewing, 3150 * time.Second: lease.Rebinding, time.Hour - 1: lease.Rebinding, time.Hour: lease.Expired,
	} {
		assert.Equal(t, want, l.At(noon.Add(at)), "%v", at)
	}
}

func TestInForce(t *testing.T) {
	tests := map[string]struct {
		leases  []lease.Lease
		held    []lease.Held
		want    string // client and address of the one in force
		remarks []string
	}{
		"one": {[]lease.Lease{hour("dhclient", "eth0", "172.27.40.23", time.Minute)},
			[]lease.Held{held("172.27.40.23/24", 59*time.Minute)}, "dhclient 172.27.40.23", nil},
		"a leftover that looks unexpired": {
			[]lease.Lease{hour("dhcpcd", "eth0", "10.1.1.1", time.Minute), hour("dhclient", "eth0", "172.27.40.23", 10*time.Minute)},
			[]lease.Held{held("172.27.40.23/24", 50*time.Minute)}, "dhclient 172.27.40.23", []string{"dhcpcd has a lease for eth0 too"}},
		"two clients with the same": {
			[]lease.Lease{hour("dhcpcd", "eth0", "172.27.40.23", 40*time.Minute), hour("dhclient", "eth0", "172.27.40.23", 10*time.Minute)},
			[]lease.Held{held("172.27.40.23/24", 50*time.Minute)}, "dhclient 172.27.40.23",
			[]string{"several clients have a lease of this address: dhcpcd, dhclient"}},
		"the same, and the address static": {
			[]lease.Lease{hour("dhcpcd", "eth0", "172.27.40.23", 40*time.Minute), hour("dhclient", "eth0", "172.27.40.23", 10*time.Minute)},
			[]lease.Held{held("172.27.40.23/24", 0)}, "dhclient 172.27.40.23", nil},
		"renewed since it was written": {[]lease.Lease{hour("networkd", "eth0", "172.27.40.23", 40*time.Minute)},
			[]lease.Held{held("172.27.40.23/24", 59*time.Minute)}, "networkd 172.27.40.23", []string{"renewed since the file was written"}},
		"another mask": {[]lease.Lease{hour("networkd", "eth0", "172.27.40.23", time.Minute)},
			[]lease.Held{held("172.27.40.23/16", 59*time.Minute)}, "networkd 172.27.40.23", []string{"the kernel has /16, the lease /24"}},
		"none, by hand": {[]lease.Lease{hour("dhclient", "eth0", "10.1.1.1", time.Minute)},
			[]lease.Held{held("172.27.40.23/24", 0)}, "", nil},
		"the kernel alone": {nil, []lease.Held{held("172.27.40.23/24", 5*time.Minute)}, " 172.27.40.23",
			[]string{"no client's file speaks of it"}},
		"a clock before the lease's start": {[]lease.Lease{hour("dhclient", "eth0", "172.27.40.23", -24*time.Hour)},
			[]lease.Held{held("172.27.40.23/24", 0)}, "dhclient 172.27.40.23", []string{"the clock stands before the lease's start"}},
	}
	for name, test := range tests {
		t.Run(name, func(t *testing.T) {
			got, ok := lease.For(lease.Settle(test.leases, test.held, noon), "eth0")
			if test.want == "" {
				assert.False(t, ok)
				return
			}
			require.True(t, ok)
			assert.Equal(t, test.want, got.Client+" "+got.Terms.Address.String())
			for _, part := range test.remarks {
				assert.Contains(t, strings.Join(got.Remarks, "\n"), part)
			}
		})
	}
	got, _ := lease.For(
		lease.Settle([]lease.Lease{hour("networkd", "eth0", "172.27.40.23", 40*time.Minute)},
			[]lease.Held{held("172.27.40.23/24", 59*time.Minute)}, noon), "eth0")
	assert.Equal(t, noon.Add(-time.Minute), got.Obtained)
	assert.Equal(t, lease.Bound, got.At(noon))
}

func TestAlone(t *testing.T) {
	numbered := hour("networkd", "", "172.27.40.23", time.Minute)
	numbered.Index = 2
	all := lease.Alone(
		[]lease.Lease{hour("dhcpcd", "eth0", "172.27.40.23", 2*time.Hour), hour("dhclient", "eth0", "172.27.40.24", 20*time.Minute),
			hour("dhclient", "eth0", "172.27.40.25", 10*time.Minute), numbered}, noon)
	var force []string
	for _, l := range all {
		if l.InForce {
			force = append(force, l.Terms.Address.String())
		}
	}
	assert.ElementsMatch(t, []string{"172.27.40.25", "172.27.40.23"}, force, "the latest of each interface that has not run out")
}
