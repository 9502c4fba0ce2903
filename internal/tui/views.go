package tui

import (
	"reflect"

	tea "charm.land/bubbletea/v2"

	"passepartout/internal/report"
)

// view is all that the program knows of one view: adding one is a file that holds its value, and its name in the list below. A view holds
// what a person has chosen in it, and what it has looked up for itself; all else is the case's. It waits for nothing and takes no lock:
// what lies behind one is fetched by look.
type view struct {
	key     string // that shows it
	name    string
	short   string      // in a narrow window
	does    string      // in the help's list of keys
	at      string      // the station of the line that stands for its matter; "" for none
	live    bool        // it moves by itself
	sets    string      // the handle by which its matter is changed; "" for none
	kept    bool        // what it shows follows from the log of the case alone: in a recording it is as it was
	lacks   string      // what stands there in a recording, of a view that is not kept; "": that nothing can be changed
	narrows string      // what its rows are narrowed by when something is typed (/): an address, a name; "": they are not
	full    bool        // it draws the line in full, and the verdict with all that belongs to it
	marks   [][2]string // what its marks mean
	deeds   []deed      // its own keys, and what they do

	from   func(m *model, was *view)                         // it is about to be shown in place of another; nil: that is nothing to it
	open   func(m *model)                                    // it is shown, or something new is known: begins what it runs, once it can
	look   func(m *model) func() any                         // what fetches its data, away from the screen; nil: nothing at present
	replay func(m *model) func() any                         // look, in a recording; nil: nothing is fetched there
	draw   func(m *model) []string                           // all rows but the foot
	press  func(m *model, k tea.KeyPressMsg) (tea.Cmd, bool) // false: the key is not its own
	wheel  func(m *model, at tea.Mouse, step int)            // nil: nothing to scroll
	click  func(m *model, at tea.Mouse) (tea.Cmd, bool)      // nil: nothing to click
	say    func(m *model, words string)                      // shows what a key has done; nil: beside the verdict
	note   func(m *model) string                             // what a key has done, for the last row of its page; nil: the page has it
	export func(m *model) (e report.Export, ok bool)         // what it can be written as
	renew  func(m *model)                                    // asks again what it has looked up for itself
	stop   func(m *model)                                    // ends what it runs, if it runs anything
}

// views are all that there are, in the order of the work.
var views []*view

func init() { // they refer to each other by way of this list
	views = []*view{overviewView, addressView, leaseView, neighboursView, namesView, reachView, pathView, countersView, suspectsView,
		actsView, socketsView, passingView}
}

// hold gives what a view holds of its own, by its type; nil while it holds nothing.
func hold[T any](m *model) *T {
	x, _ := m.held[reflect.TypeFor[T]()].(*T)
	return x
}

// letGo has it hold nothing.
func letGo[T any](m *model) { delete(m.held, reflect.TypeFor[T]()) }

// keep has a view hold something of its own, until the case ends.
func keep[T any](m *model, x *T) { m.held[reflect.TypeFor[T]()] = x }

// lookedAt gives what a view looked at last, by its type, and false before it has.
func lookedAt[T any](m *model) (T, bool) {
	x, ok := m.seen[reflect.TypeFor[T]()].(T)
	return x, ok
}

// forget drops what was looked at last: it is not about what is shown any more.
func forget[T any](m *model) { delete(m.seen, reflect.TypeFor[T]()) }

// show shows a view.
func (m *model) show(v *view) {
	if v.from != nil && m.view != v {
		v.from(m, m.view)
	}
	if m.view != v {
		letGo[pane](m)
	}
	m.view = v
}

// open has the view that is shown begin what it runs, if it can, and look.
func (m *model) open() tea.Cmd {
	if m.recorded != nil && !m.view.kept {
		return nil
	}
	if m.view.open != nil && m.set != nil {
		m.view.open(m)
	}
	return m.look()
}

// lookedMsg is what a view looked at.
type lookedMsg struct {
	generation int
	view       *view
	data       any
}

// look fetches the data of the view that is shown. While that is under way, the next look waits for its turn.
func (m *model) look() tea.Cmd {
	look := m.view.look
	if m.recorded != nil {
		look = m.view.replay
	}
	if look == nil {
		return nil
	}
	if m.looking == m.view {
		m.again = true
		return nil
	}
	fetch := look(m)
	if fetch == nil {
		return nil
	}
	v, generation := m.view, m.generation
	m.looking, m.again = v, false
	return func() tea.Msg { return lookedMsg{generation, v, fetch()} }
}

// looked takes in what was fetched, unless it belongs to another case.
func (m *model) looked(msg lookedMsg) tea.Cmd {
	if msg.generation != m.generation {
		return nil
	}
	if msg.data != nil {
		m.seen[reflect.TypeOf(msg.data)] = msg.data
	}
	if m.looking == msg.view {
		m.looking = nil
	}
	if m.again && m.looking == nil {
		return m.look()
	}
	return nil
}
