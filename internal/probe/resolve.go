package probe

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/target"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
	"passepartout/internal/nap"
)

// ErrNoAddress is the error for a name that leads to no address.
var ErrNoAddress = errors.New("no address")

// Resolve finds the addresses of a target as the machine's own settings have it: the hosts file, then the resolvers, all at once, the first
// that has one counting. IPv4 comes first. life is how long the answer may be kept; 0 for ever.
func Resolve(ctx context.Context, m machine.Machine, e *endpoint.Endpoint, t target.Target, families evidence.Families) (addrs []netip.Addr,
	life time.Duration, err error) {
	set := evidence.Set{Target: t, Endpoint: e, Families: families}
	if addrs, _ := set.TargetAddresses(); len(addrs) > 0 || t.Addr.IsValid() {
		if !slices.ContainsFunc(addrs, families.Allows) {
			return nil, 0, fmt.Errorf("%s is not of the chosen address family", t.Host())
		}
		return addrs, 0, nil
	}
	servers := e.AskedResolvers()
	if len(servers) == 0 {
		return nil, 0, fmt.Errorf("%s: %w: no name server is set on this machine", t.Name, ErrNoAddress)
	}
	var mu sync.Mutex
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	asked := make([]sync.WaitGroup, len(servers))
	names, _ := e.Completed(t.Name)
	for i, server := range servers {
		for _, name := range names {
			for kind, skip := range map[string]bool{"A": families.No4, "AAAA": families.No6} {
				if skip {
					continue
				}
				asked[i].Go(func() {
					defer guard.Goroutine()
					l := Lookup(ctx, m, server, name, kind)
					mu.Lock()
					set.Lookups = append(set.Lookups, l)
					mu.Unlock()
				})
			}
		}
	}
	for i := range asked { // a server that has the name is not kept waiting for by those that come after it
		asked[i].Wait()
		mu.Lock()
		addrs, _ = set.TargetAddresses()
		mu.Unlock()
		if len(addrs) > 0 {
			break
		}
	}
	cancel()
	for i := range asked {
		asked[i].Wait()
	}
	for _, l := range set.Lookups {
		if len(l.Addresses) > 0 && (life == 0 || l.Life < life) {
			life = max(l.Life, time.Second)
		}
	}
	if len(addrs) == 0 {
		return nil, 0, &Unresolved{Name: t.Name, Servers: servers, Lookups: set.Lookups}
	}
	return addrs, life, nil
}

// Unresolved is the error for a name that no server had an address for.
type Unresolved struct {
	Name    string
	Servers []netip.Addr // those that were asked, in their order
	Lookups []evidence.Lookup
}

func (u *Unresolved) Error() string {
	var why []string
	for _, l := range u.Lookups {
		if line := fmt.Sprintf("%v: %s", l.Server, lookupWords(l)); !slices.Contains(why, line) {
			why = append(why, line)
		}
	}
	slices.Sort(why)
	return fmt.Sprintf("%s: %v (%s); passepartout check tells why", u.Name, ErrNoAddress, strings.Join(why, ", "))
}

// Is reports that it is an ErrNoAddress.
func (u *Unresolved) Is(target error) bool { return target == ErrNoAddress }

// Why is what the first server said, in the same words each time; of several look-ups, what an answer said rather than a silence.
func (u *Unresolved) Why() string {
	said := ""
	for _, l := range u.Lookups {
		if l.Server != u.Servers[0].WithZone("") {
			continue
		}
		if words := lookupWords(l); said == "" || l.Came() {
			said = words
		}
	}
	return said
}

func lookupWords(l evidence.Lookup) string {
	if l.Outcome == evidence.Answered {
		return l.RCode
	}
	return l.Outcome.String()
}

// Names looks addresses up backwards, all at once, within patience; those without a name are left out.
func Names(ctx context.Context, m machine.Machine, servers, addrs []netip.Addr, patience time.Duration) map[netip.Addr]string {
	ctx, cancel := nap.Within(ctx, patience)
	defer cancel()
	out := map[netip.Addr]string{}
	var mu sync.Mutex
	var wg sync.WaitGroup
	for _, a := range addrs {
		for _, server := range servers[:min(len(servers), 2)] {
			wg.Go(func() {
				defer guard.Goroutine()
				l := Lookup(ctx, m, server, ReverseName(a), "PTR")
				if l.Outcome != evidence.Answered || len(l.Aliases) == 0 {
					return
				}
				mu.Lock()
				defer mu.Unlock()
				out[a] = l.Aliases[len(l.Aliases)-1]
			})
		}
	}
	wg.Wait()
	return out
}
