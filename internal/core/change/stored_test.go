package change_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"passepartout/internal/core/change"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/lease"
)

const profile = "[connection]\nid=pier\nuuid=11111111-2222-3333-4444-555555555555\n\n[ipv4]\nmethod=auto\n" +
	"route-metric=50\nmay-fail=false\n\n[wifi-security]\npsk=not to be touched\n"

const interfaces = "# The counter.\nauto lo eth0\niface lo inet loopback\n\niface eth0 inet static\n\taddress 172.27.40.9\n" +
	"\tnetmask 255.255.255.0\n\tup true # a hook\n\tmtu 1400\n\niface eth0 inet6 auto\nsource interfaces.d/*\n"

// What a manager is to keep replaces the part that says how the interface comes by its address; all else stays as it was.
func TestWhatManagersKeep(t *testing.T) {
	for _, c := range []struct {
		name, manager, text string
		set                 change.Static
		want                string
		says                string
	}{
		{name: "a connection profile", manager: lease.NetworkManager, text: profile,
			want: "[connection]\nid=pier\nuuid=11111111-2222-3333-4444-555555555555\n\n[ipv4]\naddress1=172.27.40.77/24,172.27.40.1\n" +
				"dns=172.27.40.2;203.0.113.53;\ndns-search=kittiwake.example;\nmethod=manual\nroute-metric=50\nmay-fail=false\n\n" +
				"[wifi-security]\npsk=not to be touched\n"},
		{name: "a stanza", manager: endpoint.Ifupdown, text: interfaces,
			want: "# The counter.\nauto lo eth0\niface lo inet loopback\n\niface eth0 inet static\n\taddress 172.27.40.77/24\n" +
				"\tgateway 172.27.40.1\n\tdns-nameservers 172.27.40.2 203.0.113.53\n\tdns-search kittiwake.example\n\tup true # a hook\n" +
				"\tmtu 1400\n\niface eth0 inet6 auto\nsource interfaces.d/*\n"},
		{name: "a file beside the one that matched", manager: lease.Networkd,
			want: "# Written by passepartout; passepartout undo takes it away.\n[Network]\nDHCP=no\nAddress=\n" +
				"Address=172.27.40.77/24\nGateway=\nGateway=172.27.40.1\n" +
				"DNS=\nDNS=172.27.40.2\nDNS=203.0.113.53\nDomains=kittiwake.example\n"},
		{name: "with other name servers", manager: lease.Networkd, set: change.Static{Resolvers: []netip.Addr{addr("172.27.40.5")}},
			want: "# Written by passepartout; passepartout undo takes it away.\n[Network]\nDHCP=no\nAddress=\n" +
				"Address=172.27.40.77/24\nGateway=\nGateway=172.27.40.1\nDNS=\nDNS=172.27.40.5\nDomains=kittiwake.example\n"},
		{name: "nobody keeps anything", says: "it can be set now, and not for good"},
		{name: "by IPv6", manager: lease.Networkd, set: change.Static{Address: prefix("2001:db8:40::77/64")}, says: "IPv6"},
	} {
		t.Run(c.name, func(t *testing.T) {
			from := counter()
			if from0, to0, ok := change.PartOf(c.manager, "eth0", c.text); ok {
				from.Stored = []endpoint.Stored{{Interface: "eth0", Manager: c.manager, Path: "/etc/x", Part: c.text[from0:to0]}}
			}
			set := c.set
			set.Interface, set.ForGood = "eth0", true
			if !set.Address.IsValid() {
				set.Address = prefix("172.27.40.77/24")
			}
			p, err := change.Work(change.Change{Set: &set}, from, change.Known{})
			if c.says != "" {
				require.ErrorContains(t, err, c.says)
				return
			}
			require.NoError(t, err)
			require.Equal(t, change.Store, p.Steps[0].Do, "who manages it comes first")
			assert.Equal(t, c.want, change.WithPart(c.manager, "eth0", c.text, p.Steps[0].Text))
			back, others := change.TakeBack(p.To, p.From, p.To)
			assert.Empty(t, others)
			assert.True(t, from.Equal(&back))
			assert.Equal(t, c.text, change.WithPart(c.manager, "eth0", change.WithPart(c.manager, "eth0", c.text, p.Steps[0].Text),
				back.Stored[0].Part), "byte for byte")
		})
	}
}

// Whatever else stands in a file: what is put in is found again, and with what was there before it the file is as it was.
func TestAPartIsReplacedAlone(t *testing.T) {
	lines := rapid.SampledFrom([]string{"", "# a comment", "[ipv4]", "[ipv6]", "method=auto", "iface eth0 inet dhcp",
		"iface eth0 inet6 auto",
		"iface eth1 inet static", "\taddress 192.0.2.7/24", "auto eth0", "allow-hotplug eth0", "mapping eth0", " up true", "[connection]"})
	rapid.Check(t, func(t *rapid.T) {
		text := strings.Join(rapid.SliceOfN(lines, 0, 14).Draw(t, "lines"), "\n") + rapid.SampledFrom([]string{"", "\n"}).Draw(t, "end")
		manager := rapid.SampledFrom([]string{lease.NetworkManager, endpoint.Ifupdown, lease.Networkd}).Draw(t, "manager")
		from, to, ok := change.PartOf(manager, "eth0", text)
		if !ok {
			require.Equal(t, text, change.WithPart(manager, "eth0", text, "X\n"))
			return
		}
		part := map[string]string{lease.NetworkManager: "[ipv4]\nmethod=manual\n",
			endpoint.Ifupdown: "iface eth0 inet static\n\taddress 192.0.2.9/24\n", lease.Networkd: "[Network]\n"}[manager]
		set := change.WithPart(manager, "eth0", text, part)
		was := text[from:to]
		f, u, ok := change.PartOf(manager, "eth0", set)
		require.True(t, ok)
		require.Equal(t, part, set[f:u])
		require.Equal(t, text, change.WithPart(manager, "eth0", set, was))
	})
}
