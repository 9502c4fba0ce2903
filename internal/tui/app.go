// Package tui is the full-screen program: the question, the line, the verdict, and a view for each step of the work.
package tui

import (
	"context"
	"errors"
	"os"
	"reflect"
	"runtime"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/term"

	"passepartout/internal/acting"
	"passepartout/internal/conductor"
	"passepartout/internal/core/event"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/site"
	"passepartout/internal/core/state"
	"passepartout/internal/core/target"
	"passepartout/internal/core/topology"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
	"passepartout/internal/guard"
	"passepartout/internal/locale"
	"passepartout/internal/machine"
)

// Ground is a machine to stand at, and what is known of the case before anything was asked.
type Ground struct {
	Machine   machine.Machine
	Interface string
	Complaint string        // in the user's words; "" on a live machine
	Targets   []string      // to choose from, the first one suggested
	Sheet     *site.Sheet   // the documented network to compare with; nil if there is none
	Responder target.Target // our own responder at the far end, if there is one
	// in a demonstration: the same site after its repair; nil where nobody can be had to do it
	Mended func() (Ground, error)
	Needs  string                                          // what changing the machine needs and is not there
	Hand   func(ctx context.Context) (*acting.Hand, error) // who changes the machine; nil: nobody
	Close  func()
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
	Target   string   // asked for at once, when not empty
	Asked    bool     // Target was given, even if empty
	Cases    []Case   // a demonstration: scenarios to choose from
	Begin    []string // the names of a few of them to begin with
	Open     func(name string) (Ground, error)
	Remember func(target string)                        // called for each target that was asked for
	Left     string                                     // what there is to say of cases that were left, before anything is asked; "": nothing
	Handed   func(text string) (path string, err error) // keeps what was copied in a file; nil: it is not
	Version  string
	Theme    string                          // one of Themes; "": the first
	Recorded *Recording                      // a case to be looked at, in place of a machine; nil: there is a machine
	Beside   *Recording                      // a second one, to be laid beside it; nil: none
	Log      func(event.Event, *state.State) // hears of all that happens in the cases; nil: nobody
	Asleep   func() time.Duration            // how long the machine has been suspended so far; nil: never
}

// Run shows the program until the user leaves it. A panic in it ends it with the terminal as it was, and is an error.
func Run(ctx context.Context, c Config) error {
	var options []tea.ProgramOption
	if runtime.GOOS != "windows" { // whose keys are no octets
		options = append(options, tea.WithInput(keysOf(os.Stdin)))
	}
	if !locale.UTF8(os.Getenv) {
		options = append(options, tea.WithOutput(locale.OfFile(os.Stdout)))
	}
	return run(ctx, c, options...)
}

func run(ctx context.Context, c Config, options ...tea.ProgramOption) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	m := newModel(ctx, c)
	p := tea.NewProgram(m, append(options, tea.WithContext(ctx))...)
	defer followSuspension(p)()
	ended := make(chan struct{})
	guard.OnPanic(func() {
		cancel() // in its own time: while it is still being begun, nothing else would give the terminal back
		select {
		case <-ended:
		case <-time.After(restoring):
		}
	})
	defer guard.OnPanic(nil)
	final, err := p.Run()
	close(ended)
	if guard.Ending() {
		select {} // whoever has come to grief ends the program, with its trace
	}
	if end, ok := final.(*model); ok {
		end.leave()
	}
	if errors.Is(err, tea.ErrProgramPanic) {
		return err
	}
	if errors.Is(err, tea.ErrInterrupted) || errors.Is(err, tea.ErrProgramKilled) {
		return nil
	}
	return err
}

// restoring is how long the terminal's restoring is waited for when the program comes to grief.
const restoring = 2 * time.Second

// IsTerminal reports whether a file is a terminal on which the program can be shown.
func IsTerminal(f *os.File) bool {
	return term.IsTerminal(f.Fd())
}

// The smallest screen that can be worked on.
const (
	leastWidth  = 60
	leastHeight = 20
)

type model struct {
	Config
	ctx           context.Context
	theme         theme
	keys          keys
	width, height int
	view          *view    // of the case
	over          []*layer // what lies over it, the last on top
	now           time.Time
	drawn         tea.View // the frame that was drawn last
	lined         struct { // the line that was drawn last
		of   lineOf
		line topology.Line
	}
	unseen bool // what came since changes nothing that is shown before the next frame

	input      textinput.Model
	flaw       string // what is wrong with the input
	target     target.Target
	iface      string
	complaint  string
	picked     int             // among the suggested targets
	cases      typedList       // the complaints that are shown
	lookedInto map[string]bool // complaints

	beside     *beside              // what a second recording has to say; nil: there is none
	recorded   *recorded            // the recording that is looked at; nil: a case that lives
	case_      *conductor.Conductor // nil before anything was asked for
	generation int                  // of the case: what belongs to an earlier one is dropped
	state      state.State
	set        *evidence.Set // what stands behind what is shown; nil while nothing is known
	result     verdict.Result
	before     *verdict.Result // what the verdict is compared with: the one that it took the place of
	selected   int             // check
	moved      bool            // the user has chosen a check
	notice     string
	entry      entry
	acts       acts
	card       *handed // what is read out from; nil: it was not opened
	busy       string  // what is being done in the background, that nothing else can be done beside

	deeds     typedList
	scrolled  map[*view]*pane  // how far each view has been scrolled
	narrowing map[*view]string // what was typed to narrow the rows of a view

	held    map[reflect.Type]any // what the views hold of their own
	seen    map[reflect.Type]any // what they looked at last
	looking *view                // the view that is being looked at now
	again   bool                 // it is to be looked at once more after that
	frames  int                  // the generation of the clock
}

func newModel(ctx context.Context, c Config) *model {
	m := &model{Config: c, ctx: ctx, theme: newTheme(backgroundOf(c.Theme)), keys: newKeys(len(c.Cases) > 0), input: textinput.New(),
		now: time.Now(), held: map[reflect.Type]any{}, seen: map[reflect.Type]any{}, scrolled: map[*view]*pane{}, narrowing: map[*view]string{}, view: views[0],
		lookedInto: map[string]bool{}}
	m.input.Prompt = ""
	m.input.CharLimit = 300
	m.input.SetVirtualCursor(false)
	m.input.Placeholder = "name, address, name:port or URL; empty where nothing works at all"
	switch {
	case c.Recorded != nil:
		m.openRecording(c.Recorded, c.Beside)
	case c.Ground.Machine == nil:
		m.over = []*layer{casesLayer}
	default:
		m.Ground = Ground{} // nothing to leave yet
		m.enter(c.Ground)
		m.over, m.notice = []*layer{questionLayer}, c.Left
	}
	return m
}

// enter stands at another machine.
func (m *model) enter(g Ground) {
	m.leave()
	m.Ground = g
	m.iface, m.complaint = g.Interface, g.Complaint
	m.before, m.notice = nil, ""
	m.picked = 0
	m.input.SetValue("")
	if len(g.Targets) > 0 {
		m.input.SetValue(g.Targets[0])
	}
	m.input.CursorEnd()
}

// leave ends what runs on the present machine.
func (m *model) leave() {
	m.dismiss()
	m.end()
	if m.Ground.Close != nil {
		m.Ground.Close()
		m.Ground.Close = nil
	}
}

// end ends the present case, and all that views run in it.
func (m *model) end() {
	m.generation++
	for _, v := range views {
		if v.stop != nil {
			v.stop(m)
		}
	}
	m.held, m.seen, m.looking, m.again = map[reflect.Type]any{}, map[reflect.Type]any{}, nil, false
	m.scrolled, m.narrowing = map[*view]*pane{}, map[*view]string{}
	if m.case_ != nil {
		m.case_.Close()
		m.case_ = nil
	}
	m.state, m.set, m.result = state.State{}, nil, verdict.Result{}
	m.keys.mend.SetEnabled(false)
}

// Init implements tea.Model.
func (m *model) Init() tea.Cmd {
	cmds := []tea.Cmd{tea.RequestBackgroundColor, m.tick()}
	if m.Ground.Machine != nil {
		if m.Asked {
			m.input.SetValue(m.Config.Target)
			cmds = append(cmds, m.ask())
		} else {
			cmds = append(cmds, m.input.Focus())
		}
	}
	return tea.Batch(cmds...)
}

type (
	// newsMsg says that a case has something new.
	newsMsg struct{ generation int }
	// frameMsg is the clock's.
	frameMsg struct{ generation int }
	// doneMsg is what came of something that was done in the background.
	doneMsg struct {
		generation int
		alone      bool // nothing else could be done beside it
		take       func(*model) tea.Cmd
	}
)

// batch is how long news is gathered before the screen is drawn again.
const batch = 40 * time.Millisecond

// wait is the command that ends with the next news, a batch of it at once.
func (m *model) wait() tea.Cmd {
	ctx, news, generation := m.ctx, m.case_.News(), m.generation
	return func() tea.Msg {
		select {
		case <-news:
		case <-ctx.Done():
			return nil
		}
		select {
		case <-time.After(batch):
		case <-ctx.Done():
			return nil
		}
		return newsMsg{generation}
	}
}

// inBackground does what may take its time beside the program: f, away from the screen, and what f returns, on it, if the case is still the
// same.
func (m *model) inBackground(what string, f func() func(*model) tea.Cmd) tea.Cmd {
	generation := m.generation
	m.busy = what
	return func() tea.Msg { return doneMsg{generation, true, f()} }
}

// aside does something short that may have to wait for somebody else's lock, and looks at what it has changed.
func (m *model) aside(f func()) tea.Cmd {
	generation := m.generation
	return func() tea.Msg {
		f()
		return doneMsg{generation: generation, take: (*model).look}
	}
}

// ask begins a case for what stands in the input.
func (m *model) ask() tea.Cmd {
	t, err := target.Parse(m.input.Value())
	if err != nil {
		m.flaw = err.Error()
		return m.input.Focus()
	}
	m.flaw, m.target = "", t
	m.before = nil // another question has none before
	m.input.Blur()
	m.close(questionLayer)
	m.show(views[0])
	cmd := m.start()
	if remember := m.Remember; remember != nil && !t.IsZero() {
		return tea.Batch(cmd, func() tea.Msg { remember(t.String()); return nil })
	}
	return cmd
}

// start begins a case: its tests, and all that keeps their verdict true.
func (m *model) start() tea.Cmd {
	m.end()
	m.notice, m.moved, m.selected = "", false, 0
	m.case_ = conductor.New(m.ctx, conductor.Config{Machine: m.Ground.Machine, Target: m.target, Interface: m.iface, Families: m.Families,
		Sheet: m.Ground.Sheet, Responder: m.Ground.Responder, Deadline: m.Deadline, Thorough: true, Asleep: m.Asleep,
		Log: m.Log})
	m.case_.Start()
	return tea.Batch(m.wait(), m.open())
}

// renew has everything asked again: the tests, and what the views have looked up for themselves.
func (m *model) renew() tea.Cmd {
	if m.case_ == nil {
		return nil
	}
	if m.state.Verdict.Standing != state.NoVerdict {
		before := m.result
		m.before = &before
	}
	m.notice = ""
	m.case_.Unsay() // what was found before may have been mended since
	m.case_.Again()
	for _, v := range views {
		if v.renew != nil {
			v.renew(m)
		}
	}
	return m.look()
}

// mend has the repair done by somebody, in a demonstration, and runs the same tests again.
func (m *model) mend() tea.Cmd {
	switch {
	case m.state.Verdict.Standing == state.NoVerdict || m.busy != "":
		return nil // what is wrong is still being found out
	case m.Ground.Mended == nil:
		m.notice = "There is nothing to mend here any more: s goes on to another complaint."
		return nil
	}
	build := m.Ground.Mended
	return m.inBackground("the repair is being done", func() func(*model) tea.Cmd {
		g, err := build()
		return func(m *model) tea.Cmd {
			if err != nil {
				m.notice = err.Error()
				return nil
			}
			before, iface, asked := m.result, m.iface, m.input.Value()
			g.Sheet = m.Ground.Sheet // what is documented stays
			m.enter(g)
			m.iface = iface
			m.show(views[0])
			m.input.SetValue(asked)
			cmd := m.start()
			m.before = &before
			return cmd
		}
	})
}

// tick is the program's clock.
func (m *model) tick() tea.Cmd {
	m.frames++
	generation := m.frames
	every := time.Second
	if m.view.live || m.state.Testing() {
		every = frame
	}
	return tea.Tick(every, func(time.Time) tea.Msg { return frameMsg{generation} })
}

// frame is how often a live view is drawn anew: often enough to be seen moving, and cheap.
const frame = 500 * time.Millisecond

// Update implements tea.Model. It waits for nothing: whatever takes time is a command.
func (m *model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width, msg.Height
		return m, m.look()
	case tea.BackgroundColorMsg:
		if backgroundOf(m.Config.Theme) == unknownBackground {
			m.theme = newTheme(map[bool]background{true: darkBackground, false: lightBackground}[msg.IsDark()])
		}
	case newsMsg:
		if m.case_ == nil || msg.generation != m.generation {
			return m, nil
		}
		was := m.state
		m.take(m.case_.State())
		if sameButProbes(&was, &m.state) { // the next frame shows it
			m.unseen = true
			return m, m.wait()
		}
		return m, tea.Batch(m.wait(), m.open())
	case frameMsg:
		if msg.generation == m.frames {
			m.now = m.clock()
			look := m.look()
			m.unseen = look != nil // then it is drawn with what is fetched
			return m, tea.Batch(m.tick(), look)
		}
	case lookedMsg:
		return m, m.looked(msg)
	case doneMsg:
		if msg.generation != m.generation {
			return m, nil
		}
		if msg.alone {
			m.busy = ""
		}
		if msg.take != nil {
			return m, msg.take(m)
		}
	case actMsg:
		return m, m.acted(msg)
	case learntMsg:
		m.learnt(msg)
	case tea.KeyPressMsg:
		cmd := m.press(msg)
		return m, tea.Batch(cmd, m.look())
	case tea.PasteMsg:
		return m, m.paste(msg.Content)
	case tea.MouseWheelMsg:
		step := 1
		if msg.Button == tea.MouseWheelUp {
			step = -1
		}
		m.wheel(msg.Mouse(), step)
	case tea.MouseClickMsg:
		return m, m.click(msg.Mouse())
	}
	return m, nil
}

// clock is the time now; in a recording, that of what is looked at.
func (m *model) clock() time.Time {
	if m.recorded != nil {
		return m.state.At
	}
	return time.Now()
}

// take takes in what is known of the case now.
func (m *model) take(s state.State) {
	was := m.state
	m.state = s
	m.now = m.clock()
	if s.Round.Number > 0 && (m.set == nil || !sameButProbes(&was, &s)) {
		_, result := s.Shown()
		m.set, m.result = s.Latest(), result
		m.keys.mend.SetEnabled(len(result.Mends) > 0)
	}
	if len(s.Past) > len(was.Past) { // another verdict has taken the place of the one that was
		before := s.Past[len(s.Past)-1].Result
		m.before = &before
	}
	if !m.moved {
		m.selected = m.telling()
	}
	m.prove()
}

// sameButProbes reports whether nothing has come between two states of a case but the fates of probes and trials that told nothing new.
func sameButProbes(was, is *state.State) bool {
	v, w := &was.Verdict, &is.Verdict
	return was.Round.Number == is.Round.Number && was.Round.Over && is.Round.Over && was.Endpoint == is.Endpoint &&
		len(was.Past) == len(is.Past) &&
		v.Round == w.Round && v.Standing == w.Standing && v.Because == w.Because && v.Checked.Equal(w.Checked) &&
		len(was.Outages) == len(is.Outages) &&
		was.Trial.Works == is.Trial.Works && was.Stopped == is.Stopped
}

// settled reports whether there is a verdict.
func (m *model) settled() bool { return m.state.Verdict.Standing != state.NoVerdict }

// telling is the check that a reader should see first: the one that broke, else the service.
func (m *model) telling() int {
	best := 0
	for i, c := range m.result.Checks {
		if c.State == verdict.Broken && m.result.Zone != zone.None {
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

// paste takes in text that was pasted, where something is being typed.
func (m *model) paste(text string) tea.Cmd {
	switch top := m.top(); {
	case top == nil:
	case top.paste != nil:
		return top.paste(m, text)
	}
	return nil
}

func (m *model) pasteQuestion(text string) tea.Cmd {
	m.flaw = ""
	var cmd tea.Cmd
	m.input, cmd = m.input.Update(tea.PasteMsg{Content: strings.TrimSpace(text)})
	return cmd
}
