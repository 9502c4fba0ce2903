package tui

import (
	"fmt"
	"maps"
	"net/netip"
	"strings"
	"time"

	"passepartout/internal/core/path"
	"passepartout/internal/core/topology"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/core/wording"
	"passepartout/internal/probe"
	"passepartout/internal/report"
)

// pathShot is what the page shows, at one moment.
type pathShot struct {
	places    []path.Place
	stretches []path.Stretch
	remarks   []path.Remark
	changes   []path.Change
	reached   bool
	rounds    int
	apart     bool
	err       error
	names     map[netip.Addr]string
	at        time.Duration // since the beginning
	began     time.Time
}

// shot copies what is known of a path: as it is now, within the window, with the rounds since the beginning beside it.
func (t *tracing) shot() (s pathShot) {
	t.see(func(track *path.Track) {
		s.at = t.lasted()
		now := track.Window(s.at - window)
		s.places, s.reached, s.rounds, s.changes, s.apart, s.err = now.Places(-1), now.Reached(), track.Rounds(), track.Changes(), t.apart,
			t.err
		s.names = maps.Clone(t.names)
		s.began = t.began
	})
	s.stretches, s.remarks = path.Stretches(s.places), path.Remarks(s.places, s.reached)
	return s
}

// stalled is since when nothing comes through a stretch any more; false while something does. One round may be lost whole, and the last is
// under way.
func (s pathShot) stalled(x path.Stretch) (since time.Time, yes bool) {
	const rounds = 3
	if x.Through == 0 || s.at-x.Last < rounds*time.Second+pathPatience {
		return time.Time{}, false
	}
	return s.began.Add(x.Last), true
}

// called is how a station is called: its name without the site's domain, else its address.
func (m *model) called(s pathShot, a netip.Addr) string {
	if n := s.names[a]; n != "" {
		return wiretext.Clean(topology.Short(n, m.set))
	}
	return a.String()
}

func (m *model) pathPage() []string {
	t := m.theme
	lines := m.head()
	if m.path() == nil {
		words := "The path is shown as soon as an address to go to is known."
		switch {
		case m.recorded != nil:
			words = "The tests had followed no way by then."
		case m.set != nil && m.target.IsZero() && m.state.Round.Over:
			words = "Nothing beyond the gateway was asked for, and no name server beyond it is set: there is nowhere to go. " +
				"t asks for a target."
		case m.set != nil && m.state.Round.Over:
			words = "The target's name has led to no address, so that there is no way to show. The overview says why; t asks for " +
				"another target."
		}
		for _, l := range wrap(words, m.width-4, 3) {
			lines = append(lines, "", "  "+t.faint.Render(l))
		}
		return lines
	}
	s := m.pathSeen().now
	lines = append(lines, m.pathHead(m.path().now, s)...)
	lines = append(lines, "")
	if m.path().choosing {
		return append(lines, m.besideList()...)
	}
	if m.path().beside != nil {
		lines = append(lines, m.sideBySide(s, m.path().beside)...)
		return lines
	}
	if len(s.places) == 0 {
		words := fmt.Sprintf("Asked for %d s. Nothing on the way has answered yet.", int(m.now.Sub(m.path().now.began).Seconds()))
		if s.err != nil {
			words = "The path cannot be asked: " + s.err.Error()
		}
		return append(lines, "  "+t.faint.Render(words))
	}
	top := rulerTop(s.places)
	lines = append(lines, m.ruler(s, top)...)
	lines = append(lines, "")
	room := m.height - len(lines) - 4 - min(len(s.changes), 2)
	body, at := m.stretchRows(s, top, room)
	scroll := max(at-room+2, 0)
	for y := scroll; y < len(body) && y < scroll+room; y++ {
		lines = append(lines, body[y])
	}
	for i := max(len(s.changes)-2, 0); i < len(s.changes); i++ {
		c := s.changes[i]
		r := &row{}
		r.put(t.faint, " "+wording.Clock(m.path().now.began.Add(c.At))).
			put(t.state[verdict.Strained],
				fmt.Sprintf("  the path changed at station %d, from %s to %s", c.HopLimit, m.called(s, c.Was), m.called(s, c.Is)))
		lines = append(lines, r.cut(m.width))
	}
	return lines
}

func (m *model) pathHead(x *tracing, s pathShot) []string {
	t := m.theme
	how := "one flow"
	switch {
	case s.apart:
		how = "each station by a connection of its own"
	case x.flows > 1:
		how = fmt.Sprintf("%d flows side by side", x.flows)
	}
	method := map[probe.TraceMethod]string{probe.TraceICMP: "ICMP echo", probe.TraceUDP: "UDP",
		probe.TraceTCP: fmt.Sprintf("TCP %d", x.to.Port())}[x.method]
	who := x.to.Addr().String()
	if m.target.Name != "" {
		who = m.target.Host() + " " + who
	}
	when := fmt.Sprintf("the last minute of %s since %s", wording.Plural(s.rounds, "round", "rounds"), wording.Clock(x.began))
	if m.recorded != nil {
		when = "as the tests that began at " + wording.Clock(x.began) + " saw it"
	}
	r := &row{}
	r.put(t.loud, " to "+wiretext.Clean(who)).put(t.faint, fmt.Sprintf(", %s, %s, %s", method, how, when))
	out := []string{r.cut(m.width)}
	if s.apart {
		out = append(out,
			" "+t.faint.Render(fit("One flow for all stations needs raw frames: "+m.Ground.Machine.Permissions().Frames.Mend, m.width-2)))
	}
	return out
}

// rulerTop is the upper end of the ruler: a round time above the slowest usual answer.
func rulerTop(places []path.Place) time.Duration {
	top := time.Duration(0)
	for _, p := range places {
		for _, v := range p.Voices {
			top = max(top, v.Times.P95)
		}
	}
	for unit := 10 * time.Microsecond; unit <= time.Minute; unit *= 10 {
		for _, step := range []time.Duration{10, 12, 16, 20, 24, 30, 40, 50, 60, 80} {
			if round := step * unit; round >= top*21/20 {
				return round
			}
		}
	}
	return top
}

// divisions is into how many round parts a ruler that ends there is divided.
func divisions(top time.Duration) int {
	for top >= 100 && top%10 == 0 {
		top /= 10
	}
	switch top {
	case 10, 50:
		return 5
	case 30, 60:
		return 3
	}
	return 4
}

const rulerLeft = 2

// on gives a time's column on the ruler.
func (m *model) on(d, top time.Duration) int {
	return rulerLeft + int(float64(d)/float64(max(top, 1))*float64(m.width-2*rulerLeft-8))
}

// ruler draws the scale of round trips with the stations hung below it, each where its usual time is.
func (m *model) ruler(s pathShot, top time.Duration) []string {
	t := m.theme
	words, scale := &row{}, &row{}
	end, parts := m.on(top, top), divisions(top)
	scale.at(rulerLeft)
	for i := range end - rulerLeft + 1 {
		shape := "─"
		switch i {
		case 0:
			shape = "├"
		case end - rulerLeft:
			shape = "┤"
		}
		for k := 1; k < parts; k++ {
			if rulerLeft+i == m.on(top*time.Duration(k)/time.Duration(parts), top) {
				shape = "┬"
			}
		}
		scale.put(t.faint, shape)
	}
	for k := range parts + 1 {
		d := top * time.Duration(k) / time.Duration(parts)
		label := fmt.Sprintf("%g ms", float64(d)/float64(time.Millisecond))
		if k == 0 {
			label = "0"
		}
		words.at(m.on(d, top)).put(t.faint, label)
	}
	out := []string{words.cut(m.width), scale.cut(m.width)}
	// Names that would overlap hang lower.
	const most = 4
	rows := make([]*row, most)
	for i := range rows {
		rows[i] = &row{}
	}
	used := 0
	for _, p := range s.places {
		d, ok := p.Median()
		if !ok {
			continue
		}
		style := m.placeStyle(s, p)
		column := m.on(d, top)
		for i := range most {
			if column <= rows[i].width && rows[i].width > 0 {
				continue
			}
			rows[i].at(column).put(style, "┃").put(t.text, fit(m.called(s, p.From()), m.width-column-2)+" ")
			for above := range i {
				if rows[above].width <= column {
					rows[above].at(column).put(style, "┃")
				}
			}
			used = max(used, i+1)
			break
		}
	}
	for _, r := range rows[:used] {
		out = append(out, r.cut(m.width))
	}
	return out
}

// placeStyle is the colour of a place: what is wrong there stands out.
func (m *model) placeStyle(s pathShot, p path.Place) paint {
	for _, r := range s.remarks {
		if r.HopLimit == p.HopLimit && !r.Harmless {
			return m.theme.state[verdict.Broken]
		}
	}
	return m.theme.state[verdict.Holds]
}

// stretchRows are the stretches, unfolded or not: where all of them have room they are unfolded, and enter folds. at is the row of the
// selected one.
func (m *model) stretchRows(s pathShot, top time.Duration, room int) (rows []string, at int) {
	t := m.theme
	all := len(s.stretches) + 1
	for _, p := range s.places {
		all += 2 * max(len(p.Voices), 1)
	}
	m.path().selected = min(max(m.path().selected, 0), len(s.stretches)-1)
	for i, x := range s.stretches {
		r := &row{}
		name := t.text
		mark := "▸"
		open := m.path().open[x.Segment] != (all <= room)
		if open {
			mark = "▾"
		}
		if i == m.path().selected {
			at, name = len(rows), t.loud
			r.put(t.accent, " "+mark)
		} else {
			r.put(t.faint, " "+mark)
		}
		r.at(4).put(name, report.SegmentWords[x.Segment]).at(30)
		if x.Known {
			r.put(t.text, "adds "+wording.Millis(x.Adds))
		}
		through, state := report.ThroughWords(x), verdict.Holds
		worst := ""
		for _, p := range x.Places {
			for _, remark := range s.remarks {
				if remark.HopLimit != p.HopLimit {
					continue
				}
				if worst == "" || !remark.Harmless {
					worst = m.remarkWords(s, p, remark)
				}
				switch {
				case remark.Harmless:
				case remark.ID == "path-slow":
					state, through = verdict.Strained, "slow"
				default:
					state = verdict.Broken
				}
				if remark.ID == "path-ends" || remark.ID == "refused" {
					through = "ends here"
				}
			}
		}
		if x.Through < .995 && state == verdict.Holds {
			state = verdict.Strained
		}
		if since, yes := s.stalled(x); yes {
			state, through = verdict.Broken, "nothing comes through since "+wording.Clock(since)
		}
		r.at(46).put(t.state[state], strands[state]+" "+through)
		if worst != "" && !open { // unfolded, it stands at its station
			style := t.faint
			if state == verdict.Broken || state == verdict.Strained {
				style = t.state[state]
			}
			if m.width < 110 { // a row of its own where there is no room beside it
				rows = append(rows, r.cut(m.width))
				r = &row{}
				r.at(6).put(style, fit(worst, m.width-7))
			} else {
				r.at(max(r.width+3, 70)).put(style, worst)
			}
		}
		rows = append(rows, r.cut(m.width))
		if open {
			for _, p := range x.Places {
				rows = append(rows, m.placeRows(s, p, top)...)
			}
		}
	}
	if !s.reached && len(s.places) > 0 {
		r := &row{}
		r.at(4).put(t.faint, "destination").at(46).put(t.state[verdict.StateUnknown], strands[verdict.StateUnknown]+" not reached")
		rows = append(rows, r.cut(m.width))
	}
	return rows, at
}

func (m *model) remarkWords(s pathShot, p path.Place, r path.Remark) string {
	who := fmt.Sprintf("station %d", p.HopLimit)
	if p.From().IsValid() {
		who = m.called(s, p.From())
	}
	return who + ": " + r.Words
}

// placeRows unfold one place: its stations, and their times as ranges on the one ruler.
func (m *model) placeRows(s pathShot, p path.Place, top time.Duration) (rows []string) {
	t := m.theme
	var remarks []string
	bad := false
	for _, r := range s.remarks {
		if r.HopLimit == p.HopLimit {
			bad = bad || !r.Harmless
			remarks = append(remarks, r.Words)
		}
	}
	if len(p.Voices) == 0 {
		r := &row{}
		r.at(6).put(t.state[verdict.StateUnknown], fmt.Sprintf("┈┈ station %d  ", p.HopLimit)).put(t.faint, strings.Join(remarks, "; "))
		return []string{r.cut(m.width)}
	}
	for i, v := range p.Voices {
		r := &row{}
		r.at(6).put(m.placeStyle(s, p), "┃ ").put(t.text, fit(m.called(s, v.From), 22)).at(32)
		if s.names[v.From] != "" {
			r.put(t.faint, v.From.String())
		}
		words := wording.Millis(v.Times.Median)
		if v.Received > 1 {
			words += fmt.Sprintf(", %s to %s", wording.Millis(v.Times.Least), wording.Millis(v.Times.Top))
		}
		r.at(50).put(t.text, words)
		share := fmt.Sprintf("%d of %d", p.Received, p.Sent)
		if len(p.Voices) > 1 {
			share = fmt.Sprintf("%d answers, flows %s", v.Received, flowsWords(v.Flows))
		}
		r.at(78).put(t.faint, share)
		if i == 0 && len(remarks) > 0 {
			style := t.faint
			if bad {
				style = t.state[verdict.Broken]
			}
			r.put(style, "   "+strings.Join(remarks, "; "))
		}
		rows = append(rows, r.cut(m.width))
		span := &row{}
		low, mid, high := m.on(v.Times.Least, top), m.on(v.Times.Median, top), m.on(min(v.Times.Top, top), top)
		for column := low; column <= high; column++ {
			shape := "─"
			switch {
			case column == mid:
				shape = "●"
			case column == low:
				shape = "├"
			case column == high:
				shape = "┤"
			}
			span.at(column).put(t.state[verdict.Holds], shape)
		}
		if v.Times.Top > top {
			span.put(t.faint, "┄▸")
		}
		rows = append(rows, span.cut(m.width))
	}
	return rows
}

func flowsWords(flows []int) string {
	var out []string
	for _, f := range flows {
		out = append(out, fmt.Sprint(f+1))
	}
	return strings.Join(out, " ")
}

// besideList lets choose what is laid beside the path.
func (m *model) besideList() (lines []string) {
	t := m.theme
	lines = append(lines, "  "+t.loud.Render("Lay beside it"), "")
	for i, c := range m.besideChoices() {
		mark, style := "   ", t.text
		if i == m.path().picked {
			mark, style = " ▸ ", t.loud
		}
		lines = append(lines, " "+t.accent.Render(mark)+style.Render(c.label))
	}
	return append(lines, "", "  "+t.faint.Render("enter chooses, esc leaves"))
}

// sideBySide lays two paths next to each other and marks where they part.
func (m *model) sideBySide(s pathShot, other *tracing) (lines []string) {
	t := m.theme
	o := m.pathSeen().beside
	half := (m.width - 8) / 2
	head := &row{}
	head.at(6).put(t.loud, fit(m.labelOf(m.path().now), half-2)).at(8+half).put(t.loud, fit(m.labelOf(other), half-2))
	lines = append(lines, head.cut(m.width), "")
	cell := func(r *row, at int, s pathShot, p *path.Place) {
		r.at(at)
		switch {
		case p == nil:
			r.put(t.faint, "–")
		case !p.From().IsValid():
			r.put(t.faint, "┈┈ keeps silent")
		default:
			d, _ := p.Median()
			who := m.called(s, p.From())
			if half > 44 && who != p.From().String() {
				who += " " + p.From().String()
			}
			style := t.text
			if p.State == path.DestinationState {
				style = t.loud
			}
			r.put(style, fit(who, half-22)).at(at+half-20).put(t.faint, fmt.Sprintf("%9s", wording.Millis(d)))
			if p.Received < p.Sent {
				r.put(t.faint, fmt.Sprintf(" %d of %d", p.Received, p.Sent))
			}
		}
	}
	differ := 0
	for _, p := range path.Compare(s.places, o.places) {
		r := &row{}
		cell(r, 6, s, p.A)
		mark := "  "
		if p.Differ {
			mark = "≠ "
			differ++
		}
		r.at(5+half).put(t.state[verdict.Strained], mark)
		cell(r, 8+half, o, p.B)
		lines = append(lines, r.cut(m.width))
	}
	ends := &row{}
	for i, x := range []pathShot{s, o} {
		ends.at(6 + i*(half+2))
		switch {
		case x.reached:
			ends.put(t.state[verdict.Holds], "━━ reached")
		case len(x.places) > 0:
			ends.put(t.state[verdict.Broken], "━╳ ends here")
		}
	}
	lines = append(lines, ends.cut(m.width))
	words := "They take the same stations."
	if differ > 0 {
		words = fmt.Sprintf("They part at %s, marked ≠.", wording.Plural(differ, "place", "places"))
	}
	return append(lines, "", " "+t.text.Render(words))
}

func (m *model) labelOf(x *tracing) string {
	if x.label != "" {
		return x.label
	}
	return "now, " +
		map[probe.TraceMethod]string{probe.TraceICMP: "by ICMP echo", probe.TraceUDP: "by UDP", probe.TraceTCP: "by TCP"}[x.method]
}
