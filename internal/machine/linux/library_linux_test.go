package linux_test

import (
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/endpoint"
)

// asked is what name servers on loopback were asked, in order.
type asked struct {
	mu    sync.Mutex
	names []string // as they came, each in a row once
	at    []string // the servers, likewise
}

// serve answers at an address of loopback for the names that exist; "mute." leads a server that says nothing of anything.
func (a *asked) serve(t *testing.T, at string, knows func(name string) int) {
	conn, err := net.ListenPacket("udp", netip.AddrPortFrom(netip.MustParseAddr(at), 53).String())
	if err != nil {
		t.Skipf("port 53 of %s cannot be had: %v", at, err)
	}
	server := &dns.Server{PacketConn: conn, Handler: dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		name := strings.TrimSuffix(strings.ToLower(q.Question[0].Name), ".")
		a.mu.Lock()
		if n := len(a.names) - 1; n < 0 || a.names[n] != name {
			a.names = append(a.names, name)
		}
		if n := len(a.at) - 1; n < 0 || a.at[n] != at {
			a.at = append(a.at, at)
		}
		a.mu.Unlock()
		m := new(dns.Msg).SetRcode(q, knows(name))
		if m.Rcode == dns.RcodeSuccess && q.Question[0].Qtype == dns.TypeA {
			m.Answer = append(m.Answer, &dns.A{Hdr: dns.RR_Header{Name: q.Question[0].Name, Rrtype: dns.TypeA, Class: dns.ClassINET, Ttl: 60},
				A: net.IPv4(203, 0, 113, 80)})
		}
		_ = w.WriteMsg(m)
	})}
	go func() { _ = server.ActivateAndServe() }()
	t.Cleanup(func() { _ = server.Shutdown() })
}

// The names that we ask for are those that the system's library asks for, in its order, of the servers that it asks: its own look-up is run
// with a resolv.conf of ours in the place of the system's, and both are compared.
func TestNamesAreAskedForAsTheLibraryDoes(t *testing.T) {
	for _, program := range []string{"unshare", "getent", "mount"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skipf("%s is not installed", program)
		}
	}
	if os.Getuid() != 0 {
		t.Skip("only root may put another resolv.conf in the place of the system's")
	}
	const first, second, third, fourth = "127.53.0.1", "127.53.0.2", "127.53.0.3", "127.53.0.4"
	exist := []string{"bookings.kittiwake.example", "ticket.pier.kittiwake.example", "deep.a.kittiwake.example", "alone"}
	seen := &asked{}
	answers := func(name string) int {
		if slices.Contains(exist, name) {
			return dns.RcodeSuccess
		}
		return dns.RcodeNameError
	}
	seen.serve(t, first, answers)
	for _, at := range []string{second, third, fourth} {
		seen.serve(t, at, func(string) int { return dns.RcodeServerFailure })
	}
	dir := t.TempDir()
	switching := filepath.Join(dir, "nsswitch.conf")
	require.NoError(t, os.WriteFile(switching, []byte("hosts: files dns\n"), 0o644))
	list := func(addrs ...string) string { return "nameserver " + strings.Join(addrs, "\nnameserver ") + "\n" }
	for _, c := range []struct{ name, conf string }{
		{"bookings", list(first) + "search kittiwake.example"},
		{"bookings", list(first) + "search pier.example kittiwake.example"},
		{"bookings", list(first) + "domain kittiwake.example"},
		{"bookings", list(first) + "domain pier.example\nsearch kittiwake.example"},
		{"bookings", list(first) + "search kittiwake.example\ndomain pier.example"},
		{"alone", list(first) + "search pier.example"},
		{"alone", list(first) + "search . pier.example"},
		{"alone", list(first) + "search pier.example .\noptions ndots:1"},
		{"alone", list(first) + "search pier.example\noptions ndots:0"},
		{"alone", list(first) + "search pier.example\noptions no-tld-query"},
		{"nobody", list(first) + "search pier.example kittiwake.example"},
		{"bookings.kittiwake.example", list(first) + "search pier.example"},
		{"nobody.kittiwake.example", list(first) + "search pier.example kittiwake.example"},
		{"ticket.pier", list(first) + "search kittiwake.example"},
		{"ticket.pier", list(first) + "search kittiwake.example\noptions ndots:2"},
		{"ticket.pier", list(first) + "search pier.example kittiwake.example\noptions ndots:3"},
		{"ticket.pier.", list(first) + "search kittiwake.example\noptions ndots:2"},
		{"deep.a", list(first) + "search a.example b.example c.example d.example e.example kittiwake.example\noptions ndots:2"},
		{"bookings.kittiwake.example", list(second, first)},
		{"bookings.kittiwake.example", list(second, third, first)},
		{"bookings.kittiwake.example", list(second, third, fourth, first) + "options attempts:1"},
		{"bookings.kittiwake.example", list(first, second) + "options edns0 trust-ad single-request"},
	} {
		conf := filepath.Join(dir, "resolv.conf")
		require.NoError(t, os.WriteFile(conf, []byte(c.conf+"\n"), 0o644))
		seen.mu.Lock()
		seen.names, seen.at = nil, nil
		seen.mu.Unlock()
		out, _ := exec.Command("unshare", "-m", "sh", "-c",
			`mount --bind "$1" "$(readlink -f /etc/resolv.conf)" && mount --bind "$2" /etc/nsswitch.conf && getent ahostsv4 "$3"`,
			"sh", conf, switching, c.name).CombinedOutput()

		is := endpoint.ParseResolvConf(strings.NewReader(c.conf), "resolv.conf")
		e := endpoint.Endpoint{Resolvers: is.Resolvers, Search: is.Search, Asking: is.Asking}
		names, _ := e.Completed(c.name)
		served := slices.ContainsFunc(e.AskedResolvers(), func(a netip.Addr) bool { return a.String() == first })
		found := false
		if i := slices.IndexFunc(names, func(n string) bool { return slices.Contains(exist, n) }); i >= 0 && served {
			names, found = names[:i+1], true // none is asked for after the one that is there
		}
		seen.mu.Lock()
		assert.Equal(t, names, unrepeated(seen.names), "%s with %q: %s", c.name, c.conf, out)
		for _, at := range seen.at {
			assert.Contains(t, e.AskedResolvers(), netip.MustParseAddr(at), "%s with %q", c.name, c.conf)
		}
		seen.mu.Unlock()
		assert.Equal(t, found, strings.Contains(string(out), "203.0.113.80"), "%s with %q: %s", c.name, c.conf, out)
	}
}

// unrepeated keeps of each name the first.
func unrepeated(names []string) (out []string) {
	for _, n := range names {
		if !slices.Contains(out, n) {
			out = append(out, n)
		}
	}
	return out
}
