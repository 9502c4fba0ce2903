// Package tui is the full-screen program: the question, the line, the verdict, and a view for each step of the work.
package tui

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/target"
	"passepartout/internal/core/verdict"
	"passepartout/internal/machine"
	"passepartout/internal/probe/plan"
)

// Ground is a machine to stand at, and what is known of the case before anything was asked.
type Ground struct {
	Machine   machine.Machine
	Interface string
	Complaint string   // in the user's words; "" on a live machine
	Targets   []string // to choose from, the first one suggested
	Close     func()
}

// Case is a scenario that can be chosen: its complaint, not its answer.
type Case struct {
	Name      string
	Complaint string
}

// Config is what the program opens with.
type Config struct {
	Ground   Ground
	Families evidence.Families
	Deadline time.Duration
	Target   string // asked for at once, when not empty
	Asked    bool   // Target was given, even if empty
	Cases    []Case // a demonstration: scenarios to choose from
	Open     func(name string) (Ground, error)
	Remember func(target string) // called for each target that was asked for
}

// Run shows the program until the user leaves it.
func Run(ctx context.Context, c Config) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	m := newModel(ctx, c)
	final, err := tea.NewProgram(m, tea.WithContext(ctx)).Run()
	if end, ok := final.(*model); ok {
		end.leave()
	}
	if errors.Is(err, tea.ErrInterrupted) || errors.Is(err, tea.ErrProgramKilled) {
		return nil
	}
	return err
}

// IsTerminal reports whether a file is a terminal on which the program can be shown.
func IsTerminal(f *os.File) bool {
	info, err := f.Stat()
	return err == nil && info.Mode()&os.ModeCharDevice != 0
}

// page is what fills the screen.
type page uint8

const (
	pageCases page = iota
	pageQuestion
	pageOverview
	pageAddress
)

// The smallest screen that can be worked on.
const (
	leastWidth  = 80
	leastHeight = 24
)

type model struct {
	Config
	ctx           context.Context
	theme         theme
	keys          keys
	width, height int
	page          page
	help          bool
	ports         bool // the list of ports is open
	picked        int  // in an open list

	input     textinput.Model
	flaw      string // what is wrong with the input
	target    target.Target
	iface     string
	complaint string

	run        *runner
	generation int
	began      time.Time
	set        *evidence.Set
	result     verdict.Result
	over       bool
	failed     error
	first      *verdict.Result // the first settled verdict of this run
	selected   int             // check
	moved      bool            // the user has chosen a check
	watch      context.CancelFunc
	changes    <-chan struct{}
	notice     string
}

type (
	tickMsg    struct{ generation int }
	changedMsg struct {
		generation int
		endpoint   *endpoint.Endpoint
		ended      bool
	}
)

func newModel(ctx context.Context, c Config) *model {
	m := &model{Config: c, ctx: ctx, theme: newTheme(true), keys: newKeys(len(c.Cases) > 0), input: textinput.New()}
	m.input.Prompt = ""
	m.input.CharLimit = 300
	m.input.SetVirtualCursor(false)
	m.input.Placeholder = "name, address, name:port or URL; empty for the gateway and the name servers alone"
	m.page = pageQuestion
	if c.Ground.Machine == nil {
		m.page = pageCases
	} else {
		m.Ground = Ground{} // nothing to leave yet
		m.enter(c.Ground)
	}
	return m
}

// enter stands at another machine.
func (m *model) enter(g Ground) {
	m.leave()
	m.Ground = g
	m.iface, m.complaint = g.Interface, g.Complaint
	m.set, m.result, m.first, m.notice, m.over = nil, verdict.Result{}, nil, "", false
	m.picked = 0
	m.input.SetValue("")
	if len(g.Targets) > 0 {
		m.input.SetValue(g.Targets[0])
	}
	m.input.CursorEnd()
}

// leave ends what runs on the present machine.
func (m *model) leave() {
	if m.run != nil {
		m.run.cancel()
		m.run = nil
	}
	if m.watch != nil {
		m.watch()
		m.watch = nil
	}
	if m.Ground.Close != nil {
		m.Ground.Close()
		m.Ground.Close = nil
	}
}

// Init implements tea.Model.
func (m *model) Init() tea.Cmd {
	cmds := []tea.Cmd{tea.RequestBackgroundColor}
	if m.page == pageQuestion {
		if m.Asked {
			m.input.SetValue(m.Config.Target)
			cmds = append(cmds, m.ask())
		} else {
			cmds = append(cmds, m.input.Focus())
		}
	}
	return tea.Batch(cmds...)
}

// ask starts a run for what stands in the input.
func (m *model) ask() tea.Cmd {
	t, err := target.Parse(m.input.Value())
	if err != nil {
		m.flaw = err.Error()
		return m.input.Focus()
	}
	m.flaw, m.target = "", t
	m.input.Blur()
	if m.Remember != nil && !t.IsZero() {
		m.Remember(t.String())
	}
	m.page = pageOverview
	return m.start()
}

// start runs the tests, anew if they ran before.
func (m *model) start() tea.Cmd {
	if m.run != nil {
		m.run.cancel()
	}
	m.generation++
	m.began, m.over, m.failed, m.first, m.notice = time.Now(), false, nil, nil, ""
	m.moved, m.selected = false, 0
	m.set, m.result = nil, verdict.Result{}
	m.run = startRun(m.ctx, m.generation, plan.Config{Machine: m.Ground.Machine, Target: m.target, Interface: m.iface, Families: m.Families}, m.Deadline)
	cmds := []tea.Cmd{m.run.wait(m.ctx), m.tick()}
	if m.watch == nil {
		ctx, cancel := context.WithCancel(m.ctx)
		changes, err := m.Ground.Machine.Watch(ctx)
		if err != nil {
			cancel()
		} else {
			m.watch, m.changes = cancel, changes
			cmds = append(cmds, m.nextChange())
		}
	}
	return tea.Batch(cmds...)
}

func (m *model) tick() tea.Cmd {
	generation := m.generation
	return tea.Tick(100*time.Millisecond, func(time.Time) tea.Msg { return tickMsg{generation} })
}

// nextChange waits for a notification, lets the burst that it belongs to pass, and reads the machine again.
func (m *model) nextChange() tea.Cmd {
	ctx, changes, ground, generation := m.ctx, m.changes, m.Ground.Machine, m.generation
	return func() tea.Msg {
		if _, open := <-changes; !open {
			return changedMsg{generation: generation, ended: true}
		}
		select {
		case <-time.After(300 * time.Millisecond):
		case <-ctx.Done():
			return nil
		}
		e, err := ground.Read(ctx)
		if err != nil {
			return changedMsg{generation: generation}
		}
		return changedMsg{generation: generation, endpoint: e}
	}
}

// Update implements tea.Model.
func (m *model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		m.theme = newTheme(msg.IsDark())
	case newsMsg:
		if m.run == nil || msg.generation != m.generation {
			return m, nil
		}
		return m, m.takeNews()
	case tickMsg:
		if msg.generation == m.generation && !m.over {
			return m, m.tick()
		}
	case changedMsg:
		return m, m.takeChange(msg)
	case tea.KeyPressMsg:
		return m, m.press(msg)
	case tea.PasteMsg:
		if m.page == pageQuestion {
			m.flaw = ""
			var cmd tea.Cmd
			m.input, cmd = m.input.Update(tea.PasteMsg{Content: strings.TrimSpace(msg.Content)})
			return m, cmd
		}
	case tea.MouseWheelMsg:
		if m.page == pageOverview && !m.help && !m.ports {
			if msg.Button == tea.MouseWheelUp {
				m.selectCheck(m.selected - 1)
			} else {
				m.selectCheck(m.selected + 1)
			}
		}
	case tea.MouseClickMsg:
		return m, m.click(msg.Mouse())
	}
	return m, nil
}

func (m *model) takeNews() tea.Cmd {
	set, result, err, over := m.run.latest()
	if set != nil {
		m.set, m.result = set, result
	}
	if err != nil {
		m.failed = err
	}
	if m.first == nil && m.set != nil && (result.Settled || over) && err == nil {
		settled := result
		m.first = &settled
	}
	if !m.moved {
		m.selected = m.telling()
	}
	m.over = over
	if over {
		return nil
	}
	return m.run.wait(m.ctx)
}

// telling is the check that a reader should see first: the one that broke, else the service.
func (m *model) telling() int {
	best := 0
	for i, c := range m.result.Checks {
		if c.State == verdict.Broken && m.result.Zone != verdict.None {
			if s, ok := m.result.Suspect(m.result.Fault); !ok || s.Fault.Check == c.ID {
				return i
			}
		}
		if c.ID == "service" {
			best = i
		}
	}
	return best
}

func (m *model) takeChange(msg changedMsg) tea.Cmd {
	if msg.ended {
		return nil
	}
	if msg.endpoint != nil && m.set != nil {
		if what := difference(m.set.Endpoint, msg.endpoint); what != "" {
			m.notice = fmt.Sprintf("%s at %s; r runs the tests again", what, time.Now().Format("15:04:05"))
			set := *m.set
			set.Endpoint = msg.endpoint
			m.set = &set
		}
	}
	return m.nextChange()
}

// difference says in words what changed in a machine's settings between two readings; "" for nothing that matters.
func difference(was, is *endpoint.Endpoint) string {
	for _, old := range was.Interfaces {
		now, ok := is.Interface(old.Name)
		switch {
		case !ok:
			return old.Name + " has gone"
		case old.Up != now.Up || old.Carrier != now.Carrier:
			return old.Name + " changed its state"
		case !slices.EqualFunc(old.Addresses, now.Addresses, func(a, b endpoint.Address) bool { return a.Prefix == b.Prefix }):
			return "the addresses of " + old.Name + " changed"
		}
	}
	if len(is.Interfaces) > len(was.Interfaces) {
		return "a network port has come"
	}
	if !slices.Equal(was.Routes, is.Routes) {
		return "the routes changed"
	}
	if !slices.Equal(was.Resolvers, is.Resolvers) {
		return "the name servers changed"
	}
	return ""
}

func (m *model) selectCheck(i int) {
	m.selected = min(max(i, 0), max(len(m.result.Checks)-1, 0))
	m.moved = true
}

// press handles a key.
func (m *model) press(k tea.KeyPressMsg) tea.Cmd {
	if k.String() == "ctrl+c" {
		return tea.Quit
	}
	if m.help {
		m.help = false
		return nil
	}
	if m.ports {
		return m.pressInList(k, m.portNames(), func(name string) tea.Cmd { m.ports, m.iface = false, name; return m.start() }, func() { m.ports = false })
	}
	switch m.page {
	case pageCases:
		return m.pressCases(k)
	case pageQuestion:
		return m.pressQuestion(k)
	}
	switch {
	case key.Matches(k, m.keys.quit):
		return tea.Quit
	case key.Matches(k, m.keys.help):
		m.help = true
	case key.Matches(k, m.keys.again):
		return m.start()
	case key.Matches(k, m.keys.target):
		m.page = pageQuestion
		m.picked = 0
		m.input.SetValue(m.target.String())
		m.input.CursorEnd()
		return m.input.Focus()
	case key.Matches(k, m.keys.ports):
		if names := m.portNames(); len(names) > 0 {
			m.ports, m.picked = true, max(slices.Index(names, m.iface), 0)
		}
	case key.Matches(k, m.keys.cases):
		m.page = pageCases
	case key.Matches(k, m.keys.overview):
		m.page = pageOverview
	case key.Matches(k, m.keys.address):
		m.page = pageAddress
	case key.Matches(k, m.keys.up) && m.page == pageOverview:
		m.selectCheck(m.selected - 1)
	case key.Matches(k, m.keys.down) && m.page == pageOverview:
		m.selectCheck(m.selected + 1)
	}
	return nil
}

// pressInList handles a key while a list is open.
func (m *model) pressInList(k tea.KeyPressMsg, list []string, choose func(string) tea.Cmd, leave func()) tea.Cmd {
	switch {
	case key.Matches(k, m.keys.up):
		m.picked = max(m.picked-1, 0)
	case key.Matches(k, m.keys.down):
		m.picked = min(m.picked+1, len(list)-1)
	case k.String() == "pgup":
		m.picked = max(m.picked-10, 0)
	case k.String() == "pgdown":
		m.picked = min(m.picked+10, len(list)-1)
	case k.String() == "enter" && m.picked < len(list):
		return choose(list[m.picked])
	case k.String() == "esc":
		leave()
	case key.Matches(k, m.keys.quit):
		return tea.Quit
	case key.Matches(k, m.keys.help):
		m.help = true
	}
	return nil
}

func (m *model) portNames() (out []string) {
	if m.set == nil || m.set.Endpoint == nil {
		return nil
	}
	for _, i := range m.set.Endpoint.Interfaces {
		if i.Kind != endpoint.LoopbackKind {
			out = append(out, i.Name)
		}
	}
	return out
}

func (m *model) pressCases(k tea.KeyPressMsg) tea.Cmd {
	names := make([]string, len(m.Cases))
	for i, c := range m.Cases {
		names[i] = c.Name
	}
	return m.pressInList(k, names, m.openCase, func() {
		if m.set != nil {
			m.page = pageOverview
		}
	})
}

func (m *model) openCase(name string) tea.Cmd {
	g, err := m.Open(name)
	if err != nil {
		m.notice = err.Error()
		return nil
	}
	picked := m.picked
	m.enter(g)
	m.keys.casePicked = picked
	m.page = pageQuestion
	return m.input.Focus()
}

func (m *model) pressQuestion(k tea.KeyPressMsg) tea.Cmd {
	switch k.String() {
	case "enter":
		return m.ask()
	case "esc":
		switch {
		case m.set != nil:
			m.page = pageOverview
		case len(m.Cases) > 0:
			m.page, m.picked = pageCases, m.keys.casePicked
		default:
			return tea.Quit
		}
		m.input.Blur()
		return nil
	case "up", "down":
		if n := len(m.Ground.Targets); n > 0 {
			step := 1
			if k.String() == "up" {
				step = n - 1
			}
			if m.input.Value() == m.Ground.Targets[m.picked%n] || k.String() == "up" {
				m.picked = (m.picked + step) % n
			}
			m.input.SetValue(m.Ground.Targets[m.picked])
			m.input.CursorEnd()
		}
		return nil
	}
	m.flaw = ""
	var cmd tea.Cmd
	m.input, cmd = m.input.Update(k)
	return cmd
}

// click chooses the check that was pointed at.
func (m *model) click(at tea.Mouse) tea.Cmd {
	if m.page != pageOverview || m.help || m.ports || m.width < leastWidth {
		return nil
	}
	for i, y := range m.overviewLayout().checkRows {
		if y == at.Y && at.X < m.width*45/100 {
			m.selectCheck(i)
		}
	}
	return nil
}
