package redact

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/subnet"
)

// of gives stand-ins for what stands in some values under the keys of a log.
func of(t *testing.T, key Key, lines ...string) *Redactor {
	o := NewOriginals()
	for _, line := range lines {
		require.NoError(t, o.JSON([]byte(line)))
	}
	return New(key, o)
}

const line = `{"Host":"ticket-03","Name":"bookings.kittiwake.example","Hardware":"02:00:eb:40:4b:4a","Prefix":"172.27.40.23/24",
	"To":["172.27.40.255","203.0.113.80:443","[2001:db8:113::80]:443","fe80::1%eth0"],"Server":"000300010200eb404b4a","Outcome":"answered",
	"Interfaces":[{"Name":"eth0"}],"Issuer":"CN=North Pier test authority","options":[{"name":"Host Name","value":"till-7"}]}`

func TestWhatIsReplaced(t *testing.T) {
	r := of(t, Key{7}, line)
	host, name, domain, till := r.labels["ticket-03"], r.labels["bookings"], r.labels["kittiwake"], r.labels["till-7"]
	addr := func(s string) string { return r.tree.addr(netip.MustParseAddr(s)).String() }
	card := r.cards[hardware{2, 0, 0xeb, 0x40, 0x4b, 0x4a}]
	for _, word := range []string{host, name, domain, till} {
		assert.Len(t, word, 6)
	}
	for _, c := range []struct{ text, want string }{
		{"172.27.40.23 answers.", addr("172.27.40.23") + " answers."},
		{"on 172.27.40.0/24, as 172.27.40.23/24", addr("172.27.40.0") + "/24, as " + addr("172.27.40.23") + "/24"},
		{"203.0.113.80:443, [2001:db8:113::80]:443", addr("203.0.113.80") + ":443, [" + addr("2001:db8:113::80") + "]:443"},
		{"fe80::1%eth0", addr("fe80::1") + "%eth0"},
		{"::ffff:172.27.40.23", "::ffff:" + addr("172.27.40.23")},
		{"23.40.27.172.in-addr.arpa.", reversedText(r, "172.27.40.23")},
		{"02:00:eb:40:4b:4a, 0200.eb40.4b4a", card.write(":") + ", " + card.write(".")},
		{"000300010200eb404b4a", "00030001" + card.write("")},
		{"https://bookings.kittiwake.example:8443/x", "https://" + name + "." + domain + ".example:8443/x"},
		{"Bookings.Kittiwake.example does not answer", name + "." + domain + ".example does not answer"},
		{"SSH-2.0-kittiwake", "SSH-2.0-" + domain},
		{"_ipp._tcp.kittiwake.example", "_ipp._tcp." + domain + ".example"},
		{"the gateway of ticket-03", "the gateway of " + host},
		{"issued by North Pier test authority", "issued by " + r.in["North Pier test authority"]},
		{"127.0.0.1, 0.0.0.0, 255.255.255.0, 224.0.0.251, 192.0.2.1, ::1, ff02::1", "127.0.0.1, 0.0.0.0, 255.255.255.0, 224.0.0.251, " +
			"192.0.2.1, ::1, ff02::1"},
		{"at 12:04:05, 1.2 ms, eth0, e.g. 40 of 40", "at 12:04:05, 1.2 ms, eth0, e.g. 40 of 40"},
	} {
		got := r.Text(c.text)
		want := c.want
		if c.text[0] == 'o' { // a network is masked
			want = "on " + r.tree.prefix(netip.MustParsePrefix("172.27.40.0/24")).String() + ", as " + addr("172.27.40.23") + "/24"
		}
		assert.Equal(t, want, got)
	}
	out, err := r.JSON([]byte(line))
	require.NoError(t, err)
	var v struct {
		Host, Outcome string
		Interfaces    []struct{ Name string }
	}
	require.NoError(t, json.Unmarshal(out, &v))
	assert.Equal(t, host, v.Host)
	assert.Equal(t, "answered", v.Outcome)
	assert.Equal(t, "eth0", v.Interfaces[0].Name)
	assert.Equal(t, string(out), stable(t, of(t, Key{7}, line)), "the same key gives the same")
	assert.NotEqual(t, string(out), stable(t, of(t, Key{8}, line)))
}

func reversedText(r *Redactor, a string) string {
	raw := r.tree.addr(netip.MustParseAddr(a)).As4()
	return fmt.Sprintf("%d.%d.%d.%d.in-addr.arpa.", raw[3], raw[2], raw[1], raw[0])
}

func stable(t *testing.T, r *Redactor) string {
	out, err := r.JSON([]byte(line))
	require.NoError(t, err)
	return string(out)
}

// Whatever stands in a case: two addresses share as many leading bits as their stand-ins do, none changes its sort, none becomes the first
// or the last of its network, and no two become one.
func TestPrefixesKeepTheirRelations(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 5))
	sorts := append(slices.Clone(apart), prefixes("203.0.113.0/24", "8.0.0.0/7", "2001:db8::/32", "0.0.0.0/0", "::/0")...)
	for run := range 60 {
		o := NewOriginals()
		var all []netip.Addr
		var networks []netip.Prefix
		for range 12 {
			sort := sorts[random.IntN(len(sorts))]
			raw := sort.Addr().AsSlice()
			for bit := sort.Bits(); bit < len(raw)*8; bit++ {
				raw[bit/8] |= byte(random.IntN(2)) << (7 - bit%8)
			}
			a, _ := netip.AddrFromSlice(raw)
			length := max(sort.Bits(), a.BitLen()-2-random.IntN(10))
			network := netip.PrefixFrom(a, length).Masked()
			if within(kept, a) || common(network) || sort.Bits() == 96 { // a translator's holds IPv4 addresses, and no networks
				continue
			}
			networks = append(networks, network)
			all = append(all, a, network.Addr(), subnet.Last(network))
			o.take(place{}, fmt.Sprintf("%v %v", netip.PrefixFrom(a, length), subnet.Last(network)))
		}
		r := New(Key{byte(run)}, o)
		for i, a := range all {
			out := r.tree.addr(a)
			for _, sort := range apart {
				assert.Equal(t, sort.Contains(a), sort.Contains(out), "%v and %v in %v", a, out, sort)
			}
			for _, b := range all[:i] {
				large := slices.ContainsFunc(r.tree.large, func(p netip.Prefix) bool { return p.Contains(a) || p.Contains(b) })
				if a.BitLen() != b.BitLen() || large { // the ends of a large network are put to its ends
					continue
				}
				assert.Equal(t, shared(a, b), shared(out, r.tree.addr(b)), "%v and %v", a, b)
			}
		}
		for _, p := range networks {
			q := r.tree.prefix(p)
			assert.Equal(t, q, q.Masked())
			assert.Equal(t, q.Addr(), r.tree.addr(p.Addr()))
			assert.Equal(t, subnet.Last(q), r.tree.addr(subnet.Last(p)))
			for _, a := range all {
				assert.Equal(t, p.Contains(a), q.Contains(r.tree.addr(a)), "%v in %v, %v in %v", a, p, r.tree.addr(a), q)
				if p.Contains(a) && a.Is4() {
					assert.Equal(t, subnet.Usable(p, a), subnet.Usable(q, r.tree.addr(a)), "%v in %v", a, p)
				}
			}
		}
	}
}

func shared(a, b netip.Addr) int {
	n := 0
	for n < a.BitLen() && netip.PrefixFrom(a, n+1).Masked() == netip.PrefixFrom(b, n+1).Masked() {
		n++
	}
	return n
}

// Who has the key's list turns an answer back.
func TestBack(t *testing.T) {
	r := of(t, Key{7}, line)
	for _, text := range []string{"Look at 172.27.40.23, on 172.27.40.23/24 and [2001:db8:113::80]:443.",
		"02:00:eb:40:4b:4a is ticket-03's; ask bookings.kittiwake.example"} {
		out := r.Text(text)
		assert.Equal(t, text, Back(out, r.Pairs()), out)
	}
	assert.Equal(t, "nothing of this case: 198.51.100.7", Back("nothing of this case: 198.51.100.7", r.Pairs()))
}
