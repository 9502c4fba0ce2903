package dhcplab

import (
	"net/netip"
	"os"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/lease"
	"passepartout/internal/leasefile"
)

// wanted finds the first exchange with an outcome.
func (l *lab) wanted(o dhcp.Outcome) *dhcp.Exchange {
	all := l.exchanges()
	if i := slices.IndexFunc(all, func(e *dhcp.Exchange) bool { return e.Outcome == o }); i >= 0 {
		return all[i]
	}
	return nil
}

func (l *lab) await(o dhcp.Outcome, limit time.Duration) *dhcp.Exchange {
	l.t.Helper()
	l.until(o.String(), limit, func() bool { return l.wanted(o) != nil })
	return l.wanted(o)
}

func addr(s string) netip.Addr { return netip.MustParseAddr(s) }

func has(remarks []string, part string) bool {
	return slices.ContainsFunc(remarks, func(r string) bool { return strings.Contains(r, part) })
}

// TestOutcomes makes real programs reach every end that an exchange can have, beside those that the clients' ordinary life brings.
func TestOutcomes(t *testing.T) {
	if testing.Short() {
		t.Skip("takes half a minute")
	}
	tests := map[string]struct {
		needs []string
		test  func(*testing.T, *lab)
	}{
		"declined, since somebody else has the address": {[]string{"dnsmasq", "dhcpcd"}, func(t *testing.T, l *lab) {
			o := served()
			o.first, o.last = "172.27.40.100", "172.27.40.101"
			l.node("server", "near "+o.address)
			l.node("squatter", "near 172.27.40.100/24", "near 172.27.40.101/24")
			dnsmasq(l, "server", o)
			startDhcpcd(l)
			e := l.await(dhcp.Declined, time.Minute)
			assert.Contains(t, []netip.Addr{addr("172.27.40.100"), addr("172.27.40.101")}, e.Terms.Address)
			assert.Equal(t, dhcp.Decline, e.Steps[len(e.Steps)-1].Message.Type)
			assert.Contains(t, types(e), dhcp.Ack, "the decline belongs to the acknowledgement before it")
		}},
		"refused: an address of another network": {[]string{"dnsmasq", "dhclient"}, func(t *testing.T, l *lab) {
			o := served()
			l.node("server", "near "+o.address)
			dnsmasq(l, "server", o)
			l.write("root/var/lib/dhcp/dhclient.eth0.leases", "lease {\n  interface \"eth0\";\n  fixed-address 10.1.2.3;\n  option "+
				"subnet-mask 255.255.255.0;\n  option dhcp-lease-time 86400;\n  option dhcp-server-identifier 10.1.2.1;\n  renew 4 "+
				"2037/01/01 00:00:00;\n  rebind 4 2037/01/01 00:00:00;\n  expire 4 2037/01/02 00:00:00;\n}\n")
			startDhclient(l)
			e := l.await(dhcp.Refused, time.Minute)
			assert.Equal(t, addr("10.1.2.3"), e.Requested)
			assert.Equal(t, addr("172.27.40.2"), e.Server)
			assert.False(t, e.Terms.Address.IsValid())
			bound := l.await(dhcp.BoundTo, time.Minute)
			l.until("the lease of this network is in force", time.Minute, func() bool {
				got, ok := l.inForce()
				return ok && got.Terms.Address == bound.Terms.Address
			})
		}},
		"informed": {[]string{"dhcpd", "dhcpcd"}, func(t *testing.T, l *lab) {
			o := served()
			l.node("server", "near "+o.address)
			iscServer(l, "server", o)
			l.write("dhcpcd.conf", "ipv4only\nnoipv4ll\nnoarp\noption domain_name_servers, domain_name\ninform\n")
			l.run(client, "inform",
				private(l, "/var/lib/dhcpcd")+"ip addr add 172.27.40.77/24 dev eth0\nexec dhcpcd -B -d -f "+l.dir+"/dhcpcd.conf eth0")
			e := l.await(dhcp.Informed, 25*time.Second)
			assert.Zero(t, e.Terms.Lease)
			assert.Equal(t, []netip.Addr{addr("172.27.40.2")}, e.Terms.Resolvers)
		}},
		"unanswered: nobody serves": {[]string{"dhclient"}, func(t *testing.T, l *lab) {
			startDhclient(l)
			l.until("three discovers", time.Minute, func() bool {
				e := l.wanted(dhcp.Unanswered)
				return e != nil && len(e.Steps) >= 3
			})
			e := l.wanted(dhcp.Unanswered)
			assert.Equal(t, 2, e.Steps[2].Again)
			assert.True(t, has(e.Remarks, "discover sent"), e.Remarks)
			assert.Empty(t, l.held())
		}},
		"two servers disagree": {[]string{"dnsmasq", "dhcpd", "dhclient"}, func(t *testing.T, l *lab) {
			o := served()
			l.node("server", "near "+o.address)
			dnsmasq(l, "server", o)
			o.address, o.router, o.first, o.last = "172.27.40.3/24", "172.27.40.66", "172.27.40.150", "172.27.40.160"
			l.node("second", "near "+o.address)
			iscServer(l, "second", o)
			time.Sleep(time.Second) // both listen
			startDhclient(l)
			l.await(dhcp.BoundTo, time.Minute)
			l.until("both have offered", 5*time.Second, func() bool { return has(l.wanted(dhcp.BoundTo).Remarks, "disagree") })
			e := l.wanted(dhcp.BoundTo)
			assert.True(t, has(e.Remarks, "disagree: router"), e.Remarks)
			if e.Server == addr("172.27.40.3") { // the one that was not chosen calls itself the only authority, and refuses
				assert.True(t, has(e.Remarks, "nak from 172.27.40.2, while the client had chosen 172.27.40.3"), e.Remarks)
			}
		}},
		"through a relay": {[]string{"dhcpd", "dhcrelay", "dhclient"}, func(t *testing.T, l *lab) {
			l.bridge("far")
			o := served()
			o.address, o.network = "172.27.50.2/24", "172.27.40.0"
			l.node("server", "far "+o.address)
			l.node("relay", "near 172.27.40.1/24", "far 172.27.50.1/24")
			l.capture("far")
			iscServer(l, "server", o)
			l.run("server", "route", "ip route add 172.27.40.0/24 via 172.27.50.1")
			l.run("relay", "relay", "echo 1 > /proc/sys/net/ipv4/ip_forward\nexec dhcrelay -4 -d -iu eth1 -id eth0 172.27.50.2")
			time.Sleep(time.Second)
			startDhclient(l)
			e := l.await(dhcp.BoundTo, time.Minute)
			assert.Equal(t, addr("172.27.40.1"), e.Relay)
			assert.Equal(t, addr("172.27.50.2"), e.Server)
			assert.Contains(t, []string{"discover offer request ack"}, kinds(e), "what is seen on both sides of the relay is one exchange")
			ladder := e.Ladder()
			assert.Equal(t, []string{"client", "relay", "server"},
				[]string{ladder.Parties[0].Role, ladder.Parties[1].Role, ladder.Parties[2].Role})
			renewed := l.await(dhcp.Renewed, time.Minute)
			assert.Equal(t, e.Terms.Address, renewed.Terms.Address)
			acks := 0
			for _, x := range l.exchanges() {
				if x.Outcome == dhcp.Renewed {
					acks++
				}
			}
			assert.LessOrEqual(t, acks, 5, "a renewal that the relay passes on as well is one renewal")
		}},
		"rapid commit": {[]string{"dnsmasq", "dhcpcd"}, func(t *testing.T, l *lab) {
			o := served()
			o.rapid = true
			l.node("server", "near "+o.address)
			dnsmasq(l, "server", o)
			time.Sleep(500 * time.Millisecond)
			startDhcpcd(l)
			e := l.await(dhcp.BoundTo, time.Minute)
			assert.Equal(t, "discover ack", kinds(e))
			assert.True(t, has(e.Remarks, "RFC 4039"), e.Remarks)
		}},
		"a lease without end": {[]string{"dnsmasq", "dhclient"}, func(t *testing.T, l *lab) {
			o := served()
			o.endless, o.t1 = true, 0
			l.node("server", "near "+o.address)
			dnsmasq(l, "server", o)
			startDhclient(l)
			e := l.await(dhcp.BoundTo, time.Minute)
			assert.True(t, e.Terms.IsEndless())
			l.until("the file tells it", time.Minute, func() bool {
				got, ok := l.inForce()
				return ok && got.Endless && got.Expires.IsZero() && got.At(time.Now()) == lease.Bound
			})
		}},
		"released, and the file says so": {[]string{"dnsmasq", "dhclient"}, func(t *testing.T, l *lab) {
			o := served()
			l.node("server", "near "+o.address)
			dnsmasq(l, "server", o)
			p := startDhclient(l)
			bound := l.await(dhcp.BoundTo, time.Minute)
			// what is not written down yet it cannot give back
			l.until("written", time.Minute, func() bool { _, ok := l.inForce(); return ok })
			clients[0].release(l, p)
			e := l.await(dhcp.Released, time.Minute)
			assert.Equal(t, bound.Terms.Address, e.Terms.Address)
			assert.Equal(t, addr("172.27.40.2"), e.Server)
			l.until("the file says so", time.Minute, func() bool {
				found, _ := leasefile.Read(os.DirFS(l.root()))
				return len(found) == 1 && found[0].At(time.Now()) == lease.Released
			})
		}},
		"a leftover of another client": {[]string{"dnsmasq", "dhclient", "dhcpcd"}, func(t *testing.T, l *lab) {
			o := served()
			l.node("server", "near "+o.address)
			dnsmasq(l, "server", o)
			p := startDhcpcd(l)
			first := l.await(dhcp.BoundTo, time.Minute)
			l.until("written", time.Minute, func() bool { _, ok := l.inForce(); return ok })
			p.end(syscall.SIGKILL)
			l.run(client, "flush", "ip addr flush dev eth0")
			startDhclient(l)
			l.until("dhclient's is in force", 25*time.Second, func() bool {
				got, ok := l.inForce()
				return ok && got.Client == lease.Dhclient
			})
			found, _ := leasefile.Read(os.DirFS(l.root()))
			assert.Len(t, found, 2)
			require.NotNil(t, first)
		}},
	}
	for name, test := range tests {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			test.test(t, newLab(t, append(test.needs, "ip")...))
		})
	}
}

func types(e *dhcp.Exchange) (out []dhcp.Type) {
	for i := range e.Steps {
		out = append(out, e.Steps[i].Message.Type)
	}
	return out
}

// kinds are the messages of an exchange, copies and repeats left out.
func kinds(e *dhcp.Exchange) string {
	var out []string
	for i := range e.Steps {
		if s := &e.Steps[i]; !s.Copy && s.Again == 0 && !(s.Message.Type == dhcp.Offer && slices.Contains(out, "offer")) {
			out = append(out, s.Message.Type.String())
		}
	}
	return strings.Join(out, " ")
}
