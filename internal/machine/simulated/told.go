package simulated

import (
	"cmp"
	"context"
	"fmt"
	"io/fs"
	"maps"
	"net/netip"
	"slices"
	"time"

	"gvisor.dev/gvisor/pkg/tcpip"

	"passepartout/internal/core/change"
	"passepartout/internal/machine"
	"passepartout/internal/scenario"
)

var _ machine.Changer = (*endpointMachine)(nil)

// Do implements machine.Changer: the simulated machine changes for real, and refuses what a kernel refuses.
func (m *endpointMachine) Do(ctx context.Context, o change.Op) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if o.Do == change.RenewLease || o.Do == change.ReleaseLease {
		return fmt.Errorf("%v: the client of a simulated machine cannot be told", o)
	}
	if m.privilege != Full {
		return fmt.Errorf("%v: %w: it needs cap_net_admin", o, fs.ErrPermission)
	}
	m.node.lock.Lock()
	err := m.do(ctx, o)
	if err == nil {
		m.told = append(m.told, o)
	}
	if err == nil {
		m.ends(context.WithoutCancel(ctx), o)
	}
	m.node.lock.Unlock()
	if err == nil {
		m.notify()
	}
	return err
}

// ends has an address go by itself, or no longer.
func (m *endpointMachine) ends(ctx context.Context, o change.Op) {
	if o.Do != change.AddAddress && o.Do != change.KeepAddress && o.Do != change.RemoveAddress {
		return
	}
	if end := m.lasting[o.Prefix]; end != nil {
		end.Stop()
		delete(m.lasting, o.Prefix)
	}
	if o.For > 0 {
		gone := change.Op{Do: change.RemoveAddress, Interface: o.Interface, Prefix: o.Prefix}
		m.lasting[o.Prefix] = time.AfterFunc(o.For, func() { _ = m.Do(ctx, gone) })
	}
}

func (m *endpointMachine) do(ctx context.Context, o change.Op) error {
	e, err := m.Read(ctx)
	if err != nil {
		return err
	}
	was := change.Of(e)
	is, err := was.Apply(o)
	if err != nil {
		return err
	}
	n := m.node
	spec := described(n.spec(), is)
	for _, p := range n.ports {
		if l, ok := is.Link(p.name); ok {
			p.mtu.Store(int64(l.MTU))
			p.turn(l.Up)
			if l.Up {
				_ = n.stack.EnableNIC(p.id)
			}
		}
	}
	spec.Neighbours = n.pinned(spec.Neighbours, was, is)
	n.take(spec)
	return nil
}

// become changes the machine as the timeline says. What it was told by hand stays, as far as that can be.
func (m *endpointMachine) become(spec *scenario.Node) {
	m.node.become(spec)
	m.node.lock.Lock()
	defer m.node.lock.Unlock()
	for _, o := range m.told {
		_ = m.do(context.Background(), o)
	}
}

// described is a node's description with other settings.
func described(spec *scenario.Node, s change.Settings) *scenario.Node {
	out := *spec
	out.Ports = maps.Clone(spec.Ports)
	for name, p := range out.Ports {
		now := *p
		now.Addresses = slices.Concat(s.On(name, false), s.On(name, true))
		out.Ports[name] = &now
	}
	out.Routes = nil
	for _, r := range spec.Routes { // those that are no settings of the main table
		if r.Refuse != "" || r.Table != 0 || r.Or.IsValid() {
			out.Routes = append(out.Routes, r)
		}
	}
	for _, r := range s.Routes {
		usual := 0
		if r.To.Addr().Is6() {
			usual = 1024 // as Linux has it
		}
		at := slices.IndexFunc(spec.Routes, func(x scenario.Route) bool {
			return x.Refuse == "" && x.Table == 0 && x.To.Masked() == r.To && x.Via == r.Via &&
				cmp.Or(x.Metric, usual) == cmp.Or(r.Metric, usual) && x.Source == r.Source
		})
		if at < 0 {
			out.Routes = append(out.Routes, scenario.Route{To: r.To, Via: r.Via, Port: r.Interface, OnLink: r.OnLink, ByHand: true,
				Metric: r.Metric, Source: r.Source})
		} else if !spec.Routes[at].Or.IsValid() {
			out.Routes = append(out.Routes, spec.Routes[at])
		}
	}
	out.Switching = change.WithSources(spec.Switching, s.Sources)
	// settings leave those by mark alone
	out.Rules = slices.DeleteFunc(slices.Clone(spec.Rules), func(r scenario.Lookup) bool { return r.Mark == 0 })
	for _, r := range s.Rules {
		out.Rules = append(out.Rules, scenario.Lookup{From: r.From, To: r.To, Table: r.Table, Priority: r.Priority})
	}
	out.Hosts = map[string]netip.Addr{}
	for _, h := range s.Hosts {
		out.Hosts[h.Name] = h.Address
	}
	if spec.ResolvConf != "" {
		out.ResolvConf = change.ResolvConf(spec.ResolvConf, s.Resolvers, s.Search)
	} else {
		out.Resolvers, out.Search = s.Resolvers, s.Search
	}
	return &out
}

// pinned brings the entries of the neighbour table that are set by hand to what they shall be, and gives their description.
func (n *node) pinned(entries []scenario.Entry, was, is change.Settings) []scenario.Entry {
	entries = slices.Clone(entries)
	for _, p := range n.ports {
		for _, x := range was.Neighbours {
			if x.Interface == p.name && !slices.Contains(is.Neighbours, x) {
				_ = n.stack.RemoveNeighbor(p.id, protoOf(x.Address), toTCPIP(x.Address))
				entries = slices.DeleteFunc(entries, func(e scenario.Entry) bool { return e.Pinned && e.Address == x.Address })
			}
		}
		for _, x := range is.Neighbours {
			if x.Interface == p.name && !slices.Contains(was.Neighbours, x) {
				_ = n.stack.AddStaticNeighbor(p.id, protoOf(x.Address), toTCPIP(x.Address), tcpip.LinkAddress(x.Hardware[:]))
				entries = append(entries, scenario.Entry{Address: x.Address, Pinned: true})
			}
		}
	}
	return entries
}
