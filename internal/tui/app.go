// Package tui is the full-screen program: the question, the line, the verdict, and a view for each step of the work.
package tui

import (
	"context"
	"errors"
	"os"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/site"
	"passepartout/internal/core/target"
	"passepartout/internal/core/verdict"
	"passepartout/internal/machine"
	"passepartout/internal/probe/plan"
)

// Ground is a machine to stand at, and what is known of the case before anything was asked.
type Ground struct {
	Machine   machine.Machine
	Interface string
	Complaint string                 // in the user's words; "" on a live machine
	Targets   []string               // to choose from, the first one suggested
	Sheet     *site.Sheet            // the documented network to compare with; nil if there is none
	Responder target.Target          // our own responder at the far end, if there is one
	Mended    func() (Ground, error) // in a demonstration: the same site after its repair; nil where nobody can be had to do it
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

// framesPerSecond is how often a change may reach the terminal: twice the usual, so that a key is answered within two hundredths of a second.
const framesPerSecond = 120

// Run shows the program until the user leaves it.
func Run(ctx context.Context, c Config) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	m := newModel(ctx, c)
	final, err := tea.NewProgram(m, tea.WithContext(ctx), tea.WithFPS(framesPerSecond)).Run()
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
	pageLease
	pageHood
	pageNames
	pageReach
	pagePath
	pagePort
	pageSuspects
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
	saying        bool // the questions to the person are open
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
	said       []evidence.Said // what the person has answered in this run
	over       bool
	failed     error
	first      *verdict.Result // the first settled verdict of this run
	before     *verdict.Result // what came out of the run before, of the same question
	selected   int             // check
	moved      bool            // the user has chosen a check
	watch      context.CancelFunc
	changes    <-chan struct{}
	notice     string

	entry    entry
	lease    *leaseView
	reach    *watching
	path     *pathView
	hood     *hoodView
	names    *namesView
	port     *portView
	suspects suspectsView
	frames   int // the generation of the live views' clock
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
	m := &model{Config: c, ctx: ctx, theme: newTheme(true), keys: newKeys(len(c.Cases) > 0), input: textinput.New(), lease: &leaseView{}}
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
	m.set, m.result, m.first, m.before, m.notice, m.over = nil, verdict.Result{}, nil, nil, "", false
	m.picked = 0
	m.input.SetValue("")
	if len(g.Targets) > 0 {
		m.input.SetValue(g.Targets[0])
	}
	m.input.CursorEnd()
}

// leave ends what runs on the present machine.
func (m *model) leave() {
	m.unwatch()
	m.stopHood()
	m.stopNames()
	m.stopPort()
	m.lease.close()
	m.lease = &leaseView{}
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
	if t != m.target || m.set == nil {
		m.unwatch() // what was watched was about another question
	}
	m.flaw, m.target = "", t
	m.first, m.before = nil, nil // another question has no run before
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
	if m.first != nil {
		before := m.result
		m.before = &before
	}
	m.generation++
	m.began, m.over, m.failed, m.first, m.notice = time.Now(), false, nil, nil, ""
	m.moved, m.selected = false, 0
	m.said, m.saying = nil, false // what was found before may have been mended since
	m.set, m.result = nil, verdict.Result{}
	view, ground := m.lease, m.Ground.Machine
	m.run = startRun(m.ctx, m.generation, plan.Config{Machine: ground, Chosen: func(iface string) { view.listen(ground, iface) }, Target: m.target, Interface: m.iface, Families: m.Families, Sheet: m.Ground.Sheet, Responder: m.Ground.Responder}, m.Deadline)
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

// mend has the repair done by somebody, in a demonstration, and runs the same tests again.
func (m *model) mend() tea.Cmd {
	switch {
	case m.first == nil:
		return nil // what is wrong is still being found out
	case m.Ground.Mended == nil:
		m.notice = "There is nothing to mend here any more: s goes on to another complaint."
		return nil
	}
	g, err := m.Ground.Mended()
	if err != nil {
		m.notice = err.Error()
		return nil
	}
	before, first, iface, asked := m.result, m.first, m.iface, m.input.Value()
	g.Sheet = m.Ground.Sheet // what is documented stays
	m.enter(g)
	m.result, m.first, m.iface, m.page = before, first, iface, pageOverview
	m.input.SetValue(asked)
	return m.start()
}

func (m *model) tick() tea.Cmd {
	generation := m.generation
	return tea.Tick(100*time.Millisecond, func(time.Time) tea.Msg { return tickMsg{generation} })
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
	case frameMsg:
		return m, m.takeFrame(msg)
	case changedMsg:
		return m, m.takeChange(msg)
	case tea.KeyPressMsg:
		return m, m.press(msg)
	case tea.PasteMsg:
		if m.entry.open {
			m.pasteEntry(msg.Content)
			return m, nil
		}
		if m.page == pageQuestion {
			m.flaw = ""
			var cmd tea.Cmd
			m.input, cmd = m.input.Update(tea.PasteMsg{Content: strings.TrimSpace(msg.Content)})
			return m, cmd
		}
	case tea.MouseWheelMsg:
		if m.page == pageReach && m.reach != nil || m.page == pagePath && m.path != nil {
			step := 1
			if msg.Button == tea.MouseWheelUp {
				step = -1
			}
			if m.page == pageReach {
				m.reach.selected += step
			} else {
				m.path.selected += step
			}
			return m, nil
		}
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
	var live tea.Cmd
	if m.wantsLive() {
		live = m.live() // asked for before there was anything to watch
	}
	m.witness()
	if over {
		return live
	}
	return tea.Batch(live, m.run.wait(m.ctx))
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
