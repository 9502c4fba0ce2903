package tui

import (
	"cmp"
	"fmt"
	"slices"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"passepartout/internal/core/state"
	"passepartout/internal/core/verdict"
)

// Recording is a case that was kept, to be looked at as it was: nothing is asked of any network, and nothing can be changed.
type Recording struct {
	Name      string
	Timeline  *state.Timeline
	Complaint string
	Simulated bool
}

// recorded is where in a recording one stands.
type recorded struct {
	*Recording
	moments []state.Moment
	at      int
}

// openRecording stands at the end of a recording: what was known last. Of two, what parts them is shown first.
func (m *model) openRecording(r, other *Recording) {
	m.recorded = &recorded{Recording: r, moments: r.Timeline.Moments()}
	if other != nil {
		moments := other.Timeline.Moments()
		m.beside = &beside{other: &recorded{Recording: other, moments: moments, at: max(len(moments)-1, 0)}}
		m.over = []*layer{besideLayer}
	}
	m.complaint = r.Complaint
	m.seek(len(m.recorded.moments) - 1)
	if other != nil {
		m.compare()
	}
}

// here is what was known at the moment where one stands.
func (r *recorded) here() state.State {
	if last := len(r.moments) - 1; r.at < last {
		return r.Timeline.At(r.moments[r.at].At)
	}
	return r.Timeline.End() // after the last moment, too, names and answers have come
}

// seek goes to a moment of the recording: what is shown is what was known then.
func (m *model) seek(i int) {
	r := m.recorded
	r.at = min(max(i, 0), max(len(r.moments)-1, 0))
	s := r.here()
	m.state, m.set, m.result, m.before = state.State{}, nil, verdict.Result{}, nil
	m.now = s.At
	forget[reachShot](m) // they were about another moment
	forget[segmentSeen](m)
	m.take(s)
	m.before = nil
	if m.set != nil {
		m.target, m.iface = m.set.Target, m.set.Interface
	} else {
		letGo[pathChoice](m)
	}
	m.keys.mend.SetEnabled(false)
}

// recordedDeeds are what the keys do in a recording alone.
var recordedDeeds = []deed{
	{",", "back in time", "the moment before", false},
	{".", "on in time", "the moment after", false},
	{"<", "beginning", "the first moment", false},
	{">", "end", "the last moment", false},
	{"=", "beside", "what parts this case from the other that was opened with it", false},
}

// inRecording are the keys of a view that only move about in it.
var inRecording = []string{"up", "down", "j", "k", "pgup", "pgdown", "home", "end", "enter", "+", "-"}

// pressRecorded handles a key while a recording is looked at.
func (m *model) pressRecorded(k tea.KeyPressMsg) tea.Cmd {
	switch k.String() {
	case ",":
		m.seek(m.recorded.at - 1)
		return m.open()
	case ".":
		m.seek(m.recorded.at + 1)
		return m.open()
	case "<":
		m.seek(0)
		return m.open()
	case ">":
		m.seek(len(m.recorded.moments) - 1)
		return m.open()
	case "=":
		if m.beside != nil {
			m.compare()
			m.lay(besideLayer)
		}
		return nil
	}
	if m.view.kept && m.view.press != nil && slices.Contains(inRecording, k.String()) {
		if cmd, taken := m.view.press(m, k); taken {
			return tea.Batch(cmd, m.look())
		}
	}
	if cmd, taken := m.pressNarrow(k); taken && m.view.kept {
		return cmd
	}
	if m.scroll().press(k.String()) {
		return nil
	}
	if i := slices.IndexFunc(views, func(v *view) bool { return v.key == k.String() }); i >= 0 {
		m.show(views[i])
		return tea.Batch(m.tick(), m.open())
	}
	switch {
	case key.Matches(k, m.keys.quit):
		return tea.Quit
	case key.Matches(k, m.keys.help):
		m.openDeeds()
	case key.Matches(k, m.keys.export) && m.view.kept:
		return m.export()
	case key.Matches(k, m.keys.values):
		return m.openValues()
	case key.Matches(k, m.keys.walk):
		return m.walk(map[string]int{"left": -1, "right": 1}[k.String()])
	}
	return nil
}

// unrecorded is what a view shows that is about doing something.
func (m *model) unrecorded() []string {
	words := cmp.Or(m.view.lacks, "This is a recording: nothing can be changed here. What was changed then stands among the values (v).")
	lines := append(m.head(), "")
	for _, line := range wrap(words, m.width-4, 3) {
		lines = append(lines, "  "+m.theme.faint.Render(line))
	}
	return lines
}

// recordedFoot is the bottom line: where in the recording this is.
func (m *model) recordedFoot() string {
	t, r, rec := m.theme, &row{}, m.recorded
	r.put(t.text, " ")
	if m.beside != nil {
		r.put(t.key, "=").put(t.faint, " beside  ")
	}
	if m.view.kept {
		for _, d := range m.view.deeds {
			if !d.more && slices.Contains(inRecording, d.key) {
				r.put(t.key, d.key).put(t.faint, " "+d.name+"  ")
			}
		}
	}
	r.put(t.key, ", .").put(t.faint, " in time  ").put(t.key, "v").put(t.faint, " values  ").
		put(t.key, "?").put(t.faint, " all keys  ")
	where := "nothing is in it"
	if n := len(rec.moments); n > 0 {
		where = fmt.Sprintf("%d of %d: %s", rec.at+1, n, rec.moments[rec.at].What)
	}
	where = fit(where, m.width-r.width-2)
	return r.at(m.width-ansi.StringWidth(where)-1).put(t.accent, where).cut(m.width)
}
