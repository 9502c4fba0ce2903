package dhcplab

import (
	"fmt"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/lease"
)

// TestClientsAgainstServers follows every client through a lease from every server: bound, renewed, rebound, released. At each stage its
// files must tell the lease as the wire had it, and the exchanges must be rebuilt right.
func TestClientsAgainstServers(t *testing.T) {
	if testing.Short() {
		t.Skip("takes half a minute")
	}
	for _, c := range clients {
		for _, s := range servers {
			t.Run(c.program+" and "+s.name, func(t *testing.T) {
				t.Parallel()
				follow(t, c, s)
			})
		}
	}
}

func follow(t *testing.T, c clientKind, s serverKind) {
	l := newLab(t, c.program, s.program, "busybox")
	o := served()
	if c.program == "udhcpc" && s.name != "dnsmasq" {
		o.lease, o.t2 = 12, 10
	}
	l.node("server", "near "+o.address)
	s.start(l, "server", o)
	p := c.start(l)

	latest := func(outcomes ...dhcp.Outcome) *dhcp.Exchange {
		var found *dhcp.Exchange
		for _, e := range l.exchanges() {
			if slices.Contains(outcomes, e.Outcome) {
				found = e
			}
		}
		return found
	}
	l.until("bound", time.Minute, func() bool { return latest(dhcp.BoundTo) != nil && len(l.held()) > 0 })
	check := func(stage string) {
		if c.name == "" {
			return
		}
		var got lease.Lease
		var e *dhcp.Exchange
		l.until(stage+": the file tells the lease", time.Minute, func() bool { // which may be renewed meanwhile
			var ok bool
			e = latest(dhcp.BoundTo, dhcp.Renewed, dhcp.Rebound)
			got, ok = l.inForce()
			return ok && !got.Expires.IsZero() && got.Obtained.Sub(e.Last()).Abs() < noted(c.name)
		})
		checkLease(t, stage, c.name, got, e, l.held())
	}
	bound := latest(dhcp.BoundTo)
	checkBound(t, bound, o)
	check("bound")
	if c.program == "udhcpc" && s.name == "dnsmasq" {
		return // it renews at half the lease whatever T1 is, and this server gives no less than two minutes
	}
	l.until("renewed", time.Minute, func() bool { return latest(dhcp.Renewed, dhcp.Rebound) != nil })
	check("renewed")

	l.onlyBroadcast("172.27.40.2")
	n := len(l.exchanges())
	l.until("rebound", 25*time.Second, func() bool { return latest(dhcp.Rebound) != nil && len(l.exchanges()) > n })
	rebound := latest(dhcp.Rebound)
	assert.Equal(t, bound.Terms.Address, rebound.Terms.Address)
	check("rebound")

	if c.release != nil {
		if c.name == lease.Dhcpcd { // one that is told to release before it has taken the answer ends without a word
			l.until("the client has taken the answer", time.Minute, func() bool {
				got, ok := l.inForce()
				return ok && !got.Obtained.Before(latest(dhcp.Renewed, dhcp.Rebound).Last().Truncate(time.Second))
			})
		}
		c.release(l, p)
		told := time.Now()
		l.until("released", time.Minute, func() bool {
			done := latest(dhcp.Released) != nil
			// a signal that comes while it runs its hooks is now and then lost
			if !done && c.name == lease.Dhcpcd && time.Since(told) > 3*patient*time.Second {
				told = time.Now()
				c.release(l, p)
			}
			return done
		})
		released := latest(dhcp.Released)
		assert.Equal(t, bound.Terms.Address, released.Terms.Address)
	}
	defer func() {
		if !t.Failed() {
			fmt.Printf("real: %s and %s: lease and exchanges right when bound, renewed, rebound and released\n", c.program, s.name)
		}
	}()
	for i, e := range l.exchanges() {
		switch {
		case e.Outcome == dhcp.Unanswered: // the server was not up yet, or the client tries again after the release
			assert.NotEqual(t, dhcp.Ack, e.Steps[len(e.Steps)-1].Message.Type)
		case c.program == ours && dhcp.IsProbe(e.Client, e.XID), c.program == ours && e.Outcome == dhcp.Offered: // it looks before it takes
		case i > 0 && e.Outcome != dhcp.Released:
			assert.Contains(t, []dhcp.Outcome{dhcp.BoundTo, dhcp.Renewed, dhcp.Rebound, dhcp.Refused}, e.Outcome)
		}
		assert.Equal(t, "02:00:00:00:10:11", e.Client.String())
		acks := 0
		for _, step := range e.Steps {
			if step.Message.Type == dhcp.Ack && !step.Copy {
				acks++
			}
		}
		assert.LessOrEqual(t, acks, 1, "one exchange, one acknowledgement: %v", e.Outcome)
	}
}

// noted is how long after the acknowledgement a client may write its lease down: dhcpcd first probes the address, for up to seven seconds.
func noted(client string) time.Duration {
	if client == lease.Dhcpcd {
		return 9 * time.Second
	}
	return 3 * time.Second
}

// checkBound holds the first exchange against what the server is set to give.
func checkBound(t *testing.T, e *dhcp.Exchange, o offering) {
	t.Helper()
	terms := e.Terms
	assert.Equal(t, netip.MustParseAddr("172.27.40.2"), e.Server)
	assert.Equal(t, 24, terms.PrefixLength)
	assert.GreaterOrEqual(t, terms.Address.Compare(netip.MustParseAddr(o.first)), 0)
	assert.LessOrEqual(t, terms.Address.Compare(netip.MustParseAddr(o.last)), 0)
	assert.Equal(t, []netip.Addr{netip.MustParseAddr(o.router)}, terms.Routers)
	assert.Equal(t, []netip.Addr{netip.MustParseAddr("172.27.40.2")}, terms.Resolvers)
	assert.Equal(t, "kittiwake.example", terms.Domain)
	assert.Equal(t, time.Duration(o.lease)*time.Second, terms.Lease)
	assert.Equal(t, time.Duration(o.t1)*time.Second, terms.T1)
	assert.Equal(t, time.Duration(o.t2)*time.Second, terms.T2)
	require.NotEmpty(t, e.Steps)
	assert.Equal(t, dhcp.Bound, e.Steps[len(e.Steps)-1].State)
	for i, want := range []dhcp.Type{dhcp.Discover} {
		assert.Equal(t, want, e.Steps[i].Message.Type)
	}
}

// checkLease holds a client's own account against the exchange on the wire, and against the kernel.
func checkLease(t *testing.T, stage, client string, got lease.Lease, e *dhcp.Exchange, held []lease.Held) {
	t.Helper()
	say := fmt.Sprintf("%s, %s", client, stage)
	assert.Equal(t, client, got.Client, say)
	assert.Equal(t, "eth0", got.Interface, say)
	assert.Equal(t, e.Terms.Address, got.Terms.Address, say)
	assert.Equal(t, e.Terms.PrefixLength, got.Terms.PrefixLength, say)
	assert.Equal(t, e.Terms.Routers, got.Terms.Routers, say)
	assert.Equal(t, e.Terms.Resolvers, got.Terms.Resolvers, say)
	assert.Equal(t, e.Terms.Domain, got.Terms.Domain, say)
	assert.Equal(t, e.Server, got.Terms.Server, say)
	assert.Equal(t, e.Terms.Lease, got.Terms.Lease, say)
	assert.WithinDuration(t, e.Last().Add(e.Terms.Lease), got.Expires, noted(client), say)
	if client != lease.NetworkManager { // whose file does not keep T1 and T2
		assert.WithinDuration(t, e.Last().Add(e.Terms.T1), got.T1, noted(client), say)
		assert.WithinDuration(t, e.Last().Add(e.Terms.T2), got.T2, noted(client), say)
	}
	assert.Equal(t, lease.Bound, got.At(got.Obtained.Add(time.Second)), say)
	assert.Equal(t, lease.Expired, got.At(got.Expires), say)
	assert.Equal(t, got.Terms.Prefix(), held[0].Address, say)
}
