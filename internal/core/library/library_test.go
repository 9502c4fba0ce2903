package library_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/library"
)

var (
	first, second = netip.MustParseAddr("172.27.40.2"), netip.MustParseAddr("203.0.113.53")
	bookings      = netip.MustParseAddr("203.0.113.80")
)

// How long a program waits for a name: what outcome and order of questions are is held against the system's own library, in machine/linux.
func TestHowLongAProgramWaits(t *testing.T) {
	answer := func(q library.Question) library.Reply {
		r := library.Reply{Fate: library.Message, RCode: "NOERROR", After: 2 * time.Millisecond}
		if q.Type == "A" {
			r.Addresses = []netip.Addr{bookings}
		}
		return r
	}
	silence := func(library.Question) library.Reply { return library.Reply{Fate: library.Silence} }
	at := func(server netip.Addr, odd func(library.Question) library.Reply) func(library.Question) library.Reply {
		return func(q library.Question) library.Reply {
			if q.Server == server {
				return odd(q)
			}
			return answer(q)
		}
	}
	for _, c := range []struct {
		name    string
		servers []netip.Addr
		asking  endpoint.Asking
		ask     func(library.Question) library.Reply
		want    library.Status
		took    time.Duration
		asked   int
	}{
		{"all is well", []netip.Addr{first, second}, endpoint.Asking{}, answer, library.Found, 2 * time.Millisecond, 2},
		{"the first keeps silent", []netip.Addr{first, second}, endpoint.Asking{}, at(first, silence), library.Found,
			5002 * time.Millisecond, 4},
		{"the first keeps silent, and the system is impatient", []netip.Addr{first, second}, endpoint.Asking{Timeout: time.Second},
			at(first, silence), library.Found, 1002 * time.Millisecond, 4},
		{"the second keeps silent", []netip.Addr{first, second}, endpoint.Asking{}, at(second, silence), library.Found,
			2 * time.Millisecond, 2},
		{"the only one keeps silent", []netip.Addr{first}, endpoint.Asking{}, silence, library.TryAgain, 10 * time.Second, 4},
		{"both keep silent", []netip.Addr{first, second}, endpoint.Asking{}, silence, library.TryAgain, 20 * time.Second, 8},
		{"silence about one family", []netip.Addr{first}, endpoint.Asking{}, func(q library.Question) library.Reply {
			if q.Type == "AAAA" {
				return silence(q)
			}
			return answer(q)
		}, library.Found, 15 * time.Second, 6},
		{"the only one is closed", []netip.Addr{first}, endpoint.Asking{},
			func(library.Question) library.Reply { return library.Reply{Fate: library.Refused} }, library.TryAgain, 0, 4},
		{"no server is set", nil, endpoint.Asking{}, silence, library.TryAgain, 0, 0},
		{"a fate that is not known", []netip.Addr{first}, endpoint.Asking{},
			func(library.Question) library.Reply { return library.Reply{} }, library.NotKnown, 0, 2},
	} {
		e := &endpoint.Endpoint{Asking: c.asking}
		for _, a := range c.servers {
			e.Resolvers = append(e.Resolvers, endpoint.Resolver{Address: a})
		}
		got := library.Resolve(library.Of(e, "bookings.kittiwake.example"), c.ask)
		assert.Equal(t, c.want, got.Status, c.name)
		assert.Equal(t, c.took, got.Took, c.name)
		assert.Len(t, got.Asked, c.asked, c.name)
		assert.Equal(t, c.want == library.Found, len(got.Addresses) > 0, c.name)
	}
}

func TestAServiceBehindAStubIsNotAskedByPrograms(t *testing.T) {
	e := &endpoint.Endpoint{Resolvers: []endpoint.Resolver{{Address: netip.MustParseAddr("127.0.0.53"), Stub: true},
		{Address: first, Behind: true}}}
	assert.Equal(t, []netip.Addr{netip.MustParseAddr("127.0.0.53")}, library.Of(e, "bookings").Servers)
}
