package tui

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"passepartout/internal/acting"
	"passepartout/internal/core/change"
)

// handle is one thing that can be set by hand, with how it is now.
type handle struct {
	name  string
	is    func(s *change.Settings, iface string) string // "": there is none
	does  string                                        // what is done with what has no value of its own
	enter func(m *model) tea.Cmd                        // sets it
	takes func(o change.Op) bool                        // what of it can be taken away; nil: nothing
}

// handles are all of them, in the order in which they are shown.
var handles []handle

func init() { // they lead to entries, and those to handles
	both := func(name string, is func(s *change.Settings, iface string, v6 bool) string) (out []handle) {
		for _, v6 := range []bool{false, true} {
			full := name
			if v6 {
				full = "IPv6 " + name
			}
			out = append(out, handle{name: full, is: func(s *change.Settings, iface string) string { return is(s, iface, v6) },
				enter: func(m *model) tea.Cmd { return m.typeSettings(v6) },
				takes: func(o change.Op) bool {
					own := o.Do == change.RemoveAddress && name == "address" ||
						o.Do == change.RemoveRoute && name == "gateway" && o.Prefix.Bits() == 0
					return own && o.Prefix.Addr().Is6() == v6
				}})
		}
		return out
	}
	address := both("address", func(s *change.Settings, iface string, v6 bool) string { return joined(s.On(iface, v6)) })
	gateway := both("gateway", func(s *change.Settings, iface string, v6 bool) string {
		var ways []string
		for _, r := range s.Routes {
			if r.IsDefault() && r.To.Addr().Is6() == v6 {
				ways = append(ways, wayWords(r, iface))
			}
		}
		return strings.Join(ways, ", ")
	})
	handles = []handle{
		{name: "switched", is: func(s *change.Settings, iface string) string {
			l, _ := s.Link(iface)
			return map[bool]string{true: "on", false: "off"}[l.Up]
		}, enter: (*model).switchOver},
		address[0], gateway[0], address[1], gateway[1],
		{name: "name servers", is: func(s *change.Settings, _ string) string { return joined(s.Resolvers) },
			enter: func(m *model) tea.Cmd { return m.typeSettings(false) }},
		{name: "search list", is: func(s *change.Settings, _ string) string { return strings.Join(s.Search, " ") },
			enter: (*model).typeSearch},
		{name: "MTU", is: func(s *change.Settings, iface string) string {
			l, _ := s.Link(iface)
			return fmt.Sprintf("%d octets", l.MTU)
		}, enter: (*model).typeMTU},
		{name: "other routes", is: otherRoutes, enter: (*model).typeRoute,
			takes: func(o change.Op) bool { return o.Do == change.RemoveRoute && o.Prefix.Bits() > 0 }},
		{name: "rules", is: func(s *change.Settings, _ string) string { return joined(s.Rules) },
			takes: func(o change.Op) bool { return o.Do == change.RemoveRule }},
		{name: "hosts file", is: func(s *change.Settings, _ string) string { return joined(s.Hosts[:min(len(s.Hosts), 4)]) },
			takes: func(o change.Op) bool { return o.Do == change.RemoveHost }},
		{name: "fixed entries", is: func(s *change.Settings, _ string) string {
			var fixed []string
			for _, n := range s.Neighbours {
				fixed = append(fixed, fmt.Sprintf("%v at %v", n.Address, n.Hardware))
			}
			return strings.Join(fixed, ", ")
		}, enter: (*model).typeNeighbour, takes: func(o change.Op) bool { return o.Do == change.RemoveNeighbour }},
		{name: "lease", does: "renewed, or taken where nobody manages the interface", enter: (*model).renewHere},
		{name: "further address", does: "beside those above, as long as you say", enter: (*model).typeAddress},
		{name: "a device", does: "in another network on this segment: reached for a while from a second address",
			enter: (*model).typeDevice},
	}
}

// handleOf is where a view's matter stands among the handles, and false where it has none.
func handleOf(v *view) (int, bool) {
	i := slices.IndexFunc(handles, func(h handle) bool { return h.name == v.sets })
	return i, i >= 0
}

func otherRoutes(s *change.Settings, iface string) string {
	var routes []string
	for _, r := range s.Routes {
		if !r.IsDefault() {
			routes = append(routes, r.To.String()+" "+wayWords(r, iface))
		}
		if len(routes) == 3 {
			break
		}
	}
	return strings.Join(routes, ", ")
}

// here is the interface that is meant, and the settings: those of the draft, or those that there are.
func (m *model) here() (s change.Settings, iface string, ok bool) {
	e := m.endpoint()
	if e == nil || m.set.Interface == "" {
		return s, "", false
	}
	if d := m.acts.draft; d != nil {
		return d.plan.To, d.iface, true
	}
	return change.Of(e), m.set.Interface, true
}

// typeWords asks for a change in words, and looks at it.
func (m *model) typeWords(label, preset string, of func(words []string, iface string) (change.Proposal, error)) tea.Cmd {
	_, iface, ok := m.here()
	if !ok {
		return nil
	}
	return m.openEntry(label, preset, func(text string) (tea.Cmd, error) {
		words := strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == ',' })
		p, err := of(words, iface)
		if err != nil {
			return nil, err
		}
		return m.lookAt(p)
	})
}

// typeSettings asks for an interface's settings of one family, those that are there given.
func (m *model) typeSettings(v6 bool) tea.Cmd {
	s, iface, _ := m.here()
	words := []string{}
	if own := s.On(iface, v6); len(own) > 0 {
		words = append(words, own[0].String())
		if gw, ok := gatewayOf(s, iface, v6); ok {
			words = append(words, gw.String())
			for _, r := range s.Resolvers {
				words = append(words, r.String())
			}
		}
	}
	return m.typeWords("address/length gateway name servers:", strings.Join(words, " "),
		func(words []string, iface string) (change.Proposal, error) {
			s, err := change.ParseStatic(words, iface)
			return change.Proposal{Title: "Set " + iface + " by hand", From: "you", Change: change.Change{Set: s}}, err
		})
}

// byStep is a proposal of one step.
func byStep(o change.Op) change.Proposal {
	return change.Proposal{Title: "By hand: " + o.String(), From: "you", Change: change.Change{Steps: []change.Op{o}}}
}

func (m *model) typeSearch() tea.Cmd {
	s, _, _ := m.here()
	return m.typeWords("domains with which short names are completed:", strings.Join(s.Search, " "),
		func(words []string, iface string) (change.Proposal, error) {
			o, err := change.ParseSearch(words, iface, s.Resolvers)
			return byStep(o), err
		})
}

func (m *model) typeMTU() tea.Cmd {
	s, iface, _ := m.here()
	l, _ := s.Link(iface)
	return m.typeWords("octets of the largest packet:", fmt.Sprint(l.MTU), func(words []string, iface string) (change.Proposal, error) {
		n, err := change.ParseMTU(strings.Join(words, " "))
		return byStep(change.Op{Do: change.SetMTU, Interface: iface, MTU: n}), err
	})
}

// typeRoute asks for a route; that to the target by the gateway is given.
func (m *model) typeRoute() tea.Cmd {
	s, iface, _ := m.here()
	preset := ""
	if addrs, _ := m.set.TargetAddresses(); len(addrs) > 0 {
		if gw, ok := gatewayOf(s, iface, addrs[0].Is6()); ok {
			preset = fmt.Sprintf("%v %v", netip.PrefixFrom(addrs[0], addrs[0].BitLen()), gw)
		}
	}
	return m.typeWords("prefix router metric:", preset, func(words []string, iface string) (change.Proposal, error) {
		o, err := change.ParseRoute(words, iface)
		return byStep(o), err
	})
}

// typeNeighbour asks for an entry; the neighbour that was chosen in the view on them is given.
func (m *model) typeNeighbour() tea.Cmd {
	preset := ""
	if v := m.neighbours(); v != nil && v.chosen.IsValid() {
		preset = v.chosen.String()
		for _, r := range m.segment().Rows {
			if r.Address == v.chosen && !r.Hardware.IsZero() {
				preset += " " + r.Hardware.String()
			}
		}
	}
	return m.typeWords("address hardware-address:", preset, func(words []string, iface string) (change.Proposal, error) {
		o, err := change.ParseNeighbour(words, iface)
		return byStep(o), err
	})
}

func (m *model) typeAddress() tea.Cmd {
	return m.typeWords("address/length:", "", func(words []string, iface string) (change.Proposal, error) {
		p, err := change.ParsePrefix(strings.Join(words, " "))
		return byStep(change.Op{Do: change.AddAddress, Interface: iface, Prefix: p}), err
	})
}

// typeDevice asks for a device in another network, and finds an address from which it can be reached.
func (m *model) typeDevice() tea.Cmd {
	e := m.endpoint()
	_, iface, ok := m.here()
	if !ok {
		return nil
	}
	return m.openEntry("the device's address:", "", func(text string) (tea.Cmd, error) {
		device, err := change.ParseDevice(text)
		if err != nil {
			return nil, err
		}
		if _, err := change.Beside(device, 1); err != nil {
			return nil, err
		}
		m.acts.says = "a free address next to " + device.Addr().String() + " is looked for …"
		ctx, machine := m.ctx, m.case_.Machine()
		return m.inBackground("a free address is looked for", func() func(*model) tea.Cmd {
			c, err := acting.Visit(ctx, machine, e, iface, device, change.UsualVisit)
			return func(m *model) tea.Cmd {
				if err != nil {
					m.acts.says = err.Error()
					return nil
				}
				title := fmt.Sprintf("Reach %v for %.0f minutes", device.Addr(), change.UsualVisit.Minutes())
				p := change.Proposal{Title: title, From: "you", Change: c}
				cmd := m.lookOr(p)
				if d := m.acts.draft; d != nil {
					d.visits = device.Addr()
				}
				return cmd
			}
		}), nil
	})
}

func (m *model) switchOver() tea.Cmd {
	s, iface, _ := m.here()
	l, ok := s.Link(iface)
	if !ok {
		return nil
	}
	do := map[bool]change.Do{true: change.SwitchOff, false: change.SwitchOn}[l.Up]
	return m.lookOr(byStep(change.Op{Do: do, Interface: iface}))
}

// takeAway looks at what of a handle is taken away; which one of several is asked.
func (m *model) takeAway(h handle) tea.Cmd {
	s, iface, ok := m.here()
	if !ok || h.takes == nil {
		return nil
	}
	m.acts.removals = slices.DeleteFunc(s.Removals(iface), func(o change.Op) bool { return !h.takes(o) })
	switch len(m.acts.removals) {
	case 0:
		m.acts.says = h.name + ": there is nothing that could be taken away."
		return nil
	case 1:
		return m.lookOr(byStep(m.acts.removals[0]))
	}
	m.acts.says, m.picked = "", 0
	m.lay(removalsLayer)
	return nil
}

func (m *model) removalNames() (out []string) {
	for _, o := range m.acts.removals {
		out = append(out, o.String())
	}
	return out
}

func (m *model) pressRemovals(k tea.KeyPressMsg) tea.Cmd {
	return m.pressInList(k, &m.picked, m.removalNames(), func(string) tea.Cmd {
		m.close(removalsLayer)
		return m.lookOr(byStep(m.acts.removals[m.picked]))
	}, func() { m.close(removalsLayer) })
}

// removalList lets one of several things be taken away.
func (m *model) removalList() []string {
	return m.choicePage("What is to be taken away?", "Nothing is done before you have seen the plan.", m.removalNames(), nil, "look at it")
}

// handleRows are what can be set by hand, each as it is now: as many as there is room for, with the one that is picked among them.
func (m *model) handleRows(s change.Settings, room int) (lines []string) {
	t, iface := m.theme, m.set.Interface
	at := m.acts.picked - len(m.result.Mends)
	first := min(max(at-room+1, 0), max(len(handles)-room, 0))
	for i, h := range handles {
		if i < first || i >= first+room {
			continue
		}
		r := &row{}
		mark, style := "  ", t.text
		if i == at {
			mark, style = "▸ ", t.loud
		}
		r.put(t.accent, "  "+mark).put(style, h.name).at(20)
		keys := h.keys()
		width := m.width - 21
		if i == at {
			width -= len(keys) + 3
		}
		switch {
		case h.is == nil:
			r.put(t.faint, fit(h.does, width))
		case h.is(&s, iface) == "":
			r.put(t.faint, "–")
		default:
			r.put(t.text, fit(h.is(&s, iface), width))
		}
		if i == at {
			r.at(m.width-len(keys)-2).put(t.faint, keys)
		}
		lines = append(lines, r.cut(m.width))
	}
	return lines
}

// keys are what can be pressed on a handle, in words.
func (h handle) keys() string {
	var words []string
	if h.enter != nil {
		words = append(words, "enter sets it")
	}
	if h.takes != nil {
		words = append(words, "x takes away")
	}
	return strings.Join(words, "  ")
}

// lastNext has a draft last as long as comes next of those that it can: now, for good, for a while. What was left out is said.
func (m *model) lastNext() tea.Cmd {
	d := m.acts.draft
	all := []change.Last{{}, {ForGood: true}, {For: change.UsualVisit}}
	at := slices.Index(all, d.last)
	why := ""
	for i := 1; i < len(all); i++ {
		next := all[(at+i)%len(all)]
		p := d.proposal
		var err error
		if p.Change, err = d.proposal.Change.Lasting(next); err == nil {
			_, err = change.Work(p.Change, d.plan.From, change.Known{})
		}
		if err != nil {
			why = "not " + strings.ReplaceAll(next.String(), "-", " ") + ": " + err.Error()
			continue
		}
		cmd := m.lookOr(p)
		m.acts.draft.last, m.acts.says = next, why
		return cmd
	}
	m.acts.says = why
	return nil
}

// canLast reports whether it is for a person to say how long a draft lasts.
func (d *draft) canLast() bool {
	c := d.proposal.Change
	own := c.Set != nil && c.Set.Leased == nil || slices.ContainsFunc(c.Steps, func(o change.Op) bool { return o.Do == change.AddAddress })
	_, _, visit := c.Visited()
	return own && !visit
}

// lastsRow says how long a draft would last.
func (m *model) lastsRow(d *draft) string {
	words := map[bool]string{false: "until a manager, the cable or a restart says otherwise", true: ""}[d.last.For > 0]
	if d.last.ForGood {
		words = "its manager keeps it too"
	}
	r := &row{}
	r.put(m.theme.faint, "  lasts ").put(m.theme.text, strings.ReplaceAll(d.last.String(), "-", " "))
	if words != "" {
		r.put(m.theme.faint, ": "+words)
	}
	return r.put(m.theme.key, "   l").put(m.theme.faint, " otherwise").cut(m.width)
}

// choicePage is a page with a list to choose from.
func (m *model) choicePage(question, about string, list []string, of func(string) string, does string) []string {
	t := m.theme
	lines := []string{m.title(), m.rule(), "", "  " + t.loud.Render(question), "  " + t.faint.Render(about), ""}
	room := max(m.height-2-len(lines), 1)
	first := min(max(m.picked-room+1, 0), max(len(list)-room, 0))
	for i, name := range list[first:] {
		if i == room {
			break
		}
		mark, style := "  ", t.text
		if first+i == m.picked {
			mark, style = "▸ ", t.loud
		}
		r := &row{}
		r.put(t.accent, "  "+mark).put(style, name)
		if of != nil {
			r.at(20).put(t.faint, of(name))
		}
		lines = append(lines, r.cut(m.width))
	}
	for len(lines) < m.height-2 {
		lines = append(lines, "")
	}
	r := &row{}
	r.put(t.key, " enter").put(t.faint, " "+does+"   ").put(t.key, "↑↓").put(t.faint, " choose   ").put(t.key, "esc").put(t.faint, " back")
	return append(lines[:m.height-2], m.rule(), r.cut(m.width))
}

// visit proves that a device is reached by how it answers: it is what is asked for from here on.
func (m *model) visit(device netip.Addr) tea.Cmd {
	m.input.SetValue(device.String())
	return m.ask()
}
