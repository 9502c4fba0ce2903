package tui

import (
	"context"
	"fmt"
	"io"
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"passepartout/internal/core/verdict"
)

// entry is the line at the foot of a view in which something is typed.
type entry struct {
	label string
	input textinput.Model
	flaw  string
	done  func(text string) (tea.Cmd, error) // an error keeps the line open and is shown
	typed func(text string) tea.Cmd          // nil: nothing follows what is typed while it is
	left  func() tea.Cmd                     // nil: leaving the line changes nothing
	offer bool                               // what stands there is an offer: the first letter that is typed takes its place
}

// openEntry asks for a line.
func (m *model) openEntry(label, value string, done func(string) (tea.Cmd, error)) tea.Cmd {
	in := textinput.New()
	in.Prompt, in.CharLimit = "", 200_000
	in.SetVirtualCursor(true)
	in.SetValue(value)
	in.CursorEnd()
	m.entry = entry{label: label, input: in, done: done}
	m.lay(entryLayer)
	return m.entry.input.Focus()
}

// offerEntry asks for a line, and offers one.
func (m *model) offerEntry(label, value string, done func(string) (tea.Cmd, error)) tea.Cmd {
	cmd := m.openEntry(label, value, done)
	m.entry.offer = true
	return cmd
}

// pressEntry handles a key while the line is open.
func (m *model) pressEntry(k tea.KeyPressMsg) tea.Cmd {
	switch k.String() {
	case "esc":
		m.close(entryLayer)
		if m.entry.left != nil {
			return m.entry.left()
		}
		return nil
	case "enter":
		cmd, err := m.entry.done(strings.TrimSpace(m.entry.input.Value()))
		if err != nil {
			m.entry.flaw = err.Error()
			return nil
		}
		m.close(entryLayer)
		return cmd
	}
	m.entry.flaw = ""
	if m.entry.offer && k.Text != "" {
		m.entry.input.SetValue("")
	}
	m.entry.offer = false
	var cmd tea.Cmd
	m.entry.input, cmd = m.entry.input.Update(k)
	return tea.Batch(cmd, m.entry.follow())
}

// follow does what follows what is typed, while it is.
func (e *entry) follow() tea.Cmd {
	if e.typed == nil {
		return nil
	}
	return e.typed(e.input.Value())
}

// pasteEntry takes a list in one go: its lines become words.
func (m *model) pasteEntry(text string) tea.Cmd {
	m.entry.flaw = ""
	if m.entry.offer {
		m.entry.input.SetValue("")
	}
	m.entry.offer = false
	m.entry.input.SetValue(m.entry.input.Value() + strings.Join(strings.Fields(text), " "))
	m.entry.input.CursorEnd()
	return m.entry.follow()
}

func (m *model) entryRow() string {
	t, r := m.theme, &row{}
	r.put(t.accent, " "+m.entry.label+" ")
	if m.entry.flaw != "" {
		return r.put(t.state[verdict.Broken], fit(m.entry.flaw, m.width-r.width-1)).cut(m.width)
	}
	in := m.entry.input
	in.SetWidth(max(m.width-r.width-24, 10))
	r.b.WriteString(in.View())
	r.width = m.width - 22
	return r.b.String() + t.faint.Render("   enter, esc leaves")
}

// export asks where to write what is on screen.
func (m *model) export() tea.Cmd {
	if m.set == nil || m.set.Endpoint == nil || m.view.export == nil {
		return nil
	}
	v := m.view
	e, ok := v.export(m)
	if !ok {
		return nil
	}
	file := fmt.Sprintf("passepartout-%s-%s%s", v.name, m.now.Format("20060102-150405"), e.Endings()[0])
	return m.offerEntry("write to ("+strings.Join(e.Endings(), " ")+")", file, func(path string) (tea.Cmd, error) {
		now, ok := v.export(m) // as it is when enter is pressed
		if !ok {
			now = e
		}
		if err := now.Check(path); err != nil {
			return nil, err
		}
		m.say(v, "writing "+path+" …")
		return m.inBackground("what is on screen is being written", func() func(*model) tea.Cmd {
			err := now.Save(path)
			return func(m *model) tea.Cmd {
				if err == nil {
					m.say(v, "written to "+path)
					return nil
				}
				m.say(v, err.Error()) // and nothing that was typed is lost
				m.lay(entryLayer)
				m.entry.flaw = err.Error()
				return m.entry.input.Focus()
			}
		}), nil
	})
}

// say shows what a key did, on the view that it was pressed on.
func (m *model) say(v *view, words string) {
	if v.say != nil {
		v.say(m, words)
		return
	}
	m.notice = words
}

// ending is a reader that ends with a context.
type ending struct {
	ctx  context.Context
	from io.Reader
}

func (e ending) Read(p []byte) (int, error) {
	if err := e.ctx.Err(); err != nil {
		return 0, err
	}
	return e.from.Read(p)
}
