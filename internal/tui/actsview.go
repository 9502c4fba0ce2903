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
	"passepartout/internal/core/fault"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

// actsView changes this machine: looked at first, done, proven, kept or taken back.
var actsView = &view{
	key: "0", name: "change", short: "set", does: "changes of this machine: looked at, done, proven, kept or taken back",
	deeds: []deed{
		{"enter", "look, do", "look at what is offered, or set what is picked; once more: do it. Nothing is done before", false},
		{"x", "take away", "take away what is picked: an address, a route, a rule, a name, an entry", false},
		{"a", "other settings", "address with length, gateway, name servers; what is not given is carried along", false},
		{"l", "how long", "of what is looked at: now, for good (its manager keeps it), or for ten minutes", true},
		{"k", "keep", "keep what is on trial", true},
		{"b", "take back", "take back what is on trial; by itself it is taken back, even when this program is killed", true},
		{"u", "undo", "take the last change back that was kept", false},
	},
	live: true, from: (*model).pickFor,
	draw: (*model).actsPage, press: (*model).pressActs,
	wheel: func(m *model, _ tea.Mouse, step int) { m.pickChange(step) },
	say:   func(m *model, words string) { m.acts.says = words },
}

// pickChange goes along what the verdict offers, and then along what can be set by hand.
func (m *model) pickChange(step int) {
	m.acts.picked = min(max(m.acts.picked+step, 0), len(m.result.Mends)+len(handles)-1)
}

// pickFor picks what the view that was shown is about.
func (m *model) pickFor(v *view) {
	m.acts.picked = 0
	if i, ok := handleOf(v); ok {
		m.acts.picked = len(m.result.Mends) + i
	}
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
			return m.typeSettings(a.draft.isSix()), true
		case "l":
			if a.draft.canLast() {
				return m.lastNext(), true
			}
		default:
			return nil, false
		}
		return nil, true
	}
	step, moves := map[string]int{"up": -1, "k": -1, "down": 1, "j": 1}[key]
	switch {
	case moves:
		m.pickChange(step)
	case key == "enter" && a.picked < len(m.result.Mends):
		return m.lookOr(m.result.Mends[a.picked]), true
	case key == "enter" || key == "x":
		a.says = ""
		h := handles[min(max(a.picked-len(m.result.Mends), 0), len(handles)-1)]
		switch {
		case key == "x" && a.picked >= len(m.result.Mends):
			return m.takeAway(h), true
		case key == "enter" && h.enter != nil:
			return h.enter(m), true
		}
	case key == "a":
		return m.typeSettings(false), true
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
	m.pickChange(0)
	if len(mends) == 0 {
		words := "Nothing that the verdict names is to be changed on this machine."
		if m.result.Zone == zone.None {
			words = "Nothing stands in the way of the target: nothing here needs to be changed for it."
		}
		lines = append(lines, (&row{}).at(2).put(t.faint, words).fold(m.width, 2)...)
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
	var ended []string
	if len(m.acts.done) > 0 {
		ended = append(ended, "", "  "+t.loud.Render("Done in this session"))
	}
	for _, d := range slices.Backward(m.acts.done) {
		ended = append(ended, m.doneRow(d))
	}
	manager := ""
	if i, ok := m.endpoint().Interface(m.set.Interface); ok {
		manager = managedBy(*i)
	}
	head := &row{}
	head.put(t.loud, "  By hand").at(20).put(t.faint, m.set.Interface+" as it is   "+manager)
	lines = append(lines, "", head.cut(m.width))
	const least = 5
	room := max(m.height-2-len(m.head())-1-len(lines)-len(ended)-1, least)
	return append(append(lines, m.handleRows(change.Of(m.endpoint()), room)...), ended...)
}

// doneRow is a change that has ended.
func (m *model) doneRow(d done) string {
	t, r := m.theme, &row{}
	look := map[acting.Outcome]verdict.State{acting.Kept: verdict.Holds, acting.TakenBack: verdict.Skipped,
		acting.Failed: verdict.Broken}[d.outcome]
	r.put(t.text, "  "+wording.Clock(d.at)+"  ").put(t.state[look], strands[look]+" "+strings.ReplaceAll(string(d.outcome), "-", " ")).
		at(24).put(t.text, " "+d.title)
	switch {
	case d.says != "":
		r.put(t.faint, "   "+d.says)
	case d.goes.After(m.now):
		r.put(t.faint, "   goes by itself at "+wording.Clock(d.goes))
	case !d.goes.IsZero():
		r.put(t.faint, "   has gone by itself at "+wording.Clock(d.goes))
	case d.proof != "":
		r.put(t.faint, "   "+d.proof)
	}
	return r.cut(m.width)
}

// draftRows are a change that is looked at: what can be done with it and what may go wrong, then what it alters, and by which steps.
func (m *model) draftRows() []string {
	t, d := m.theme, m.acts.draft
	r := &row{}
	r.put(t.loud, "  "+d.proposal.Title)
	if m.result.Fault != "" && m.result.Zone != zone.None {
		r.put(t.faint, "   "+fault.TitleOf(m.result.Fault))
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
	case change.ByClient(d.plan.Ops()) || d.visits.IsValid():
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
	if d.canLast() && len(d.plan.Steps) > 0 {
		lines = append(lines, m.lastsRow(d))
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

// presentAndFuture puts settings as they are beside what they will be, and marks what parts; from says where new values are known from.
func (m *model) presentAndFuture(is, will change.Settings, from, present, future string) []string {
	t, iface := m.theme, m.set.Interface
	manager := ""
	if i, ok := m.endpoint().Interface(iface); ok {
		manager = managedBy(*i)
	}
	second, third := max(m.width/3, 40), max(m.width*2/3, 62)
	head := &row{}
	head.put(t.faint, "  "+iface).at(18).put(t.faint, present).at(second+2).put(t.faint, future).at(third+2).
		put(t.faint, fit("known from", m.width-third-3))
	lines := []string{head.cut(m.width)}
	short := m.height < 30 // then what is carried along is said, and not shown
	carried := false
	for _, s := range settingRows(is, will, iface) {
		if s.is == s.will && (short || s.is == "") {
			carried = carried || s.is != ""
			continue
		}
		r := &row{}
		style, mark, why := t.text, "", "carried along"
		if s.is != s.will {
			style, mark, why = t.loud, "▸ ", from
		}
		r.put(style, "  "+s.name).at(18).put(t.text, fit(cmp.Or(s.is, "–"), second-19)).
			at(second).put(t.accent, mark).at(second+2).put(style, fit(cmp.Or(s.will, "–"), third-second-3)).at(third+2).
			put(t.faint, fit(why, m.width-third-3))
		lines = append(lines, r.cut(m.width))
	}
	if carried {
		manager += " · all else is carried along"
	}
	return append(lines, "  "+t.faint.Render(manager))
}

// settingRows lists what counts of an interface's settings, and whatever else differs.
func settingRows(is, will change.Settings, iface string) (out []setting) {
	for _, h := range handles {
		if h.is != nil {
			out = append(out, setting{h.name, h.is(&is, iface), h.is(&will, iface)})
		}
	}
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
