package plan

import (
	"context"
	"net/netip"
	"slices"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/fault"
	"passepartout/internal/probe"
)

var nameSteps = []*step{
	{brings: kinds(evidence.NameLookup), of: lookups, until: lookedUp, ask: (*run).lookUp},
	{test: "named-servers", brings: kinds(evidence.Handoffs), of: otherServers, needless: nameAnswered, until: otherServerOver,
		ask: (*run).lookUpElsewhere},
	{brings: kinds(evidence.ServiceConnect), after: kinds(evidence.NameLookup), of: silentServersElsewhere,
		needless: nameAnswered, ask: (*run).lookUpBy},
}

// naming asks what the addresses that were met are called. It is for a screen, when all else is known, and no verdict waits for it.
var naming = &step{ask: (*run).names}

// lookups are the questions that every name server is asked, over whichever family: -4 and -6 are about the target. Whether it lives is
// asked of each.
func lookups(m *moment) (out []subject) {
	servers := m.Endpoint.AskedResolvers()
	ask := func(name, kind string) {
		for _, server := range servers {
			out = append(out, subject{addr: server, name: name, kind: kind})
		}
	}
	ask("", probe.Life)
	if m.Target.Name == "" {
		// Any message in answer shows that the service lives; the question is one that every resolver gets and that leaves no trace.
		if own := ownAddress(m); own.IsValid() {
			ask(probe.ReverseName(own), "PTR")
		}
		return out
	}
	kinds := addressKinds(m)
	if !withIPv4(m) { // its addresses may be a translator's
		ask("ipv4only.arpa", evidence.DNS64)
	}
	names, asIs := m.Endpoint.Completed(m.Target.Name)
	if asIs == 0 && !failed(m, names[0], kinds) { // it is completed only when it leads to nothing as it stands
		names = names[:1]
	}
	for _, name := range names {
		for _, kind := range kinds {
			ask(name, kind)
		}
	}
	return out
}

// addressKinds are the types of record that are asked for.
func addressKinds(m *moment) (kinds []string) {
	if !m.Families.No4 {
		kinds = append(kinds, "A")
	}
	if !m.Families.No6 && (len(m.Endpoint.DefaultRoutes(true)) > 0 || ownAddress(m).Is6()) {
		kinds = append(kinds, "AAAA")
	}
	return kinds
}

// failed reports whether a server has said all about a name, and no address has come of it: that it does not exist, that it cannot be
// looked up, or that it has no address of any family. That it has none of one family says nothing while the answer about the other is
// missing.
func failed(m *moment, name string, kinds []string) bool {
	if len(m.Addresses) > 0 {
		return false
	}
	answers := map[netip.Addr]int{}
	for _, l := range m.Lookups {
		if l.Name != name || !l.AboutTarget() || l.Outcome != evidence.Answered {
			continue
		}
		if answers[l.Server]++; l.RCode != "NOERROR" || answers[l.Server] == len(kinds) {
			return true
		}
	}
	return false
}

// ownAddress is one of this machine's, an IPv4 one if there is any.
func ownAddress(m *moment) netip.Addr {
	for _, v6 := range []bool{false, true} {
		for _, i := range m.Endpoint.Interfaces {
			for _, a := range i.Usable(v6) {
				return a.Prefix.Addr()
			}
		}
	}
	return netip.Addr{}
}

// lookedUp: nobody waits for a server whose machine is not there, nor longer than usual for one on which nothing hangs.
func lookedUp(m *moment, s subject) (bool, time.Duration) {
	silent := slices.ContainsFunc(m.Lookups, func(l evidence.Lookup) bool {
		return l.Server == s.addr.WithZone("") && l.Name == s.name && l.Type == s.kind && l.Outcome == evidence.Silent
	})
	return gone(m, s.addr) || silent && !maySlow(m, s), 0
}

// maySlow reports whether the answer to a question about the target may be late and would change what is said: nobody else has answered it,
// and the server can be reached, as far as is known.
func maySlow(m *moment, s subject) bool {
	if !m.NeedsName() || len(m.Addresses) > 0 || s.kind == probe.Life || s.kind == "PTR" || s.kind == evidence.DNS64 || nameAnswered(m) &&
		!allMute(m) {
		return false
	}
	for _, r := range m.Routers(s.addr) {
		if _, through := m.HandedTo(r.Address, s.addr); through {
			return false // it is there, by another router than the one that is taken
		}
	}
	for _, f := range []*fault.Fault{fault.ResolverSilentLocal, fault.ResolverSilent} {
		if f.Judge(m.Facts).Standing == fault.Supported {
			return true
		}
	}
	return allMute(m) || m.IsOpen(evidence.Handoffs) // whether there is anybody at all
}

// allMute reports whether every server that programs ask keeps silent or lives and says nothing of the name, and not since nobody is there
// whom it could ask itself.
func allMute(m *moment) bool {
	mute, behind, there := false, false, false
	for _, r := range m.Resolvers {
		mute = mute || r.Mute
		if r.Speaks == facts.Yes && !r.Mute {
			return false
		}
		behind = behind || r.Behind
		there = there || r.Behind && !r.Closed && !gone(m, r.Address)
	}
	return mute && (there || !behind)
}

// patience is how long the system waits for a server that keeps silent, within bounds.
func (r *run) patience() time.Duration {
	timeout, attempts := r.endpoint.Asking.Patience()
	return min(timeout*time.Duration(attempts), probe.LongestLookup)
}

func (r *run) lookUp(ctx context.Context, s subject) {
	quiet := func(l evidence.Lookup) { r.observe(l) }
	if l := probe.LookupPatiently(ctx, r.Machine, s.addr, s.name, s.kind, r.patience(), quiet); !r.stopped() || l.Came() {
		r.observe(l)
	}
}

// nameAnswered reports whether any of the servers that are set has answered.
func nameAnswered(m *moment) bool {
	return slices.ContainsFunc(m.Lookups, func(l evidence.Lookup) bool { return l.Outcome == evidence.Answered })
}

// withIPv4: what reaches IPv4 addresses by itself needs no translator.
func withIPv4(m *moment) bool {
	return !m.Families.No4 && (len(m.Endpoint.DefaultRoutes(false)) > 0 || ownAddress(m).Is4())
}

// silentServersElsewhere are name servers that keep silent by the way that the system takes, each with another interface that has a gateway
// of its own: names have a way as the target has.
func silentServersElsewhere(m *moment) (out []subject) {
	if m.Target.Name == "" {
		return nil
	}
	for _, r := range m.Resolvers {
		if r.Speaks != facts.No || r.OnLink {
			continue
		}
		for _, i := range m.otherWaysOut(r.Address, m.Endpoint.Leaves(r.Address)) {
			out = append(out, subject{addr: r.Address, iface: i})
		}
	}
	return out
}

func (r *run) lookUpBy(ctx context.Context, s subject) {
	if l := probe.LookupBy(ctx, r.Machine, s.addr, "", probe.Life, s.iface); ctx.Err() == nil || l.Came() {
		r.observe(evidence.OtherWay{Interface: s.iface, To: netip.AddrPortFrom(s.addr, 53), Reply: l.Reply})
	}
}

// otherServers are those that are named and not set, the gateway and the DHCP servers: many serve names as well, and one that knows the
// target's shows that the servers set are the wrong ones.
func otherServers(m *moment) (out []subject) {
	if m.Target.Name == "" || m.Source == "hosts file" || m.Families.No4 {
		return nil
	}
	candidates, _ := m.ResolversNamed()
	candidates = append(candidates, m.RoutersNamed()...)
	if l, ok := m.Lease(); ok {
		candidates = append(candidates, l.Terms.Server)
	}
	offers, _ := m.OffersSeen()
	for _, o := range offers {
		candidates = append(candidates, o.Server)
	}
	set := m.Endpoint.AskedResolvers()
	for _, a := range candidates {
		if s := (subject{addr: a}); a.IsValid() && !slices.Contains(set, a) && !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}

// otherServerOver: when one has given an address, the others are waited for no longer than it took, and a grace.
func otherServerOver(m *moment, s subject) (bool, time.Duration) {
	for _, l := range m.Elsewhere {
		if len(l.Addresses) > 0 {
			return true, l.RTT + echoGrace
		}
	}
	return gone(m, s.addr), 0
}

func (r *run) lookUpElsewhere(ctx context.Context, s subject) {
	if l := probe.Lookup(ctx, r.Machine, s.addr, r.Target.Name, "A"); ctx.Err() == nil || l.Came() {
		r.observe(evidence.ElsewhereLookup(l))
	}
}

// names looks up what the addresses that were met are called.
func (r *run) names(ctx context.Context, _ subject) {
	const patience = 2 * time.Second // the verdict has been reached: only the names on the screen wait for it
	f := facts.New(r.snapshot())
	addrs := slices.Concat(f.Others, f.Outside)
	for _, v6 := range []bool{false, true} {
		if gw, ok := r.endpoint.Gateway(r.iface, v6); ok {
			addrs = append(addrs, gw)
		}
	}
	var servers []netip.Addr
	for _, x := range f.Resolvers {
		if x.Speaks == facts.Yes {
			servers = append(servers, x.Address)
		}
	}
	for a, name := range probe.Names(ctx, r.Machine, servers, addrs, patience) {
		r.observe(evidence.Named{Address: a, Name: name})
	}
}
