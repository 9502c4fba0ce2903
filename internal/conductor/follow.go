package conductor

import (
	"context"
	"fmt"
	"net/netip"
	"time"

	"passepartout/internal/core/blame"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/event"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/lease"
	"passepartout/internal/core/series"
	"passepartout/internal/core/state"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
	"passepartout/internal/guard"
	"passepartout/internal/machine/shared"
	"passepartout/internal/probe"
	"passepartout/internal/probe/plan"
	"passepartout/internal/probe/watch"
)

// The pace of what is watched. Together at most five small packets a second leave the machine: the gateway each second, the first station
// beyond and the target every other, name servers every four, and a trial of the target every three.
const (
	step          = 2 * time.Second // of the attribution of losses: each witness is asked within it
	gatewayEvery  = time.Second
	witnessEvery  = step
	besidesEvery  = 2 * step
	trialEvery    = 3 * time.Second
	requestEvery  = 15 * time.Second // a URL is not only connected to, but asked for; while it fails, at each trial
	settingsEvery = 2 * time.Second  // files of settings give no notice
	lookEvery     = time.Second      // at outages
)

// matters translate the aspects of settings.
var matters = map[endpoint.Aspect]event.Matter{
	endpoint.AspectLink: event.Link, endpoint.AspectAddress: event.Address, endpoint.AspectRoute: event.Route,
	endpoint.AspectResolver: event.Resolver,
	endpoint.AspectHosts:    event.Hosts, endpoint.AspectProxy: event.Proxy, endpoint.AspectLease: event.Lease,
}

// followMachine takes note of what changes on the machine: at the kernel's notice, and by looking.
func (c *Conductor) followMachine() {
	notices, err := c.machine.Watch(c.ctx)
	if err != nil {
		notices = nil // then it is only looked
	}
	ticker := time.NewTicker(settingsEvery)
	defer ticker.Stop()
	for {
		select {
		case <-c.ctx.Done():
			return
		case _, open := <-notices:
			if !open {
				notices = nil
				continue
			}
			if !probe.Sleep(c.ctx, quietFor/3) { // a notice seldom comes alone
				return
			}
		case <-ticker.C:
		}
		began := time.Now()
		c.readMachine()
		probe.Rest(c.ctx, began)
	}
}

func (c *Conductor) readMachine() {
	ctx, cancel := context.WithTimeout(c.ctx, settingsEvery)
	defer cancel()
	now, err := c.machine.Read(ctx)
	if err != nil {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	was := c.state.Endpoint
	if was == nil {
		return // the tests have not read it yet
	}
	iface := c.state.Round.Set.Interface
	for _, d := range endpoint.Differences(was, now) {
		c.add(event.Changed{Of: matters[d.In], What: d.What, Endpoint: now, Void: d.Broken && d.In == endpoint.AspectLink &&
			concerns(was, iface), Quiet: d.Renewed && len(c.state.Verdict.Result.Also) == 0})
	}
	c.leasePhases(now)
}

// concerns reports whether an interface that the tests were about exists.
func concerns(e *endpoint.Endpoint, iface string) bool {
	_, ok := e.Interface(iface)
	return ok
}

// leasePhases tells when a lease has come into another phase of its life (RFC 2131 §4.4.5): nobody tells of that, it is the clock.
func (c *Conductor) leasePhases(now *endpoint.Endpoint) {
	was := c.state.Endpoint
	for i := range now.Leases {
		l := &now.Leases[i]
		if !l.InForce || l.Endless {
			continue
		}
		is, before := l.At(now.At), l.At(was.At)
		if is == before {
			continue
		}
		switch is {
		case lease.Rebinding:
			c.add(event.Changed{Of: event.Lease, Endpoint: now,
				What: fmt.Sprintf("the lease of %v is past T2, and nobody has renewed it: it ends at %s", l.Terms.Address,
					wording.Clock(l.Expires.Local()))})
		case lease.Expired:
			c.add(event.Changed{Of: event.Lease, Endpoint: now, What: fmt.Sprintf("the lease of %v has run out", l.Terms.Address)})
		case lease.Renewing:
			c.add(event.Changed{Of: event.Lease, Endpoint: now, Quiet: true,
				What: fmt.Sprintf("the lease of %v is due for renewal since %s", l.Terms.Address, wording.Clock(l.T1.Local()))})
		}
	}
}

// followTarget tries the target again and again.
func (c *Conductor) followTarget() {
	if c.Target.IsZero() {
		return
	}
	timer := time.NewTimer(0)
	defer timer.Stop()
	var requested time.Time
	for {
		select {
		case <-c.ctx.Done():
			return
		case <-c.hurry:
		case <-timer.C:
		}
		s := c.State()
		if s.Verdict.Standing == state.NoVerdict || s.Endpoint == nil {
			timer.Reset(100 * time.Millisecond)
			continue
		}
		request := s.Verdict.Result.Zone != zone.None || s.Verdict.Standing != state.Current || time.Since(requested) >= requestEvery
		if request {
			requested = time.Now()
		}
		c.try(&s, request)
		timer.Reset(trialEvery)
	}
}

// The patience of a trial follows how long it took when it worked: silence is asked about again soon, and then waited for longer.
const (
	leastPatience = 400 * time.Millisecond
	mostPatience  = 1600 * time.Millisecond
	tryAgain      = 100 * time.Millisecond
)

// try tries the target; what it does not answer is tried once more at once, since one packet may be lost.
func (c *Conductor) try(s *state.State, request bool) {
	patience := mostPatience
	if s.Trial.Works {
		patience = min(max(3*c.took+200*time.Millisecond, leastPatience), mostPatience)
	}
	for range 2 {
		sent := time.Now()
		u := probe.TryUse(c.ctx, c.machine, s.Endpoint,
			probe.UseQuestion{Target: c.Target, Families: c.Families, Request: request, Patience: patience})
		if c.ctx.Err() != nil {
			return
		}
		if u.Works {
			c.took = u.Took
		}
		c.post(event.Tried{Sent: sent, Works: u.Works, Step: u.Step, What: u.What, Took: u.Took})
		now := c.State()
		if u.Works || now.Trial.Outcome() == u.Step+": "+u.What || !probe.Sleep(c.ctx, tryAgain) {
			return
		}
		patience = min(2*patience, mostPatience)
	}
}

// witness takes the witnesses under watch that the evidence names, and gives up those that it does not name any more.
func (c *Conductor) witness() {
	c.naming.Lock()
	defer c.naming.Unlock()
	c.mu.Lock()
	set := c.state.Round.Set
	w := c.watcher
	if w == nil && c.ctx.Err() == nil {
		w = watch.New(c.ctx, watch.Config{Machine: c.machine, Interface: c.Interface, Asleep: c.Asleep, Step: step, Ended: c.probed})
		c.watcher = w
		c.wg.Go(func() {
			defer guard.Goroutine()
			c.followOutages(w)
		})
	}
	c.mu.Unlock()
	if w == nil || set.Endpoint == nil {
		return
	}
	named := map[string]bool{}
	for _, spec := range plan.Witnesses(&set, c.hasAnswered) {
		key := spec.Target.String()
		named[key] = true
		switch {
		case spec.Zone == zone.Host, spec.Zone == zone.LocalSubnet && spec.Rank > 0:
			spec.Interval = gatewayEvery
		case spec.Rank > 0:
			spec.Interval = witnessEvery
		default:
			spec.Interval = besidesEvery
		}
		c.mu.Lock()
		id, known := c.known[key]
		c.mu.Unlock()
		if known {
			w.Rename(id, spec.Label)
			w.Rank(id, spec.Zone, spec.Rank)
		}
		if told := (event.Watched{Witness: key, Name: spec.Name(), Zone: spec.Zone, Rank: spec.Rank}); c.told[key] != told {
			c.told[key] = told
			c.post(told)
		}
		if known {
			continue
		}
		id, ok := w.Add(spec)
		if ok {
			c.mu.Lock()
			c.known[key] = id
			c.mu.Unlock()
		}
	}
	for key, id := range c.leaving(&set, named) {
		w.Remove(id)
		delete(c.told, key)
		c.post(event.Watched{Witness: key, Name: key}) // it stands for no zone any more
	}
}

// leaving are the witnesses that this machine has nothing to do with any more: gateways and name servers that are not set. Others stay,
// also when the evidence does not name them: it may be that just now they cannot be seen. They are forgotten by what they are told apart
// by, so that they can come back.
func (c *Conductor) leaving(set *evidence.Set, named map[string]bool) map[string]int {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := map[string]int{}
	for _, w := range c.state.Witness {
		id, watched := c.known[w.ID]
		if watched && !named[w.ID] && (w.Rank == 0 || w.Zone == zone.LocalSubnet && w.ID != c.Target.String()) && set.Endpoint != nil {
			out[w.ID] = id
			delete(c.known, w.ID)
		}
	}
	return out
}

// hasAnswered reports whether an address has ever answered what the watch asked.
func (c *Conductor) hasAnswered(a netip.Addr) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.answered[a]
}

// probed takes note of the end of a probe to a witness. It is called under the watcher's lock.
func (c *Conductor) probed(x *watch.Subject, r watch.Result) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if r.Fate == series.Replied && !c.answered[x.Address] {
		c.answered[x.Address] = true
		if x.Rank == 0 && x.Zone == zone.LocalSubnet { // it may have been passed over because the tests saw no echo of it
			c.wg.Go(func() {
				defer guard.Goroutine()
				c.witness()
			})
		}
	}
	if x.Rank == 0 || r.Again {
		return
	}
	if _, witness := c.known[x.Target.String()]; !witness {
		return
	}
	c.add(event.Probed{Witness: x.Target.String(), Sent: r.SentAt, Fate: r.Fate, RTT: r.RTT})
	if r.Fate.Lost() {
		token(c.hurry) // is it the one packet, or more?
	}
}

// followOutages takes note of outages as the ledger finds them.
func (c *Conductor) followOutages(w *watch.Watcher) {
	for probe.Sleep(c.ctx, lookEvery) {
		var found []event.Outage
		w.See(func(now time.Duration, _ []*watch.Subject, l *blame.Ledger) {
			all := l.Outages()
			for _, o := range all[max(len(all)-2, 0):] {
				e := event.Outage{Zone: o.Zone, From: w.Clock(o.From), Evidence: o.Evidence()}
				if over := o.To + 2*step; l.Until() > over {
					e.To = w.Clock(o.To)
				}
				found = append(found, e)
			}
		})
		for _, o := range found {
			c.mu.Lock()
			if was, known := c.outages[o.From]; !known || was.To.IsZero() && !o.To.IsZero() {
				c.outages[o.From] = o
				c.add(o)
			}
			c.mu.Unlock()
		}
	}
}

// gap takes note of a time in which the segment could not be heard.
func (c *Conductor) gap(g shared.Gap) {
	what := fmt.Sprintf("nothing is heard on %s: %s", g.Interface, g.Why)
	if !g.To.IsZero() {
		what = fmt.Sprintf("%s is heard again, after %.0f s", g.Interface, g.To.Sub(g.From).Seconds())
	}
	c.post(event.Changed{Of: event.Hearing, What: what, Quiet: true})
}
