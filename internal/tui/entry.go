package tui

import (
	"fmt"
	"io"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"passepartout/internal/core/blame"
	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/path"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/draw"
	"passepartout/internal/probe/watch"
	"passepartout/internal/report"
)

// entry is the line at the foot of a view in which something is typed.
type entry struct {
	open  bool
	label string
	input textinput.Model
	flaw  string
	done  func(text string) error // an error keeps the line open and is shown
}

// openEntry asks for a line.
func (m *model) openEntry(label, value string, done func(string) error) tea.Cmd {
	in := textinput.New()
	in.Prompt, in.CharLimit = "", 200_000
	in.SetVirtualCursor(true)
	in.SetValue(value)
	in.CursorEnd()
	m.entry = entry{open: true, label: label, input: in, done: done}
	return m.entry.input.Focus()
}

// pressEntry handles a key while the line is open.
func (m *model) pressEntry(k tea.KeyPressMsg) tea.Cmd {
	switch k.String() {
	case "esc":
		m.entry = entry{}
		return nil
	case "enter":
		if err := m.entry.done(strings.TrimSpace(m.entry.input.Value())); err != nil {
			m.entry.flaw = err.Error()
			return nil
		}
		m.entry = entry{}
		return nil
	}
	m.entry.flaw = ""
	var cmd tea.Cmd
	m.entry.input, cmd = m.entry.input.Update(k)
	return cmd
}

// pasteEntry takes a list in one go: its lines become words.
func (m *model) pasteEntry(text string) {
	if !m.entry.open {
		return
	}
	m.entry.flaw = ""
	m.entry.input.SetValue(m.entry.input.Value() + strings.Join(strings.Fields(text), " "))
	m.entry.input.CursorEnd()
}

func (m *model) entryRow() string {
	t, r := m.theme, &row{}
	r.put(t.accent, " "+m.entry.label+" ")
	if m.entry.flaw != "" {
		return r.put(t.state[brokenState], fit(m.entry.flaw, m.width-r.width-1)).cut(m.width)
	}
	in := m.entry.input
	in.SetWidth(max(m.width-r.width-24, 10))
	r.b.WriteString(in.View())
	r.width = m.width - 22
	return r.b.String() + t.faint.Render("   enter, esc leaves")
}

// exported is what the present view can be written as; false where there is nothing yet.
func (m *model) exported() (e report.Export, name string, ok bool) {
	if m.set == nil || m.set.Endpoint == nil {
		return e, "", false
	}
	host := wiretext.Clean(m.set.Endpoint.Host)
	switch {
	case m.page == pageReach && m.reach != nil:
		var times report.Times
		m.reach.watcher.See(func(now time.Duration, subjects []*watch.Subject, l *blame.Ledger) {
			times = report.TimesOf(m.reach.watcher, now, subjects, l)
		})
		return times.Export(host), "reach", true
	case m.page == pagePath && m.path != nil && m.path.now != nil:
		x := m.path.now
		names := x.shot().names
		var trace report.Trace
		x.see(func(track *path.Track) {
			trace = report.NewTrace(m.target.Host(), track, x.flows, names, time.Since(x.began))
			trace.Apart = x.apart
		})
		return trace.Export(host, x.began), "path", true
	case m.page == pageLease:
		shown, _, _ := m.talks()
		var chosen *dhcp.Exchange
		if len(shown) > 0 {
			chosen = shown[m.lease.selected]
		}
		return report.LeaseExport(m.set.Endpoint, m.set.Interface, chosen, shown, time.Now()), "lease", true
	case m.page == pageHood && m.hood != nil:
		n := report.Neighbours{Interface: m.hood.iface, Home: m.hood.patrol.Home, HasHome: m.hood.patrol.HasHome, Picture: m.hood.patrol.See()}
		return report.Export{Data: map[string]func(io.Writer) error{".csv": n.WriteCSV, ".json": n.WriteJSON, ".txt": n.WriteText}}, "neighbours", true
	case m.page == pageNames && m.names != nil:
		asked, _, compared, _, _ := m.names.shot()
		return report.NamesExport(asked, compared), "names", asked.Name != ""
	case m.page == pagePort && m.port != nil:
		seen, _, ok := m.seen(m.set.Interface)
		return report.Export{Data: map[string]func(io.Writer) error{".json": seen.WriteJSON, ".txt": seen.WriteText}}, "port", ok
	case m.page == pageOverview || m.page == pageAddress || m.page == pageSuspects:
		set, result, at := m.set, m.result, m.began
		return report.Export{Page: func() draw.Page { return report.CheckPage(set, result, at) }, Data: map[string]func(io.Writer) error{
			".json": func(w io.Writer) error { return report.CheckJSON(w, at, set, result) },
			".txt":  func(w io.Writer) error { return report.CheckText(w, set, result) },
		}}, "check", true
	}
	return e, "", false
}

// export asks where to write what is on screen.
func (m *model) export() tea.Cmd {
	e, name, ok := m.exported()
	if !ok {
		return nil
	}
	file := fmt.Sprintf("passepartout-%s-%s%s", name, time.Now().Format("20060102-150405"), e.Endings()[0])
	return m.openEntry("write to ("+strings.Join(e.Endings(), " ")+")", file, func(path string) error {
		now, _, ok := m.exported() // as it is when enter is pressed
		if !ok {
			now = e
		}
		if err := now.Save(path); err != nil {
			return err
		}
		m.say("written to " + path)
		return nil
	})
}

// say shows what a key did, on the view that it was pressed on.
func (m *model) say(words string) {
	switch {
	case m.page == pageReach && m.reach != nil:
		m.reach.note = words
	case m.page == pagePath && m.path != nil:
		m.path.note = words
	case m.page == pageLease:
		m.lease.note = words
	case m.page == pageHood && m.hood != nil:
		m.hood.note = words
	case m.page == pageNames && m.names != nil:
		m.names.note = words
	case m.page == pagePort && m.port != nil:
		m.port.note = words
	default:
		m.notice = words
	}
}
