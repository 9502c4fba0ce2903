package tui

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"passepartout/internal/acting"
	"passepartout/internal/core/change"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/event"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/state"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

// onTrial is how long a change waits to be kept.
const onTrial = time.Minute

// acts are the changes of this machine: the one that is looked at or under way, and those that were done. They outlive a case: what is on
// trial stays so when something else is asked for.
type acts struct {
	hand     *acting.Hand
	picked   int // of what the verdict offers, then of what can be set by hand
	draft    *draft
	doing    *doing
	done     []done      // the oldest first
	removals []change.Op // one of which is to be taken away
	says     string      // what a key has led to
}

// draft is a change that is looked at: nothing has happened yet.
type draft struct {
	proposal  change.Proposal
	iface     string
	plan      change.Plan
	known     change.Known
	looked    bool // who has the addresses, and whether the gateways answer, is known
	insisting bool // against a warning that stops it
	last      change.Last
	visits    netip.Addr // the device that is to be reached, or none
}

// doing is a change that is being done, or on trial.
type doing struct {
	title  string
	from   string // who says so
	plan   change.Plan
	visits netip.Addr // the device that is to be reached, or none
	undoes int
	waits  string // who else is changing this machine
	id     int
	steps  []string // what became of each; "" for done
	until  time.Time
	trying bool
	said   bool // what shall become of it
	began  time.Time
	tried  time.Time // when its steps were done
	before verdict.Result
	after  verdict.Result
	proven bool // after is known
}

// done is a change that has ended.
type done struct {
	title   string
	id      int
	at      time.Time
	plan    change.Plan
	outcome acting.Outcome
	says    string
	goes    time.Time // by itself; zero: it stays
	proof   string    // the verdict after it; "" if it was not waited for
}

// actMsg is what the hand tells.
type actMsg struct {
	hand *acting.Hand
	news acting.News
	over bool // it has ended
}

// learntMsg is what else counts for a draft.
type learntMsg struct {
	draft *draft
	plan  change.Plan
	known change.Known
	err   error
}

var errHandless = errors.New("this machine cannot be changed from here")

// needHand has somebody who changes the machine.
func (m *model) needHand() (tea.Cmd, error) {
	if m.acts.hand != nil {
		return nil, nil
	}
	if m.Ground.Hand == nil {
		return nil, errHandless
	}
	h, err := m.Ground.Hand(m.ctx)
	if err != nil {
		return nil, err
	}
	m.acts.hand = h
	return hear(h), nil
}

func hear(h *acting.Hand) tea.Cmd {
	return func() tea.Msg {
		n, speaks := <-h.News()
		return actMsg{h, n, !speaks}
	}
}

// dismiss leaves the hand. What is on trial is taken back: nobody could keep it any more.
func (m *model) dismiss() {
	if m.acts.hand != nil {
		if m.acts.doing != nil {
			_ = m.acts.hand.Back()
		}
		_ = m.acts.hand.Close()
	}
	m.acts = acts{}
}

// lookAt shows what a change would do, and finds out what may go wrong.
func (m *model) lookAt(p change.Proposal) (tea.Cmd, error) {
	e := m.endpoint()
	if e == nil {
		return nil, errors.New("the machine's settings are being read")
	}
	from := change.Of(e)
	plan, err := change.Work(p.Change, from, change.Known{})
	if err != nil {
		return nil, err
	}
	d := &draft{proposal: p, iface: m.set.Interface, plan: plan}
	m.acts.draft, m.acts.says = d, ""
	ctx, machine, sheet := m.ctx, m.case_.Machine(), m.Ground.Sheet
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
		defer cancel()
		known := acting.Learn(ctx, machine, e, p.Change, plan.Ops(), sheet, os.Getenv)
		plan, err := change.Work(p.Change, from, known)
		return learntMsg{d, plan, known, err}
	}, nil
}

// endpoint is the machine as it is now.
func (m *model) endpoint() *endpoint.Endpoint {
	if m.state.Endpoint != nil {
		return m.state.Endpoint
	}
	if m.set != nil {
		return m.set.Endpoint
	}
	return nil
}

func (m *model) learnt(msg learntMsg) {
	d := m.acts.draft
	if d == nil || d != msg.draft {
		return
	}
	d.looked = true
	if msg.err == nil {
		d.plan, d.known = msg.plan, msg.known
	}
}

// grave is the first warning that stops a draft until it is insisted on.
func (d *draft) grave() (string, bool) {
	for _, w := range d.plan.Warnings {
		if w.ID.Grave() {
			return w.Text, true
		}
	}
	return "", false
}

// doDraft has what is looked at done.
func (m *model) doDraft() tea.Cmd {
	d := m.acts.draft
	if !d.looked || len(d.plan.Steps) == 0 || m.Ground.Needs != "" {
		return nil
	}
	if why, stops := d.grave(); stops && !d.insisting {
		m.acts.says = why + ": F does it all the same"
		return nil
	}
	trial := onTrial
	if change.ByClient(d.plan.Ops()) || d.visits.IsValid() { // nothing is to be taken back, or it goes by itself
		trial = 0
	}
	cmd := m.order(d.proposal, d.plan, acting.Order{Trial: trial, Why: d.why(m), Lease: acting.Leased(d.proposal.Change)})
	if x := m.acts.doing; x != nil {
		x.visits = d.visits
	}
	return cmd
}

// renewal is the lease of the interface renewed by its client, or, where it has none, taken.
func (m *model) renewal() (p change.Proposal, err error) {
	e := m.endpoint()
	i, ok := e.Interface(m.set.Interface)
	if !ok {
		return p, errors.New("there is no interface whose lease could be renewed")
	}
	switch err = change.Askable(i.Manager, i.Name); {
	case err == nil:
		return change.Proposal{Title: fmt.Sprintf("Have %s renew the lease of %s", i.Manager, i.Name), From: "you", Change: change.Change{
			Steps: []change.Op{{Do: change.RenewLease, Interface: i.Name, Name: i.Manager}}}}, nil
	case !errors.Is(err, change.ErrUnmanaged):
		return p, err
	}
	for _, o := range m.offersNow() {
		if p, ok := fault.LeaseOf(e, i, o); ok {
			return p, nil
		}
	}
	return p, fmt.Errorf("nobody manages %s, and no DHCP server has offered it a lease; d in the lease view asks again", i.Name)
}

// renewHere goes from the lease to the plan of its renewal.
func (m *model) renewHere() tea.Cmd {
	if m.endpoint() == nil || m.set == nil {
		return nil
	}
	m.show(actsView)
	if m.acts.doing != nil || m.acts.draft != nil {
		return m.tick()
	}
	p, err := m.renewal()
	if err != nil {
		m.acts.says = err.Error()
		return m.tick()
	}
	return tea.Batch(m.tick(), m.lookOr(p))
}

// why is what a change is written down for.
func (d *draft) why(m *model) string {
	if m.result.Fault != "" && m.result.Zone != zone.None {
		return d.proposal.Title + ", for: " + fault.TitleOf(m.result.Fault)
	}
	return d.proposal.Title
}

func (m *model) order(p change.Proposal, plan change.Plan, o acting.Order) tea.Cmd {
	cmd, err := m.needHand()
	if err == nil {
		o.From, o.To, o.Steps, o.Who = plan.From, plan.To, plan.Ops(), acting.Login()
		err = m.acts.hand.Do(o)
	}
	if err != nil {
		m.acts.says = err.Error()
		return cmd
	}
	m.acts.doing = &doing{title: p.Title, from: p.From, plan: plan, undoes: o.Undoes, before: m.result, began: m.now}
	m.acts.draft, m.acts.says = nil, ""
	return cmd
}

// acted takes in what the hand tells.
func (m *model) acted(msg actMsg) tea.Cmd {
	if msg.hand != m.acts.hand {
		return nil
	}
	x, n := m.acts.doing, msg.news
	switch {
	case msg.over:
		m.acts.hand = nil
		if x != nil {
			m.acts.doing, m.acts.says = nil, acting.ErrGone.Error()
		}
		return nil
	case n.Is == acting.Renewed:
		m.acts.renewed(n)
	case n.Is == acting.Over:
		m.acts.undone(n.ID, n)
		m.acts.says = n.Says
		if m.case_ != nil {
			m.case_.Again()
		}
	case x == nil:
	case n.Is == acting.Waiting:
		x.waits = n.Says
	case n.Is == acting.Retrying:
		m.acts.says = "not taken back yet, and tried again: " + n.Says
	case n.Is == acting.Refused:
		m.acts.doing, m.acts.says = nil, "nothing was done: "+n.Says
	case n.Is == acting.Begun:
		x.id, x.waits = n.ID, ""
	case n.Is == acting.Stepped:
		x.steps = append(x.steps, n.Says)
	case n.Is == acting.Trying:
		x.trying, x.until, x.tried = true, n.Until, time.Now()
		m.case_.Again()
	case n.Is == acting.Ended:
		d := done{title: x.title, id: x.id, at: m.now, plan: x.plan, outcome: n.Outcome, says: n.Says, goes: x.goes()}
		if x.proven {
			d.proof = x.after.Sentence
		}
		m.acts.doing = nil
		if a := d.act(); m.case_ != nil {
			m.case_.Acted(event.Acted{What: a.What, Outcome: a.Outcome, Says: a.Says})
		}
		if x.undoes > 0 {
			m.acts.undone(x.undoes, n)
		} else {
			m.acts.done = append(m.acts.done, d)
		}
		switch {
		case n.Outcome == acting.Kept && x.visits.IsValid():
			return tea.Batch(hear(msg.hand), m.visit(x.visits))
		case (n.Outcome != acting.Kept || !x.trying) && m.case_ != nil:
			m.case_.Again()
		}
	}
	return hear(msg.hand)
}

// goes is when it goes by itself, if it does.
func (x *doing) goes() (at time.Time) {
	for _, s := range x.plan.Steps {
		if s.For > 0 {
			at = x.began.Add(s.For)
		}
	}
	return at
}

// act is how a change that has ended is told.
func (d done) act() state.Act {
	a := state.Act{At: d.at, What: d.title, Outcome: string(d.outcome), Says: d.says}
	if a.Says == "" && d.proof != "" && d.outcome == acting.Kept {
		a.Says = "then: " + d.proof
	}
	return a
}

// undone notes that a change which stood does so no more.
func (a *acts) undone(id int, n acting.News) {
	for i := range a.done {
		if a.done[i].id == id && n.Outcome == acting.TakenBack {
			a.done[i].outcome, a.done[i].says = n.Outcome, n.Says
			return
		}
	}
	a.says = n.Says
}

// renewed notes how long the lease of a change goes on.
func (a *acts) renewed(n acting.News) {
	for i := range a.done {
		if a.done[i].id != n.ID {
			continue
		}
		if a.done[i].says = n.Says; n.Says == "" && !n.Until.IsZero() {
			a.done[i].says = "leased until " + wording.Clock(n.Until.Local())
		}
	}
}

// prove takes in the verdict of the tests that began after a change.
func (m *model) prove() {
	x := m.acts.doing
	v := &m.state.Verdict
	if x == nil || !x.trying || x.proven || !m.state.Round.Began.After(x.tried) || v.Round != m.state.Round.Number ||
		v.Standing != state.Current {
		return
	}
	x.after, x.proven = m.result, true
}

// settle says what becomes of the change on trial.
func (m *model) settle(say func(*acting.Hand) error) {
	x := m.acts.doing
	if x == nil || x.said {
		return
	}
	if err := say(m.acts.hand); err != nil {
		m.acts.says = err.Error()
		return
	}
	x.said = true
}

// undo takes the last change back that stands.
func (m *model) undo() tea.Cmd {
	e := m.endpoint()
	for _, d := range slices.Backward(m.acts.done) {
		if d.outcome != acting.Kept || e == nil {
			continue
		}
		now := change.Of(e)
		target, others := change.TakeBack(now, d.plan.From, d.plan.To)
		way, err := change.Way(now, target)
		if err == nil && len(others) > 0 {
			err = fmt.Errorf("changed by others since: %s", strings.Join(others, "; "))
		}
		var plan change.Plan
		if err == nil {
			plan, err = change.Along(now, way)
		}
		if err != nil {
			m.acts.says = "not taken back: " + err.Error()
			return nil
		}
		return m.order(change.Proposal{Title: "Take back: " + d.title, From: "as it was"}, plan, acting.Order{Undoes: d.id})
	}
	m.acts.says = "There is no change of this session that stands."
	return nil
}

// isSix reports whether a draft is about IPv6 alone.
func (d *draft) isSix() bool { s := d.proposal.Change.Set; return s != nil && s.Address.Addr().Is6() }
