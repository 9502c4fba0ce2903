package linux_test

import (
	"flag"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/library"
)

var everyLookup = flag.Bool("every-lookup", false, "compare look-ups under all settings with all manners of servers")

// manner is how a name server behaves: what it makes of a question about a name that leads to addresses, or to none. nth counts the times
// that it was asked the same.
type manner func(q library.Question, usual library.Reply, nth int) library.Reply

func always(r library.Reply) manner {
	return func(library.Question, library.Reply, int) library.Reply { return r }
}

func code(c string) library.Reply { return library.Reply{Fate: library.Message, RCode: c} }

// onlyFor behaves oddly for one type, and as usual for the other.
func onlyFor(kind string, odd library.Reply) manner {
	return func(q library.Question, usual library.Reply, _ int) library.Reply {
		if q.Type == kind {
			return odd
		}
		return usual
	}
}

// manners are those of the first server.
var manners = map[string]manner{
	"answers":                     func(_ library.Question, usual library.Reply, _ int) library.Reply { return usual },
	"keeps silent":                always(library.Reply{Fate: library.Silence}),
	"is closed":                   always(library.Reply{Fate: library.Refused}),
	"fails":                       always(code("SERVFAIL")),
	"refuses":                     always(code("REFUSED")),
	"knows no such question":      always(code("NOTIMP")),
	"calls questions malformed":   always(code("FORMERR")),
	"denies everything":           always(code("NXDOMAIN")),
	"has nothing":                 always(code("NOERROR")),
	"knows nothing of it":         always(library.Reply{Fate: library.Message, RCode: "NOERROR", Lame: true}),
	"keeps silent about AAAA":     onlyFor("AAAA", library.Reply{Fate: library.Silence}),
	"keeps silent about A":        onlyFor("A", library.Reply{Fate: library.Silence}),
	"fails for AAAA":              onlyFor("AAAA", code("SERVFAIL")),
	"fails for A":                 onlyFor("A", code("SERVFAIL")),
	"does not implement AAAA":     onlyFor("AAAA", code("NOTIMP")),
	"denies AAAA":                 onlyFor("AAAA", code("NXDOMAIN")),
	"answers late":                late(300 * time.Millisecond),
	"answers when it is too late": late(1300 * time.Millisecond),
	"answers when asked again": func(_ library.Question, usual library.Reply, nth int) library.Reply {
		if nth == 0 {
			return library.Reply{Fate: library.Silence}
		}
		return usual
	},
	"sends rubbish by datagram": func(q library.Question, usual library.Reply, _ int) library.Reply {
		usual.Short = !q.TCP
		return usual
	},
	"has room by TCP alone": func(q library.Question, usual library.Reply, _ int) library.Reply {
		usual.Truncated = !q.TCP
		return usual
	},
	"has no room, and no TCP": func(q library.Question, usual library.Reply, _ int) library.Reply {
		if q.TCP {
			return library.Reply{Fate: library.Refused}
		}
		usual.Truncated = true
		return usual
	},
	"does not know EDNS": func(q library.Question, usual library.Reply, _ int) library.Reply {
		if q.EDNS {
			return code("FORMERR")
		}
		return usual
	},
}

func late(after time.Duration) manner {
	return func(_ library.Question, usual library.Reply, _ int) library.Reply {
		usual.After = after
		return usual
	}
}

// byTCP reports whether a manner serves by TCP.
func byTCP(name string) bool { return name != "is closed" && name != "has no room, and no TCP" }

var (
	four = netip.MustParseAddr("203.0.113.80")
	six  = netip.MustParseAddr("2001:db8:80::80")
)

// records are the names that there are.
var records = map[string][]netip.Addr{
	"bookings.kittiwake.example": {four, six}, "ticket.pier.kittiwake.example": {four}, "deep.a.kittiwake.example": {four, six},
	"alone": {four}, "six.kittiwake.example": {six}, "empty.kittiwake.example": nil,
}

func usual(q library.Question) library.Reply {
	addrs, known := records[q.Name]
	if !known {
		return code("NXDOMAIN")
	}
	r := code("NOERROR")
	for _, a := range addrs {
		if a.Is4() == (q.Type == "A") {
			r.Addresses = append(r.Addresses, a)
		}
	}
	return r
}

// setting is what a machine is set to, and what is asked there. SERVERS in its resolv.conf stands for lines of name servers.
type setting struct {
	name, conf string
	servers    int // 0: one
	nsswitch   string
	hosts      string
}

const quick = "\noptions timeout:1 attempts:2"

var settings = []setting{
	{name: "bookings", conf: "search kittiwake.example"}, {name: "bookings", conf: "search pier.example kittiwake.example"},
	{name: "bookings", conf: "domain kittiwake.example"}, {name: "bookings", conf: "domain pier.example\nsearch kittiwake.example"},
	{name: "bookings", conf: "search kittiwake.example\ndomain pier.example"}, {name: "alone", conf: "search pier.example"},
	{name: "alone", conf: "search . pier.example"}, {name: "alone", conf: "search pier.example .\noptions ndots:1"},
	{name: "alone", conf: "search pier.example\noptions ndots:0"}, {name: "alone", conf: "search pier.example\noptions no-tld-query"},
	{name: "nobody", conf: "search pier.example kittiwake.example"}, {name: "empty", conf: "search kittiwake.example"},
	{name: "empty", conf: "search kittiwake.example pier.example"}, {name: "six", conf: "search kittiwake.example"},
	{name: "bookings.kittiwake.example", conf: "search pier.example"}, {name: "bookings.kittiwake.example."},
	{name: "nobody.kittiwake.example", conf: "search pier.example kittiwake.example"}, {name: "nobody.kittiwake.example."},
	{name: "empty.kittiwake.example", conf: "search pier.example"}, {name: "ticket.pier", conf: "search kittiwake.example"},
	{name: "ticket.pier", conf: "search kittiwake.example\noptions ndots:2"},
	{name: "ticket.pier", conf: "search pier.example kittiwake.example\noptions ndots:3"},
	{name: "ticket.pier.", conf: "search kittiwake.example\noptions ndots:2"},
	{name: "deep.a", conf: "search a.example b.example c.example d.example e.example kittiwake.example\noptions ndots:2"},
	{name: "bookings.kittiwake.example", servers: 2}, {name: "bookings.kittiwake.example", servers: 3},
	{name: "bookings.kittiwake.example", servers: 4}, {name: "bookings.kittiwake.example", servers: 4, conf: "options attempts:1"},
	{name: "bookings", servers: 2, conf: "search kittiwake.example"}, {name: "nobody", servers: 2, conf: "search kittiwake.example"},
	{name: "nobody.kittiwake.example", servers: 2}, {name: "six.kittiwake.example", servers: 2},
	{name: "empty.kittiwake.example", servers: 3}, {name: "alone", servers: 2, conf: "search pier.example\noptions ndots:0"},
	{name: "bookings.kittiwake.example", servers: 2, conf: "options edns0"},
	{name: "bookings.kittiwake.example", conf: "options edns0 trust-ad"},
	{name: "bookings", conf: "search kittiwake.example\noptions edns0"},
	{name: "bookings.kittiwake.example", conf: "options single-request"},
	{name: "bookings.kittiwake.example", servers: 2, conf: "options single-request"},
	{name: "bookings.kittiwake.example", conf: "options single-request-reopen"},
	{name: "six.kittiwake.example", servers: 2, conf: "options single-request edns0"},
	{name: "bookings.kittiwake.example", conf: "options no-aaaa"}, {name: "six.kittiwake.example", conf: "options no-aaaa"},
	{name: "bookings", servers: 2, conf: "search pier.example kittiwake.example\noptions no-aaaa"},
	{name: "bookings.kittiwake.example", conf: "options use-vc"}, {name: "bookings.kittiwake.example", servers: 2, conf: "options use-vc"},
	{name: "nobody", servers: 2, conf: "search kittiwake.example\noptions use-vc"},
	{name: "bookings.kittiwake.example", servers: 2, conf: "options rotate"},
	{name: "bookings.kittiwake.example", servers: 3, conf: "options rotate attempts:1"},
	{name: "bookings.kittiwake.example", conf: "options attempts:1"},
	{name: "bookings.kittiwake.example", servers: 2, conf: "options attempts:3"},
	{name: "bookings.kittiwake.example", nsswitch: "hosts: files"},
	{name: "bookings.kittiwake.example", nsswitch: "hosts: dns files", hosts: "203.0.113.18"},
	{name: "bookings.kittiwake.example", nsswitch: "hosts: files dns", hosts: "203.0.113.18"},
	{name: "nobody.kittiwake.example", nsswitch: "hosts: dns files", hosts: "203.0.113.18"},
	{name: "nobody.kittiwake.example", nsswitch: "hosts: dns [NOTFOUND=return] files", hosts: "203.0.113.18"},
	{name: "bookings.kittiwake.example", nsswitch: "hosts: files [NOTFOUND=return] dns"},
	{name: "bookings.kittiwake.example", nsswitch: "hosts: dns [!UNAVAIL=return] files", hosts: "203.0.113.18"},
	{name: "bookings.kittiwake.example", nsswitch: "passwd: files", hosts: "203.0.113.18"},
	{name: "bookings.kittiwake.example", nsswitch: "hosts: dns", hosts: "203.0.113.18"},
	{name: "bookings.kittiwake.example", servers: 2, nsswitch: "hosts: dns files", hosts: "203.0.113.18"},
	{name: "bookings.kittiwake.example", nsswitch: "hosts: files [SUCCESS=continue] dns", hosts: "203.0.113.18"},
	{name: "nobody.kittiwake.example", nsswitch: "hosts: files [SUCCESS=continue] dns", hosts: "203.0.113.18"},
	{name: "bookings.kittiwake.example", nsswitch: "hosts: dns [SUCCESS=continue] files", hosts: "203.0.113.18"},
	{name: "bookings.kittiwake.example", nsswitch: "hosts: dns [SUCCESS=continue] files"},
	{name: "bookings.kittiwake.example", nsswitch: "hosts: files [SUCCESS=continue]", hosts: "203.0.113.18"},
	{name: "bookings.kittiwake.example", nsswitch: "hosts: dns files"},
}

// The statuses, as netdb.h has them.
var statuses = map[string]library.Status{"0": library.Found, "-2": library.NoName, "-5": library.NoData, "-3": library.TryAgain,
	"-4": library.NoRecovery}

// bench is a set of name servers of one comparison at a time: in a network of its own on loopback.
type bench struct {
	number int
	mu     sync.Mutex
	asked  []library.Question
	manner manner
	first  netip.Addr // the server that has the manner
	times  map[library.Question]int
}

// The places of the servers: the usual ones, one where nobody serves, one that serves by datagrams alone.
const (
	mostServers  = 4
	closedServer = 8
	udpServer    = 9
)

func (b *bench) server(i int, manner string) netip.Addr {
	switch {
	case i == 0 && manner == "is closed":
		i = closedServer
	case i == 0 && !byTCP(manner):
		i = udpServer
	}
	return netip.AddrFrom4([4]byte{127, 53, byte(b.number), byte(i + 1)})
}

// fate is what becomes of a question; the further servers answer as usual.
func (b *bench) fate(q library.Question, times map[library.Question]int) library.Reply {
	nth := times[q]
	times[q]++
	if q.Server != b.first {
		return usual(q)
	}
	return b.manner(q, usual(q), nth)
}

// take notes a question, and says what becomes of it.
func (b *bench) take(server netip.Addr, raw []byte, tcp bool) (*dns.Msg, library.Reply) {
	m := new(dns.Msg)
	if m.Unpack(raw) != nil || len(m.Question) != 1 {
		return nil, library.Reply{}
	}
	q := library.Question{Server: server, Name: strings.ToLower(strings.TrimSuffix(m.Question[0].Name, ".")),
		Type: dns.TypeToString[m.Question[0].Qtype], TCP: tcp, EDNS: m.IsEdns0() != nil}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.asked = append(b.asked, q)
	return m, b.fate(q, b.times)
}

func pack(q *dns.Msg, r library.Reply) []byte {
	if r.Short {
		return []byte{1, 2, 3}
	}
	m := new(dns.Msg).SetRcode(q, dns.StringToRcode[r.RCode])
	m.RecursionAvailable, m.Truncated = !r.Lame, r.Truncated
	if r.Lame {
		m.Extra = nil
	}
	for _, a := range r.Addresses {
		head := dns.RR_Header{Name: q.Question[0].Name, Class: dns.ClassINET, Ttl: 60, Rrtype: q.Question[0].Qtype}
		if a.Is4() {
			m.Answer = append(m.Answer, &dns.A{Hdr: head, A: a.AsSlice()})
		} else {
			m.Answer = append(m.Answer, &dns.AAAA{Hdr: head, AAAA: a.AsSlice()})
		}
	}
	raw, _ := m.Pack()
	return raw
}

// byDatagrams serves at an address for the length of the test.
func (b *bench) byDatagrams(t *testing.T, server netip.Addr) {
	conn, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(netip.AddrPortFrom(server, 53)))
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	answers := make(chan func(), 16) // in order, and not before the question that was sent beside it has been noted
	go func() {
		for answer := range answers {
			time.Sleep(20 * time.Millisecond)
			answer()
		}
	}()
	go func() {
		defer close(answers)
		buf := make([]byte, 4096)
		for {
			n, from, err := conn.ReadFromUDPAddrPort(buf)
			if err != nil {
				return
			}
			q, r := b.take(server, buf[:n], false)
			if q == nil || r.Fate != library.Message {
				continue
			}
			answer := func() { _, _ = conn.WriteToUDPAddrPort(pack(q, r), from) }
			if r.After > 0 {
				time.AfterFunc(r.After, answer)
				continue
			}
			answers <- answer
		}
	}()
}

// byConnections is the same by TCP.
func (b *bench) byConnections(t *testing.T, server netip.Addr) {
	l, err := net.ListenTCP("tcp", net.TCPAddrFromAddrPort(netip.AddrPortFrom(server, 53)))
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				stream := &dns.Conn{Conn: conn}
				for {
					m, err := stream.ReadMsg()
					if err != nil {
						return
					}
					raw, _ := m.Pack()
					q, r := b.take(server, raw, true)
					if q == nil || r.Fate != library.Message {
						return
					}
					time.Sleep(r.After)
					if _, err := stream.Write(pack(q, r)); err != nil {
						return
					}
				}
			}()
		}
	}()
}

// compare asks the library, and works out what it should do.
func (b *bench) compare(t *testing.T, program, dir string, s setting, name string) (wrong string) {
	b.mu.Lock()
	b.asked, b.manner, b.first, b.times = nil, manners[name], b.server(0, name), map[library.Question]int{}
	b.mu.Unlock()
	var conf strings.Builder
	for i := range max(1, s.servers) {
		fmt.Fprintf(&conf, "nameserver %v\n", b.server(i, name))
	}
	conf.WriteString(s.conf)
	if !strings.Contains(s.conf, "attempts") {
		conf.WriteString(quick)
	} else {
		conf.WriteString(" timeout:1")
	}
	hosts := "127.0.0.1 localhost\n"
	if s.hosts != "" {
		hosts += s.hosts + " " + strings.TrimSuffix(s.name, ".") + "\n"
	}
	args := []string{"-m", "sh", "-c", `mount --bind "$1" "$(readlink -f /etc/resolv.conf)" && mount --bind "$2" /etc/nsswitch.conf &&
		mount --bind "$3" /etc/hosts && exec "$4" "$5"`, "sh"}
	nsswitch := s.nsswitch
	if nsswitch == "" {
		nsswitch = "hosts: files dns"
	}
	for file, text := range map[string]string{"resolv.conf": conf.String() + "\n", "nsswitch.conf": nsswitch + "\n", "hosts": hosts} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, file), []byte(text), 0o644))
	}
	args = append(args, filepath.Join(dir, "resolv.conf"), filepath.Join(dir, "nsswitch.conf"), filepath.Join(dir, "hosts"), program,
		s.name)
	out, err := exec.Command("unshare", args...).CombinedOutput()
	require.NoError(t, err, "%s", out)
	time.Sleep(20 * time.Millisecond) // what it sent last is taken
	fields := strings.Fields(string(out))
	status := statuses[fields[0]]
	b.mu.Lock()
	asked := b.asked
	b.mu.Unlock()

	is := endpoint.ParseResolvConf(strings.NewReader(conf.String()), "resolv.conf")
	e := &endpoint.Endpoint{Resolvers: is.Resolvers, Search: is.Search, Asking: is.Asking,
		Switching: endpoint.ParseSwitching(strings.NewReader(nsswitch))}
	e.Hosts, _ = endpoint.ParseHosts(strings.NewReader(hosts), "hosts")
	turns := 1
	if is.Asking.Rotate {
		turns = max(1, s.servers)
	}
	var got library.Outcome
	for first := range turns {
		set := library.Of(e, s.name)
		set.First = first
		times := map[library.Question]int{}
		got = library.Resolve(set, func(q library.Question) library.Reply { return b.fate(q, times) })
		seen := slices.DeleteFunc(slices.Clone(got.Asked), func(q library.Question) bool { // what nobody was there to take
			return q.Server == b.first && (name == "is closed" || q.TCP && !byTCP(name))
		})
		if got.Status == status && slices.Equal(seen, asked) &&
			slices.Equal(texts(got.Addresses), slices.Sorted(slices.Values(fields[1:]))) {
			return ""
		}
		got.Asked = seen
	}
	return fmt.Sprintf("%q with %q (%s) at a server that %s: the library %v %v %v\n   we %v %v %v", s.name, conf.String(), nsswitch, name,
		status, fields[1:], words(asked), got.Status, got.Addresses, words(got.Asked))
}

func texts(addrs []netip.Addr) (out []string) {
	for _, a := range addrs {
		out = append(out, a.String())
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func words(list []library.Question) (out []string) {
	for _, q := range list {
		word := fmt.Sprintf("%d:%s/%s", q.Server.As4()[3], q.Name, q.Type)
		if q.TCP {
			word += "/tcp"
		}
		if q.EDNS {
			word += "/edns"
		}
		out = append(out, word)
	}
	return out
}

// What we work out is what the system's library does: its own look-up is run with files of ours in the place of the system's, at servers of
// many manners, and outcome and order of questions are compared.
func TestNamesAreLookedUpAsTheLibraryDoes(t *testing.T) {
	t.Parallel()
	for _, program := range []string{"unshare", "mount", "gcc"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skipf("%s is not installed", program)
		}
	}
	if os.Getuid() != 0 {
		t.Skip("only root may put other files in the place of the system's")
	}
	program := filepath.Join(t.TempDir(), "getaddrinfo")
	build := exec.Command("go", "build", "-o", program, "./testdata/getaddrinfo")
	build.Env = append(os.Environ(), "CGO_ENABLED=1")
	out, err := build.CombinedOutput()
	require.NoError(t, err, "%s", out)
	type pair struct {
		s      setting
		manner string
	}
	names := make([]string, 0, len(manners))
	for name := range manners {
		names = append(names, name)
	}
	slices.Sort(names)
	var pairs []pair
	for i, s := range settings {
		for j, name := range names {
			if *everyLookup || (i+j)%6 == 0 { // a share of each setting, and of each manner
				pairs = append(pairs, pair{s, name})
			}
		}
	}
	todo := make(chan pair)
	var wg sync.WaitGroup
	var mu sync.Mutex
	var wrong []string
	for n := range 16 {
		dir := t.TempDir()
		b := &bench{number: n + 1}
		for i := range mostServers {
			b.byDatagrams(t, b.server(i, ""))
			b.byConnections(t, b.server(i, ""))
		}
		b.byDatagrams(t, b.server(udpServer, ""))
		wg.Go(func() {
			for p := range todo {
				if w := b.compare(t, program, dir, p.s, p.manner); w != "" {
					mu.Lock()
					wrong = append(wrong, w)
					mu.Unlock()
				}
			}
		})
	}
	for _, p := range pairs {
		todo <- p
	}
	close(todo)
	wg.Wait()
	fmt.Printf("look-ups beside the library's: %d of %d alike, %d settings at servers of %d manners\n", len(pairs)-len(wrong), len(pairs),
		len(settings), len(manners))
	assert.Empty(t, wrong, "%d: %s", len(wrong), strings.Join(wrong, "\n"))
}
