package tui

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"passepartout/internal/core/blame"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/series"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
	"passepartout/internal/probe/watch"
	"passepartout/internal/report"
)

// watched is one target as the page needs it, copied out of the watcher.
type watched struct {
	id      int
	spec    watch.Spec
	address netip.Addr
	trouble string
	paused  bool
	done    bool
	counts  series.Counts
	times   series.Spread
	points  []series.Point
	now     series.Summary // of the window
	moves   []watch.Move
	sum     series.Summary // of the selected one
	said    evidence.Reply
	saidAt  time.Duration
	since   time.Duration // since when it is watched
}

// reachShot is everything the page shows, at one moment.
type reachShot struct {
	watcher *watch.Watcher // nil: nobody is watched, or this is a recording
	known   bool
	export  func(host string) report.Export
	start   time.Time
	now     time.Duration
	targets []watched // gathered by zone
	outages []blame.Outage
	blame   []blame.Interval // one a column
	accuses bool             // there are witnesses enough to lay a loss to a zone
	witness int
	lane    lane
}

var zoneOrder = []zone.Zone{zone.Host, zone.LocalSubnet, zone.Beyond}

var zoneHeads = map[zone.Zone]string{zone.Host: "HOST", zone.LocalSubnet: "LOCAL SUBNET", zone.Beyond: "BEYOND"}

// clock gives the time of day at a place on the axis.
func (s reachShot) clock(at time.Duration) time.Time { return s.start.Add(at) }

// window is of what the figures beside the lanes speak: what is so now. The totals stand beside them, at the chosen target.
const window = time.Minute

// lookAtReach copies what is to be shown, as much of it as has room.
func lookAtReach(m *model) func() any {
	c := m.case_
	if c == nil {
		return nil
	}
	_, width, _ := m.reachColumns()
	rows, chosen, span := m.reachBody(), m.reach().selected, spans[m.reach().span]
	return func() any {
		w := c.Watcher()
		if w == nil {
			return reachShot{}
		}
		return shotOf(watcherSource(w), width, rows, chosen, span)
	}
}

// shotOf copies what is known of those who are watched. rows is how many targets have room: the points of the others are not needed.
func shotOf(from reachSource, width, rows, chosen int, span time.Duration) reachShot {
	s := reachShot{watcher: from.watcher, known: true, start: from.start, lane: lane{width: width}}
	from.see(func(now time.Duration, subjects []*watch.Subject, l *blame.Ledger) {
		s.now, s.lane.from, s.lane.to = now, max(now-span, min(firstOf(subjects), now-leastAxis)), now
		s.outages = l.Outages()
		for column := range width {
			worst := blame.Interval{}
			for at := s.lane.place(column); at < s.lane.place(column+1); at += l.Step() {
				if at < 0 {
					continue
				}
				if in := l.At(at); in.State > worst.State || in.State == blame.Failing && in.Zone < worst.Zone {
					worst = in
				}
			}
			s.blame = append(s.blame, worst)
		}
		for _, zone := range zoneOrder {
			for _, x := range subjects {
				if x.Zone != zone {
					continue
				}
				if x.Rank > 0 {
					s.witness++
				}
				t := watched{id: x.ID, spec: x.Spec, address: x.Address, trouble: x.Trouble, paused: x.Paused, done: x.Done,
					counts: x.Record.Counts(),
					now:    x.Record.Window(now - window), moves: x.Moves, said: x.Said, saidAt: x.SaidAt, since: x.Since}
				t.times = t.now.Times
				n := len(s.targets)
				if n == chosen {
					t.sum = x.Record.Summary()
				}
				if n >= chosen-rows && n <= chosen+rows {
					t.points = x.Record.Between(s.lane.from, now)
				}
				s.targets = append(s.targets, t)
			}
		}
		s.accuses = s.witness > 1
	})
	s.export = func(host string) (e report.Export) {
		from.see(func(now time.Duration, subjects []*watch.Subject, l *blame.Ledger) {
			e = report.TimesOf(from.start, now, subjects, l).Export(host)
		})
		return e
	}
	return s
}

// leastAxis is how much time the axis shows at least, however little there is to show.
const leastAxis = 10 * time.Second

// firstOf is since when any of them has been watched: the axis begins where there is something on it.
func firstOf(subjects []*watch.Subject) time.Duration {
	if len(subjects) == 0 {
		return 0
	}
	return slices.MinFunc(subjects, func(a, b *watch.Subject) int { return cmp.Compare(a.Since, b.Since) }).Since
}

// reachBody is how many rows the lanes have.
func (m *model) reachBody() int { return max(m.height-m.reachBottom()-len(m.head())-3, 4) }

// reachBottom is how many rows stand under the lanes: outages, the selected target, keys.
func (m *model) reachBottom() int {
	if m.height < 36 {
		return 10
	}
	return 11
}

// reachColumns are the widths of the names, the lanes and the values.
func (m *model) reachColumns() (left, lanes, right int) {
	left, right = 24, 25
	if m.width < 110 {
		left, right = 17, 17
	}
	return left, max(m.width-left-right-2, 10), right
}

func (m *model) reachPage() []string {
	t, v := m.theme, m.reach()
	lines := m.head()
	s, _ := lookedAt[reachShot](m)
	if m.recorded != nil && !s.known {
		return append(lines, "", "  "+t.faint.Render("The log is being read …"))
	}
	if !s.known || len(s.targets) == 0 && m.recorded != nil {
		return append(lines, "",
			"  "+t.faint.Render("Watching begins with the first verdict: the tests are still finding out whom to watch."))
	}
	left, _, right := m.reachColumns()
	bottom, body := m.reachBottom(), m.reachBody()
	v.selected = min(max(v.selected, 0), max(len(s.targets)-1, 0))
	axis := &row{}
	axis.put(t.faint, " "+spanWords(spans[v.span])).at(left).put(t.faint, s.lane.axis(s.clock))
	lines = append(lines, axis.cut(m.width))
	rows, at := m.laneRows(s, left, right, 1)
	if n := len(s.targets); n > 0 && len(rows) < body { // what room there is makes the lanes taller
		if tall := min(1+(body-len(rows))/n, mostTall); tall > 1 {
			rows, at = m.laneRows(s, left, right, tall)
		}
	}
	scroll := 0
	if at >= body-1 {
		scroll = at - body + 2
	}
	for y := range min(body, len(rows)-scroll) {
		line := rows[y+scroll]
		if y == body-1 && scroll+body < len(rows) {
			line = "  " + t.faint.Render("… more below: ↓")
		}
		lines = append(lines, line)
	}
	lines = append(lines, m.blameRows(s, left)...)
	left = max(body-len(rows)+scroll, 0) // what the lanes leave is for more outages
	outages := m.outageRows(s, bottom-8+left)
	for range left - max(len(outages)-(bottom-8), 0) {
		lines = append(lines, "")
	}
	lines = append(lines, m.rule())
	lines = append(lines, outages...)
	lines = append(lines, m.rule())
	lines = append(lines, m.targetRows(s)...)
	for len(lines) < m.height-3 {
		lines = append(lines, "")
	}
	return lines
}

// mostTall is how many rows a lane of times may take.
const mostTall = 4

func spanWords(d time.Duration) string {
	if d < time.Hour {
		return fmt.Sprintf("last %.0f min", d.Minutes())
	}
	return fmt.Sprintf("last %.0f h", d.Hours())
}

// laneRows are the targets under their zones: a lane of times for each, and one of losses for those that lost something. at is the selected
// one's row, and tall how many rows a lane of times has.
func (m *model) laneRows(s reachShot, left, right, tall int) (rows []string, at int) {
	t := m.theme
	z := zone.Unknown
	top := time.Duration(0)
	for i, x := range s.targets {
		if x.spec.Zone != z {
			z = x.spec.Zone
			top = scaleOf(s.targets, z)
			r := &row{}
			r.put(t.faint, " "+zoneHeads[z])
			if top > 0 {
				scale := "the last minute; lanes 0 to " + wording.Millis(top)
				r.at(m.width-ansi.StringWidth(scale)-1).put(t.faint, scale)
			}
			rows = append(rows, r.cut(m.width))
		}
		r, name := &row{}, t.text
		r.put(t.text, " ")
		if i == m.reach().selected {
			at, name = len(rows), t.loud
			r.put(t.accent, "▸")
		} else {
			r.put(t.text, " ")
		}
		r.put(name, fit(wiretext.Clean(x.spec.Name()), left-3)).at(left)
		lanes := make([]string, tall)
		if x.times.Known || len(x.points) > 0 {
			lanes = s.lane.times(x.points, top, tall)
		}
		r.put(t.state[verdict.Holds], lanes[0])
		value, style := valueOf(x, right)
		r.at(m.width-ansi.StringWidth(value)-1).put(t.state[style], value)
		rows = append(rows, r.cut(m.width))
		for _, lower := range lanes[1:] {
			rows = append(rows, (&row{}).at(left).put(t.state[verdict.Holds], lower).cut(m.width))
		}
		cells, any := s.lane.losses(x.points)
		if !any {
			continue
		}
		r = &row{}
		r.at(3).put(t.faint, "lost").at(left)
		for i := 0; i < len(cells); { // alike ones in one piece: a style costs
			words, state := "", cells[i].state
			for ; i < len(cells) && cells[i].state == state; i++ {
				words += cmp.Or(cells[i].shape, " ")
			}
			r.put(t.state[state], words)
		}
		lost := lostWords(x, right)
		r.at(m.width-ansi.StringWidth(lost)-1).put(t.state[verdict.Broken], lost)
		rows = append(rows, r.cut(m.width))
	}
	if len(s.targets) == 0 {
		rows = append(rows, "  "+t.faint.Render("The tests are still finding out whom to watch; a adds a target of your own."))
	}
	return rows, at
}

// scaleOf is the upper end of a zone's lanes: a round time above nearly all round trips.
func scaleOf(targets []watched, z zone.Zone) (top time.Duration) {
	for _, x := range targets {
		if x.spec.Zone == z && x.times.Known {
			top = max(top, x.times.P95)
		}
	}
	for unit := time.Microsecond; unit <= time.Minute; unit *= 10 {
		for _, step := range []time.Duration{1, 2, 4, 8} {
			if round := step * unit; top > 0 && round >= top*11/10 {
				return round
			}
		}
	}
	return top
}

func valueOf(x watched, right int) (string, verdict.State) {
	switch {
	case x.trouble != "":
		return fit(x.trouble, right), verdict.Strained
	case x.paused:
		return "paused", verdict.Skipped
	case x.done:
		return "done", verdict.Skipped
	case !x.times.Known && x.counts.Received > 0:
		return "silent for a minute", verdict.Broken
	case !x.times.Known && x.counts.Lost() > 0:
		return "no answer yet", verdict.Broken
	case !x.times.Known && x.counts.NotSent > 0:
		return "not sent", verdict.Broken
	case !x.times.Known:
		return "…", verdict.StateUnknown
	case right < 20:
		return wording.Millis(x.times.Median), verdict.StateUnknown
	}
	return fmt.Sprintf("%s, ± %s", wording.Millis(x.times.Median), wording.Millis(x.times.Half())), verdict.StateUnknown
}

func lostWords(x watched, right int) string {
	c := x.now
	words := fmt.Sprintf("%d of %d", c.Lost(), c.Sent())
	if c.Lost() == 0 && c.NotSent > 0 {
		words = fmt.Sprintf("%d not sent", c.NotSent)
	}
	if c.Late > 0 && right >= 20 {
		words += fmt.Sprintf(", %d late", c.Late)
	}
	return fit(words, right)
}

// zoneFill are the shapes of the band that says whose loss it was.
var zoneFill = map[zone.Zone]string{zone.Host: "▁", zone.LocalSubnet: "▄", zone.Beyond: "█"}

// blameRows are the band of zones and, where there is room, their names under it.
func (m *model) blameRows(s reachShot, left int) []string {
	t := m.theme
	band, words := &row{}, &row{}
	band.put(t.faint, " whose loss").at(left)
	if !s.accuses {
		band.put(t.faint, "not known: it takes two witnesses, such as the gateway and a target")
		return []string{band.cut(m.width), ""}
	}
	for i := 0; i < len(s.blame); {
		in, first := s.blame[i], i
		for i < len(s.blame) && s.blame[i] == in {
			i++
		}
		switch in.State {
		case blame.Failing:
			band.put(t.zone[in.Zone], strings.Repeat(zoneFill[in.Zone], i-first))
			if left+first >= words.width {
				words.at(left+first).put(t.zone[in.Zone], in.Zone.String()+" ")
			}
		case blame.Fine:
			band.put(t.rule, strings.Repeat("─", i-first))
		default:
			band.put(t.rule, strings.Repeat("·", i-first))
		}
	}
	return []string{band.cut(m.width), words.cut(m.width)}
}

// outageRows lists the newest outages first.
func (m *model) outageRows(s reachShot, most int) []string {
	t := m.theme
	if len(s.outages) == 0 {
		words := "No outage since " + wording.Clock(s.clock(0)) + "."
		if !s.accuses {
			words = "Outages are listed once there are witnesses."
		}
		return []string{" " + t.faint.Render(words)}
	}
	var out []string
	for i := len(s.outages) - 1; i >= 0 && len(out) < most; i-- {
		o := s.outages[i]
		r := &row{}
		r.put(t.text, " "+wording.Clock(s.clock(o.From))).at(11).put(t.text, fmt.Sprintf("%7s", wording.Lasting(o.Length()))).at(21).
			put(t.zone[o.Zone], o.Zone.String()).at(36).put(t.faint, o.Evidence())
		if len(out) == most-1 && i > 0 && most > 1 {
			r = &row{}
			r.put(t.faint, fmt.Sprintf(" and %d before: e exports all", i+1))
		}
		out = append(out, r.cut(m.width))
	}
	return out
}

// targetRows say everything about the selected target.
func (m *model) targetRows(s reachShot) []string {
	t := m.theme
	if len(s.targets) == 0 {
		return nil
	}
	x := s.targets[m.reach().selected]
	head := &row{}
	head.put(t.loud, " "+wiretext.Clean(x.spec.Name()))
	if x.address.IsValid() && x.address.String() != x.spec.Name() {
		head.put(t.text, " "+x.address.String())
	}
	if m.recorded == nil { // a log does not say how they were asked
		head.put(t.faint, "  "+m.methodOf(x)+", "+settingsOf(x.spec))
	}
	out := []string{head.cut(m.width)}
	line := func(style paint, words string) { out = append(out, " "+style.Render(fit(words, m.width-2))) }
	if x.trouble != "" {
		line(t.state[verdict.Strained], x.trouble)
		return out
	}
	c := x.sum
	words := fmt.Sprintf("since %s: %d sent, %d came back", wording.Clock(s.clock(x.since)), c.Sent(), c.Received)
	if n := c.Lost(); n > 0 {
		longest := 0
		for _, r := range c.LossRuns {
			longest = max(longest, r.Length)
		}
		words += fmt.Sprintf("; %d lost (%.3g %%) in %s, the longest %d", n, 100*float64(n)/float64(c.Sent()),
			wording.Plural(len(c.LossRuns), "run", "runs"), longest)
	}
	for _, n := range []struct {
		n    int
		what string
	}{{c.Late, "late"}, {c.Unreachable, "unreachable"}, {c.NotSent, "not sent"}, {c.Again, "came twice"}, {c.Void, "void"}} {
		if n.n > 0 {
			words += fmt.Sprintf(", %d %s", n.n, n.what)
		}
	}
	line(t.text, words)
	if c.Times.Known {
		words = fmt.Sprintf("round trip: min %s, median %s, p95 %s, max %s", wording.Millis(c.Times.Least), wording.Millis(c.Times.Median),
			wording.Millis(c.Times.P95), wording.Millis(c.Times.Top))
		if c.Variation.Known {
			words += fmt.Sprintf("; jitter, from one reply to the next: median %s, p95 %s", wording.Millis(c.Variation.Median),
				wording.Millis(c.Variation.P95))
		}
		line(t.text, words)
	}
	switch n := len(x.moves); {
	case x.said.Outcome != evidence.NotKnown && x.said.Outcome != evidence.Silent:
		at := wording.Clock(s.clock(x.saidAt))
		line(t.state[verdict.Strained], at+"  "+saidWords(x.said))
	case n > 0:
		mv := x.moves[n-1]
		line(t.state[verdict.Strained], fmt.Sprintf("%s  the name moved from %v to %v", wording.Clock(s.clock(mv.At)), mv.From, mv.To))
	}
	return out
}

func (m *model) methodOf(x watched) string {
	switch {
	case x.spec.Method == watch.Connect:
		return "TCP connections"
	case m.Ground.Machine.Permissions().Echo.Granted:
		return "ICMP echo"
	}
	return "UDP (echo needs: " + m.Ground.Machine.Permissions().Echo.Mend + ")"
}

// usually says what an ICMP error mostly comes from.
var usually = map[evidence.Why]string{
	evidence.NoNet:      "that router has no way on: its uplink or a route is missing",
	evidence.NoHost:     "it is the last router, and the host is off or has another address",
	evidence.NoPort:     "the host is there, and nothing listens on that port",
	evidence.NoProtocol: "the host is there, and does not speak that protocol",
	evidence.TooBig:     "a link on the way takes only smaller packets, and says so as it should",
	evidence.Prohibited: "a filter there forbids it by rule",
}

// saidWords tells who said what, and what it usually means.
func saidWords(r evidence.Reply) string {
	if r.Outcome == evidence.LocalError {
		return "this machine did not send: " + r.Reason
	}
	words := fmt.Sprintf("%v says: %s", r.From, report.Reason(r))
	if u := usually[r.Why]; u != "" {
		words += " (usually: " + u + ")"
	}
	return words
}
