package leasefile_test

import (
	"io/fs"
	"net"
	"net/netip"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/lease"
	"passepartout/internal/leasefile"
)

func utc(s string) time.Time {
	t, err := time.Parse("2006-01-02 15:04:05", "2026-11-23 "+s)
	if err != nil {
		panic(err)
	}
	return t
}

func addr(s string) netip.Addr { return netip.MustParseAddr(s) }

// ack is an acknowledgement as dhcpcd keeps it.
func ack(t testing.TB) []byte {
	t.Helper()
	m, err := dhcpv4.New(dhcpv4.WithMessageType(dhcpv4.MessageTypeAck), dhcpv4.WithYourIP(net.IP{172, 27, 40, 23}),
		dhcpv4.WithHwAddr(net.HardwareAddr{2, 0, 0, 0, 0x10, 0x17}),
		dhcpv4.WithOption(dhcpv4.OptServerIdentifier(net.IP{172, 27, 40, 2})),
		dhcpv4.WithOption(dhcpv4.OptSubnetMask(net.CIDRMask(24, 32))), dhcpv4.WithOption(dhcpv4.OptIPAddressLeaseTime(time.Hour)),
		dhcpv4.WithOption(dhcpv4.OptRouter(net.IP{172, 27, 40, 1})),
		dhcpv4.WithGeneric(dhcpv4.GenericOptionCode(119), []byte("\x09kittiwake\x07example\x00\x04pier\xc0\x00")))
	require.NoError(t, err)
	m.OpCode = dhcpv4.OpcodeBootReply
	return m.ToBytes()
}

const block = `lease {
  interface "eth0";
  fixed-address 172.27.40.23;
  option subnet-mask 255.255.255.0;
  option routers 172.27.40.1;
  option dhcp-lease-time 3600;
  option dhcp-message-type 5;
  option domain-name-servers 172.27.40.2,203.0.113.53;
  option dhcp-server-identifier 172.27.40.2;
  option domain-name "kittiwake.example";
  option domain-search "kittiwake.example.", "pier.kittiwake.example.";
  renew 1 2026/11/23 08:40:11;
  rebind 1 2026/11/23 09:04:30;
  expire 1 2026/11/23 09:12:00;
}
`

const device = "[device]\nconnection-uuid=11111111-2222-3333-4444-555555555555\n[dhcp4]\ndhcp4.dhcp_lease_time=3600\ndhcp4.dhcp_server_identifier=172.27.40.2\ndhcp4.domain_name=kittiwake.example\n" +
	"dhcp4.domain_name_servers=172.27.40.2 " +
	"203.0.113.53\ndhcp4.expiry=1795425120\ndhcp4.ip_address=172.27.40.23\ndhcp4.routers=172.27.40.1\ndhcp4.subnet_mask=255.255.255.0\n"

func text(s string, at string) *fstest.MapFile {
	return &fstest.MapFile{Data: []byte(s), ModTime: utc(at)}
}

func TestClients(t *testing.T) {
	now := utc("08:30:00")
	tests := map[string]struct {
		tree     fstest.MapFS
		client   string
		iface    string
		index    int
		obtained string
		t1, t2   string
		expires  string
		state    lease.State
		remarks  []string
		search   []string
	}{
		"dhclient": {fstest.MapFS{"var/lib/dhcp/dhclient.eth0.leases": text(block, "08:12:01")}, lease.Dhclient, "eth0", 0, "08:12:00",
			"08:42:00", "09:04:30", "09:12:00", lease.Bound,
			[]string{"obtained is computed", "T1 is computed", "the client means to renew at 2026-11-23T08:40:11Z"},
			[]string{"kittiwake.example", "pier.kittiwake.example"}},
		"dhclient with epochs": {
			fstest.MapFS{
				"var/lib/dhcp/dhclient.leases": text(
					strings.NewReplacer("1 2026/11/23 09:12:00", "epoch 1795425120", "1 2026/11/23 08:40:11", "epoch 1795423211",
						"1 2026/11/23 09:04:30", "epoch 1795424670").Replace(block), "08:12:01")},
			lease.Dhclient, "eth0", 0, "08:12:00", "08:42:00", "09:04:30", "09:12:00", lease.Bound, nil, nil},
		"dhclient under NetworkManager": {
			fstest.MapFS{"var/lib/NetworkManager/dhclient-11111111-2222-3333-4444-555555555555-eth0.lease": text(block, "08:12:01")},
			lease.Dhclient, "eth0", 0, "08:12:00", "08:42:00", "09:04:30", "09:12:00", lease.Bound, nil, nil},
		"dhclient, the last block counts though an older one ends later": {
			fstest.MapFS{
				"var/lib/dhcp/dhclient.eth0.leases": text(
					strings.ReplaceAll(strings.ReplaceAll(block, "172.27.40.", "10.9.8."), "2026/11/23 09:12", "2027/11/23 09:12")+block,
					"08:12:01")},
			lease.Dhclient, "eth0", 0, "08:12:00", "08:42:00", "09:04:30", "09:12:00", lease.Bound,
			[]string{"the last of 2 leases in the file"}, nil},
		"dhcpcd": {fstest.MapFS{"var/lib/dhcpcd/eth0.lease": &fstest.MapFile{Data: ack(t), ModTime: utc("08:12:00")}}, lease.Dhcpcd, "eth0",
			0, "08:12:00", "08:42:00", "09:04:30", "09:12:00", lease.Bound,
			[]string{"the file's modification time", "T1 is computed", "T2 is computed"},
			[]string{"kittiwake.example", "pier.kittiwake.example"}},
		"dhcpcd over radio": {
			fstest.MapFS{"var/lib/dhcpcd/wlan0-north-pier.lease": &fstest.MapFile{Data: ack(t), ModTime: utc("08:12:00")}}, lease.Dhcpcd,
			"wlan0", 0, "08:12:00", "08:42:00", "09:04:30", "09:12:00", lease.Bound, nil, nil},
		"networkd": {
			fstest.MapFS{
				"run/systemd/netif/leases/2": text(
					"# private\nADDRESS=172.27.40.23\nNETMASK=255.255.255.0\nROUTER=172.27.40.1\nSERVER_ADDRESS=172.27.40.2\nT1=1000\nT2=3000\nLIFETIME=3600\nDNS=172.27.40.2 203.0.113.53\nDOMAINNAME=kittiwake.example\n", "08:12:00")},
			lease.Networkd, "", 2, "08:12:00", "08:28:40", "09:02:00", "09:12:00", lease.Renewing, []string{"the file's modification time"},
			nil},
		"NetworkManager": {
			fstest.MapFS{"run/NetworkManager/devices/3": text(device, "08:12:00"),
				"var/lib/NetworkManager/internal-11111111-2222-3333-4444-555555555555-eth0.lease": text("ADDRESS=172.27.40.23\n",
					"08:12:00")},
			lease.NetworkManager, "eth0", 3, "08:12:00", "08:42:00", "09:04:30", "09:12:00", lease.Bound, nil, nil},
		"NetworkManager, keys without the prefix": {
			fstest.MapFS{"run/NetworkManager/devices/3": text(strings.ReplaceAll(device, "dhcp4.", ""), "08:12:00")}, lease.NetworkManager,
			"", 3, "08:12:00", "08:42:00", "09:04:30", "09:12:00", lease.Bound, nil, nil},
	}
	for name, test := range tests {
		t.Run(name, func(t *testing.T) {
			found, flaws := leasefile.Read(test.tree)
			assert.Empty(t, flaws)
			got := lease.Alone(found, now)
			require.Len(t, got, 1)
			l := got[0]
			assert.Equal(t, test.client, l.Client)
			assert.Equal(t, test.iface, l.Interface)
			assert.Equal(t, test.index, l.Index)
			assert.Equal(t, "172.27.40.23/24", l.Terms.Prefix().String())
			assert.Equal(t, []netip.Addr{addr("172.27.40.1")}, l.Terms.Routers)
			assert.Equal(t, addr("172.27.40.2"), l.Terms.Server)
			assert.Equal(t, time.Hour, l.Terms.Lease)
			assert.Equal(t, utc(test.obtained), l.Obtained)
			assert.Equal(t, utc(test.t1), l.T1)
			assert.Equal(t, utc(test.t2), l.T2)
			assert.Equal(t, utc(test.expires), l.Expires)
			assert.Equal(t, test.state, l.At(now))
			assert.True(t, l.InForce)
			if test.search != nil {
				assert.Equal(t, test.search, l.Terms.Search)
			}
			for _, part := range test.remarks {
				assert.Contains(t, strings.Join(l.Remarks, "\n"), part)
			}
		})
	}
}

func TestParticulars(t *testing.T) {
	read := func(path, content string) (lease.Lease, bool) {
		found, _ := leasefile.Read(fstest.MapFS{path: text(content, "08:12:00")})
		if len(found) != 1 {
			return lease.Lease{}, false
		}
		return found[0], true
	}
	const leases = "var/lib/dhcp/dhclient.eth0.leases"
	l, ok := read(leases, strings.NewReplacer("08:40:11", "08:20:00", "09:04:30", "08:20:00", "09:12:00", "08:20:00").Replace(block))
	require.True(t, ok)
	assert.Equal(t, lease.Released, l.At(utc("08:30:00")), "all three times alike: given back")
	assert.True(t, l.Expires.IsZero())

	l, _ = read(leases, strings.NewReplacer("lease-time 3600", "lease-time 4294967295", "2026/11/23", "2038/01/19").Replace(block))
	assert.True(t, l.Endless)
	assert.True(t, l.Expires.IsZero() && l.T1.IsZero())
	assert.Equal(t, lease.Bound, l.At(utc("08:30:00")))

	l, _ = read(leases, strings.Replace(block, "expire 1 2026/11/23 09:12:00", "expire never", 1))
	assert.True(t, l.Endless)

	l, _ = read(leases,
		strings.Replace(block, `option domain-name "kittiwake.example"`,
			`option rfc3442-classless-static-routes 24,172,27,50,172,27,40,9,0,172,27,40,7; option host-name "a;b}\"\033[31m"; option unknown-114 68:74:74:70`, 1))
	assert.Equal(t, []netip.Addr{addr("172.27.40.7")}, l.Terms.Routers, "a default route in option 121 beats option 3")
	assert.Equal(t, "http", l.Terms.CaptivePortal)
	for _, o := range l.Options {
		if o.Code == 12 {
			assert.Equal(t, `a;b}"\x1b[31m`, o.Value)
		}
	}
	l, _ = read("run/systemd/netif/leases/2",
		"ADDRESS=172.27.40.23\nROUTES=172.27.50.0/24,172.27.40.9 0.0.0.0/0,172.27.40.7\nROUTER=172.27.40.1\nLIFETIME=infinity\n")
	assert.Equal(t, []netip.Addr{addr("172.27.40.7")}, l.Terms.Routers, "ROUTER stays listed and does not count")
	assert.True(t, l.Endless)

	l, _ = read("var/lib/NetworkManager/internal-11111111-2222-3333-4444-555555555555-eth0.lease", "# private\nADDRESS=172.27.40.23\n")
	assert.Equal(t, "eth0", l.Interface)
	assert.Equal(t, lease.Unknown, l.At(utc("08:30:00")), "no times: none is guessed")
	assert.Zero(t, l.Terms.PrefixLength)
}

func TestBadFiles(t *testing.T) {
	cut := ack(t)
	ends := fstest.MapFS{
		"var/lib/dhcp/dhclient.half.leases":  text(block+block[:200], "08:12:00"),
		"var/lib/dhcp/dhclient.noise.leases": text("\x00\x01\x02\x03", "08:12:00"),
		"var/lib/dhcp/dhclient.words.leases": text("these are no leases;", "08:12:00"),
		"var/lib/dhcp/dhclient.empty.leases": text("", "08:12:00"),
		"var/lib/dhcp/dhclient.six.leases": text("default-duid \"x\";\nlease6 { interface \"eth0\"; ia-na 1 { starts 1; } }\n",
			"08:12:00"),
		"var/lib/dhcp/dhclient.large.leases": &fstest.MapFile{Data: make([]byte, 5<<20)},
		"var/lib/dhcp/dhclient.dir.leases/x": text("", "08:12:00"),
		"var/lib/dhcpcd/eth1.lease":          text(strings.Repeat("x", 300), "08:12:00"),
		"var/lib/dhcpcd/eth2.lease":          text("short", "08:12:00"),
		"var/lib/dhcpcd/eth3.lease":          &fstest.MapFile{Data: cut[:260]},
		"run/systemd/netif/leases/9":         text("ADDR", "08:12:00"),
		"run/systemd/netif/leases/x":         text("ADDRESS=172.27.40.23\n", "08:12:00"),
		"run/NetworkManager/devices/4":       text("[device]\nmanaged=true\n", "08:12:00"),
	}
	found, flaws := leasefile.Read(ends)
	assert.Len(t, found, 1, "the whole block before the half one")
	got := map[string]string{}
	for _, f := range flaws {
		got[f.Source] = f.Why
	}
	assert.Equal(t, map[string]string{
		"var/lib/dhcp/dhclient.half.leases":  "half written: its last lease does not end, and was not read",
		"var/lib/dhcp/dhclient.noise.leases": "no lease: binary noise where text is expected",
		"var/lib/dhcp/dhclient.words.leases": "no lease: nothing in it begins with the word lease",
		"var/lib/dhcp/dhclient.large.leases": "larger than 4 MiB",
		"var/lib/dhcp/dhclient.dir.leases":   "not a regular file",
		"var/lib/dhcpcd/eth1.lease":          "no DHCP message: the magic cookie is missing",
		"var/lib/dhcpcd/eth2.lease":          "no DHCP message: shorter than the header of one",
		"var/lib/dhcpcd/eth3.lease":          "half written: its options run past its end",
		"run/systemd/netif/leases/9":         "half written: no address in it",
		"run/systemd/netif/leases/x":         "no lease: its name is not an interface's number",
	}, got)
	found, flaws = leasefile.Read(fstest.MapFS{})
	assert.Empty(t, found)
	assert.Empty(t, flaws)
}

type forbidden struct{ fstest.MapFS }

func (f forbidden) Open(name string) (fs.File, error) {
	if strings.HasSuffix(name, ".leases") || name == "var/lib/NetworkManager" {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrPermission}
	}
	return f.MapFS.Open(name)
}

func TestForbidden(t *testing.T) {
	_, flaws := leasefile.Read(forbidden{fstest.MapFS{"var/lib/dhcp/dhclient.leases": text(block, "08:12:00")}})
	assert.Equal(t, []lease.Flaw{{Source: "var/lib/dhcp/dhclient.leases", Why: "this user may not read it"},
		{Source: "var/lib/NetworkManager", Why: "this user may not look into it"}}, flaws)
}

func FuzzFiles(f *testing.F) {
	f.Add([]byte(block))
	f.Add([]byte(device))
	f.Add(ack(f))
	f.Add([]byte("ADDRESS=1.2.3.4\nROUTES=0.0.0.0/0,1.2.3.4\n"))
	f.Fuzz(func(t *testing.T, content []byte) {
		for _, path := range []string{"var/lib/dhcp/dhclient.leases", "var/lib/dhcpcd/eth0.lease", "run/systemd/netif/leases/2",
			"run/NetworkManager/devices/2", "var/lib/NetworkManager/internal-a-eth0.lease"} {
			found, _ := leasefile.Read(fstest.MapFS{path: {Data: content, ModTime: utc("08:12:00")}})
			for _, l := range lease.Alone(found, utc("08:30:00")) {
				for _, o := range l.Options {
					if strings.ContainsAny(o.Value+o.Name, "\x1b\n\x00") {
						t.Fatalf("%q", o.Value)
					}
				}
				if strings.ContainsAny(l.Interface+l.Terms.Domain, "\x1b\n\x00") {
					t.Fatalf("%q %q", l.Interface, l.Terms.Domain)
				}
			}
		}
	})
}
