package tui

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"passepartout/internal/acting"
	"passepartout/internal/core/change"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

// actsView changes this machine: looked at first, done, proven, kept or taken back.
var actsView = &view{
	key: "0", name: "change", does: "changes of this machine: looked at, done, proven, kept or taken back",
	help: [][2]string{
		{"enter", "look at what is offered; once more: do it. Nothing is done before"},
		{"a", "other settings, by hand: address with length, gateway, name servers; what is not given is carried along"},
		{"k b", "keep what is on trial, or take it back; by itself it is taken back, even when this program is killed"},
		{"u", "take the last change back that was kept"},
	},
	foot: [][2]string{{"enter", "look, do"}, {"a", "by hand"}, {"u", "undo"}},
	live: true,
	draw: (*model).actsPage, press: (*model).pressActs,
	wheel: func(m *model, step int) { m.pickMend(step) },
	say:   func(m *model, words string) { m.acts.says = words },
}

func (m *model) pickMend(step int) {
	m.acts.picked = min(max(m.acts.picked+step, 0), max(len(m.result.Mends)-1, 0))
}

func (m *model) pressActs(k tea.KeyPressMsg) (tea.Cmd, bool) {
	a := &m.acts
	key := k.String()
	switch {
	case a.doing != nil:
		switch key {
		case "k":
			if a.doing.trying {
				m.settle((*acting.Hand).Keep)
			}
		case "b", "esc":
			m.settle((*acting.Hand).Back)
		default:
			return nil, false
		}
		return nil, true
	case a.draft != nil:
		switch key {
		case "enter":
			return m.doDraft(), true
		case "F":
			a.draft.insisting = true
			return m.doDraft(), true
		case "esc":
			a.draft, a.says = nil, ""
		case "a":
			return m.typeSettings(), true
		default:
			return nil, false
		}
		return nil, true
	}
	step, moves := map[string]int{"up": -1, "k": -1, "down": 1, "j": 1}[key]
	switch {
	case moves:
		m.pickMend(step)
	case key == "enter" && a.picked < len(m.result.Mends):
		return m.lookOr(m.result.Mends[a.picked]), true
	case key == "a":
		return m.typeSettings(), true
	case key == "u":
		return m.undo(), true
	case key == "esc":
		m.show(views[0])
	default:
		return nil, false
	}
	return nil, true
}

// lookOr looks at a change, or says why that cannot be.
func (m *model) lookOr(p change.Proposal) tea.Cmd {
	cmd, err := m.lookAt(p)
	if err != nil {
		m.acts.says = err.Error()
	}
	return cmd
}

// mendHere goes from what the verdict advises to the plan.
func (m *model) mendHere() tea.Cmd {
	m.show(actsView)
	if m.acts.doing == nil && m.acts.draft == nil && len(m.result.Mends) > 0 {
		m.acts.picked = 0
		return tea.Batch(m.tick(), m.lookOr(m.result.Mends[0]))
	}
	return m.tick()
}

// typeSettings asks for settings, those of the draft or those that are there given.
func (m *model) typeSettings() tea.Cmd {
	e := m.endpoint()
	if e == nil || m.set.Interface == "" {
		return nil
	}
	s := change.Of(e)
	if d := m.acts.draft; d != nil {
		s = d.plan.To
	}
	words := []string{}
	if own := s.On(m.set.Interface, false); len(own) > 0 {
		words = append(words, own[0].String())
		if gw, ok := gatewayOf(s, m.set.Interface, false); ok {
			words = append(words, gw.String())
			for _, r := range s.Resolvers {
				words = append(words, r.String())
			}
		}
	}
	iface := m.set.Interface
	return m.openEntry("address/length gateway name servers:", strings.Join(words, " "), func(text string) (tea.Cmd, error) {
		p, err := byHand(text, iface)
		if err != nil {
			return nil, err
		}
		return m.lookAt(p)
	})
}

func gatewayOf(s change.Settings, iface string, v6 bool) (netip.Addr, bool) {
	for _, r := range s.Routes {
		if r.Interface == iface && r.IsDefault() && r.To.Addr().Is6() == v6 && r.Via.IsValid() {
			return r.Via, true
		}
	}
	return netip.Addr{}, false
}

func (m *model) actsPage() []string {
	t := m.theme
	lines := append(m.head(), "")
	if m.set == nil || m.endpoint() == nil {
		return append(lines, "  "+t.faint.Render("The machine's settings are being read."))
	}
	a := &m.acts
	switch {
	case a.doing != nil:
		lines = append(lines, m.doingRows()...)
	case a.draft != nil:
		lines = append(lines, m.draftRows()...)
	default:
		lines = append(lines, m.offerRows()...)
	}
	if a.says != "" {
		for _, line := range wrap(a.says, m.width-4, 2) {
			lines = append(lines, "  "+t.state[verdict.Strained].Render(line))
		}
	}
	return lines
}

// offerRows are what could be done, how the interface is set, and what was done.
func (m *model) offerRows() (lines []string) {
	t := m.theme
	mends := m.result.Mends
	m.pickMend(0)
	if len(mends) == 0 {
		words := "Nothing that the verdict names is to be changed on this machine."
		if m.result.Zone == zone.None {
			words = "Nothing stands in the way of the target: nothing here needs to be changed for it."
		}
		lines = append(lines, "  "+t.faint.Render(words)+t.key.Render("   a")+t.faint.Render(" sets it by hand"))
	} else {
		lines = append(lines, "  "+t.loud.Render("This would mend it"))
	}
	for i, p := range mends {
		r := &row{}
		mark, style := "  ", t.text
		if i == m.acts.picked {
			mark, style = "▸ ", t.loud
		}
		r.put(t.accent, "  "+mark).put(style, p.Title)
		if p.From != "" {
			r.put(t.faint, "   as "+p.From)
		}
		lines = append(lines, r.cut(m.width))
	}
	s := change.Of(m.endpoint())
	lines = append(append(lines, ""), m.presentAndFuture(s, s, "", "as it is", "")...)
	if len(m.acts.done) > 0 {
		lines = append(lines, "", "  "+t.loud.Render("Done in this session"))
	}
	for _, d := range slices.Backward(m.acts.done) {
		r := &row{}
		look := map[acting.Outcome]verdict.State{acting.Kept: verdict.Holds, acting.TakenBack: verdict.Skipped,
			acting.Failed: verdict.Broken}[d.outcome]
		r.put(t.text, "  "+wording.Clock(d.at)+"  ").put(t.state[look], strands[look]+" "+strings.ReplaceAll(string(d.outcome), "-", " ")).
			at(24).put(t.text, " "+d.title)
		if says := d.says; says != "" {
			r.put(t.faint, "   "+says)
		} else if d.proof != "" {
			r.put(t.faint, "   "+d.proof)
		}
		lines = append(lines, r.cut(m.width))
	}
	return lines
}

// draftRows are a change that is looked at: what can be done with it and what may go wrong, then what it alters, and by which steps.
func (m *model) draftRows() []string {
	t, d := m.theme, m.acts.draft
	r := &row{}
	r.put(t.loud, "  "+d.proposal.Title)
	if m.result.Fault != "" && m.result.Zone != zone.None {
		r.put(t.faint, "   "+string(m.result.Fault))
	}
	lines := []string{r.cut(m.width)}
	k := &row{}
	switch {
	case len(d.plan.Steps) == 0:
		k.put(t.text, "  Nothing is to be done: it is so already.").put(t.key, "   esc").put(t.faint, " back")
	case m.Ground.Needs != "":
		k.put(t.state[verdict.Strained], "  "+m.Ground.Needs).put(t.key, "   esc").put(t.faint, " back")
	case !d.looked:
		k.put(t.faint, "  who has these addresses, and whether the gateway answers, is being asked …")
	case change.ByClient(d.plan.Ops()):
		k.put(t.key, "  enter").put(t.text, " does it").put(t.key, "   esc").put(t.faint, " leaves all as it is")
	default:
		k.put(t.key, "  enter").put(t.text, " does it").put(t.key, "   a").put(t.faint, " other values").put(t.key, "   esc").
			put(t.faint, " leaves all as it is   ").
			put(t.faint, fmt.Sprintf("taken back by itself after %.0f s unless you keep it", onTrial.Seconds()))
	}
	lines = append(lines, k.cut(m.width))
	if m.Ground.Needs != "" {
		for _, c := range d.proposal.Change.Commands() {
			lines = append(lines, (&row{}).put(t.text, "     sudo passepartout "+c).cut(m.width))
		}
	}
	for _, w := range d.plan.Warnings {
		style := t.state[verdict.Strained]
		if w.ID.Grave() {
			style = t.state[verdict.Broken]
		}
		lines = append(lines, (&row{}).put(style, "  ! "+w.Text).cut(m.width))
	}
	lines = append(append(append(lines, ""), m.presentAndFuture(d.plan.From, d.plan.To, d.proposal.From, "as it is", "as it will be")...),
		"")
	if first := d.proposal.Change.Before(); first != "" {
		lines = append(lines, (&row{}).put(t.text, "     "+first).cut(m.width))
	}
	return append(lines, m.stepRows(d.plan.Steps, func(int) (verdict.State, bool) { return verdict.StateUnknown, false })...)
}

// stepRows are the steps that there is room for: those that have not ended, and how many others there are.
func (m *model) stepRows(steps []change.Step, ended func(i int) (look verdict.State, shown bool)) (lines []string) {
	t := m.theme
	most := max(m.height-26, 4)
	first := 0
	for look, shown := ended(first); len(steps)-first > most && shown && look == verdict.Holds; look, shown = ended(first) {
		first++
	}
	for i, s := range steps[first:] {
		if i == most {
			break
		}
		mark := "  "
		look, shown := ended(first + i)
		if shown {
			mark = strands[look]
		}
		by := "kernel, now"
		if file := s.File(); file != "" {
			by = file + ", now"
		}
		r := &row{}
		r.put(t.state[look], "  "+mark).put(t.faint, fmt.Sprintf(" %d  ", first+i+1)).
			put(t.text, fit(s.String(), m.width-r.width-len(by)-5)).
			at(m.width-len(by)-3).put(t.faint, by)
		lines = append(lines, r.cut(m.width))
	}
	if more := len(steps) - most; more > 0 {
		lines = append(lines, "     "+t.faint.Render(fmt.Sprintf("… %d steps in all, %d done", len(steps), first)))
	}
	return lines
}

// doingRows are a change that is being done, or on trial: until when, and what it has led to, then what it alters.
func (m *model) doingRows() []string {
	t, x := m.theme, m.acts.doing
	lines := append([]string{"  " + t.loud.Render(fit(x.title, m.width-4))}, m.trialRows(x)...)
	lines = append(
		append(append(lines, ""),
			m.presentAndFuture(x.plan.From, x.plan.To, x.from, "as it was",
				map[bool]string{true: "as it is", false: "as it will be"}[x.trying])...), "")
	return append(lines, m.stepRows(x.plan.Steps, func(i int) (verdict.State, bool) {
		switch {
		case i >= len(x.steps):
			return verdict.StateUnknown, true
		case x.steps[i] != "":
			return verdict.Broken, true
		}
		return verdict.Holds, true
	})...)
}

func (m *model) trialRows(x *doing) []string {
	t, r := m.theme, &row{}
	switch {
	case x.waits != "":
		return []string{"  " + t.text.Render(fit("waiting: "+x.waits+" is changing this machine", m.width-4))}
	case !x.trying:
		return []string{"  " + t.faint.Render("each step is read back before the next one …")}
	case x.said:
		r.put(t.faint, "  it is being settled …")
	default:
		const bar = 20
		left := max(x.until.Sub(m.now), 0)
		full := min(int(left*bar/onTrial)+1, bar)
		r.put(t.key, "  k").put(t.text, " keeps it").put(t.key, "   b").put(t.text, " takes it back").
			put(t.faint, fmt.Sprintf("   by itself in %d:%02d  ", int(left.Minutes()), int(left.Seconds())%60)).
			put(t.accent, strings.Repeat("▰", full)).put(t.faint, strings.Repeat("▱", bar-full))
	}
	lines := []string{r.cut(m.width), "", m.proofRow("before", x.before)}
	if x.proven {
		return append(lines, m.proofRow("after", x.after))
	}
	after := &row{}
	after.put(t.faint, "  after").at(11).put(t.state[verdict.StateUnknown], strands[verdict.StateUnknown]).put(t.text,
		" the same tests are being run …")
	return append(lines, after.cut(m.width))
}

// proofRow is a verdict before or after a change.
func (m *model) proofRow(when string, v verdict.Result) string {
	look := verdict.Holds
	switch v.Zone {
	case zone.None:
	case zone.Undetermined, zone.Unknown:
		look = verdict.Strained
	default:
		look = verdict.Broken
	}
	r := &row{}
	r.put(m.theme.faint, "  "+when).at(11).put(m.theme.state[look], strands[look]).put(m.theme.text, " "+v.Sentence)
	return r.cut(m.width)
}

// setting is one row of settings, as they are and as they will be.
type setting struct{ name, is, will string }

// presentAndFuture puts settings as they are beside what they will be, and marks what parts; from says where new values are known from. Of
// the same settings twice, one column is left.
func (m *model) presentAndFuture(is, will change.Settings, from, present, future string) []string {
	t, iface := m.theme, m.set.Interface
	alone := is.Equal(&will)
	head := &row{}
	manager := ""
	if i, ok := m.endpoint().Interface(iface); ok {
		manager = managedBy(*i)
	}
	second, third := max(m.width/3, 40), max(m.width*2/3, 62)
	head.put(t.faint, "  "+iface).at(18).put(t.faint, present)
	if alone {
		head.put(t.faint, "   "+manager)
	} else {
		head.at(second+2).put(t.faint, future).at(third+2).put(t.faint, fit("known from", m.width-third-3))
	}
	lines := []string{head.cut(m.width)}
	short := !alone && m.height < 30 // then what is carried along is said, and not shown
	carried := false
	for _, s := range settingRows(is, will, iface) {
		if s.is == s.will && (short || s.is == "") {
			carried = carried || s.is != ""
			continue
		}
		r := &row{}
		width := second - 19
		if alone {
			width = m.width - 19
		}
		differs := s.is != s.will
		style := t.text
		mark := ""
		if differs {
			style, mark = t.loud, "▸ "
		}
		r.put(style, "  "+s.name).at(18).put(t.text, fit(cmp.Or(s.is, "–"), width))
		if !alone {
			r.at(second).put(t.accent, mark).at(second+2).put(style, fit(cmp.Or(s.will, "–"), third-second-3)).at(third + 2)
			why := "carried along"
			if differs {
				why = from
			}
			r.put(t.faint, fit(why, m.width-third-3))
		}
		lines = append(lines, r.cut(m.width))
	}
	if carried {
		manager += " · all else is carried along"
	}
	if !alone {
		lines = append(lines, "  "+t.faint.Render(manager))
	}
	return lines
}

// settingRows lists what counts of an interface's settings, and whatever else differs.
func settingRows(is, will change.Settings, iface string) (out []setting) {
	both := func(name string, f func(s *change.Settings) string) {
		out = append(out, setting{name, f(&is), f(&will)})
	}
	both("switched", func(s *change.Settings) string {
		l, _ := s.Link(iface)
		return map[bool]string{true: "on", false: "off"}[l.Up]
	})
	for _, v6 := range []bool{false, true} {
		name := map[bool]string{false: "address", true: "IPv6 address"}[v6]
		both(name, func(s *change.Settings) string { return joined(s.On(iface, v6)) })
		name = map[bool]string{false: "gateway", true: "IPv6 gateway"}[v6]
		both(name, func(s *change.Settings) string {
			var ways []string
			for _, r := range s.Routes {
				if r.IsDefault() && r.To.Addr().Is6() == v6 {
					ways = append(ways, wayWords(r, iface))
				}
			}
			return strings.Join(ways, ", ")
		})
	}
	both("name servers", func(s *change.Settings) string { return joined(s.Resolvers) })
	both("search list", func(s *change.Settings) string { return strings.Join(s.Search, " ") })
	both("MTU", func(s *change.Settings) string {
		l, _ := s.Link(iface)
		return fmt.Sprintf("%d octets", l.MTU)
	})
	both("other routes", func(s *change.Settings) string {
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
	})
	both("rules", func(s *change.Settings) string { return joined(s.Rules) })
	both("hosts file", func(s *change.Settings) string { return joined(s.Hosts[:min(len(s.Hosts), 4)]) })
	both("fixed entries", func(s *change.Settings) string {
		var fixed []string
		for _, n := range s.Neighbours {
			fixed = append(fixed, fmt.Sprintf("%v at %v", n.Address, n.Hardware))
		}
		return strings.Join(fixed, ", ")
	})
	return out
}

func wayWords(r change.Route, iface string) string {
	words := "on the link itself"
	if r.Via.IsValid() {
		words = r.Via.WithZone("").String()
	}
	if r.Interface != iface {
		words += " by " + r.Interface
	}
	if r.Metric > 0 && r.IsDefault() {
		words += fmt.Sprintf(" (metric %d)", r.Metric)
	}
	return words
}

func joined[T fmt.Stringer](list []T) string {
	words := make([]string, len(list))
	for i, x := range list {
		words[i] = x.String()
	}
	return strings.Join(words, ", ")
}
