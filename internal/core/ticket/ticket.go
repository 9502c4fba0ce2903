// Package ticket is a case in the words of whoever hands it over: what the next team always asks for, in that order. It is pure: what
// stands in it follows from the state of the case, and from what the caller knows of the person and the program.
package ticket

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/lease"
	"passepartout/internal/core/state"
	"passepartout/internal/core/subnet"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

// About is what the state of a case does not hold.
type About struct {
	Complaint string // in the user's words
	Version   string
	Simulated bool        // a demonstration: no machine of anybody's
	Acts      []state.Act // what was changed from here, where the state does not hold all of it
}

// Ticket is a case to hand over.
type Ticket struct {
	Title    string // what is the matter, in one line
	Asked    []string
	Sections []Section
}

// Section is a part of it.
type Section struct {
	Title string
	Rows  []Row
}

// Row is one value with its name. Of several values each stands on a row of its own, the name on the first.
type Row struct {
	Name  string
	Value string
}

// Of puts a case together. Everything that came from outside is safe to show.
func Of(s *state.State, about About) Ticket {
	set, r := s.Shown()
	t := Ticket{Title: headline(r, set), Asked: asked(r)}
	f := facts.New(set)
	t.add(said, verdictRows(s, set, r))
	t.add(cleared, ruledOut(r))
	t.add(machine, machineRows(s, set, about))
	t.add(settings, settingRows(set, f))
	t.add(names, nameRows(set, f))
	t.add(way, wayRows(set, f))
	t.add(times, timeRows(s))
	t.add(done, doneRows(s, set, about))
	t.add(noted, noteRows(s))
	t.add(withheld, withheldRows(r))
	return t
}

// The titles of the sections, in the order of a report: what decides first.
const (
	said     = "Verdict"
	cleared  = "Ruled out"
	machine  = "The machine"
	settings = "Settings: held, said by the network, documented"
	names    = "Names"
	way      = "The way"
	times    = "In time"
	done     = "What was done"
	noted    = "Notes"
	withheld = "Not asked"
)

// ReadOut are the titles in the order in which values are asked for on the telephone.
var ReadOut = []string{machine, settings, names, way, said, cleared, times, done, noted, withheld}

func (t *Ticket) add(title string, rows []Row) {
	rows = slices.DeleteFunc(rows, func(r Row) bool { return r.Value == "" })
	if len(rows) == 0 {
		return
	}
	for i := range rows {
		rows[i].Value = wiretext.Clean(rows[i].Value)
	}
	t.Sections = append(t.Sections, Section{title, rows})
}

func headline(r verdict.Result, s *evidence.Set) string {
	where := map[zone.Zone]string{zone.None: "no fault found", zone.Host: "fault in this host",
		zone.LocalSubnet: "fault in the local subnet",
		zone.Beyond:      "fault beyond the gateway"}[r.Zone]
	if where == "" {
		where = "zone not determined"
	}
	what := "this machine's network"
	if !s.Target.IsZero() {
		what = s.Target.String()
	}
	return fmt.Sprintf("%s: %s", wiretext.Clean(what), where)
}

// asked is what is asked of the reader.
func asked(r verdict.Result) (out []string) {
	for _, n := range r.Next {
		out = append(out, wiretext.Clean(n))
	}
	return out
}

func verdictRows(s *state.State, set *evidence.Set, r verdict.Result) (rows []Row) {
	where := r.Zone.String()
	if s.Verdict.Standing == state.NoVerdict && !s.Round.Over {
		return []Row{{"verdict", "the tests have not come to one yet"}}
	}
	rows = []Row{{"where", where + " (" + string(r.Confidence) + ")"}, {"what", r.Sentence}, {"fault", string(r.Fault)},
		{"target", set.Target.String()}}
	if v := s.Verdict; v.Standing != state.NoVerdict {
		standing := v.Standing.String()
		if v.Because != "" && v.Standing != state.Current {
			standing += ": " + v.Because
		}
		rows = append(rows, Row{"stands", standing + ", since " + stamp(v.Since) + ", checked " + stamp(v.Checked)})
	}
	for _, line := range forOf(r) {
		rows = append(rows, Row{"because", line})
	}
	for _, o := range r.Also {
		rows = append(rows, Row{"also", fmt.Sprintf("%s (%s, %s)", o.Sentence, o.Zone, o.Fault)})
	}
	if len(r.Candidates) > 0 {
		rows = append(rows, Row{"still possible", strings.Join(fault.Titles(r.Candidates), "; ")})
	}
	return once(rows)
}

// forOf is what speaks for the fault that was found.
func forOf(r verdict.Result) []string {
	s, ok := r.Suspect(r.Fault)
	if !ok || r.Fault == "" {
		return nil
	}
	return s.For
}

// ruledOut are the checks that hold, by zone: what need not be asked again.
func ruledOut(r verdict.Result) (rows []Row) {
	byZone := map[zone.Zone][]string{}
	for _, c := range r.Checks {
		if c.State == verdict.Holds {
			byZone[c.Zone] = append(byZone[c.Zone], c.Label+" ("+c.Fact+")")
		}
	}
	for _, z := range []zone.Zone{zone.Host, zone.LocalSubnet, zone.Beyond} {
		rows = append(rows, Row{z.String(), strings.Join(byZone[z], "; ")})
	}
	return rows
}

func machineRows(s *state.State, set *evidence.Set, about About) (rows []Row) {
	rows = []Row{{"date and time", s.At.Format("2006-01-02 15:04:05 -07:00 MST")}, {"complaint", about.Complaint}}
	e := set.Endpoint
	if e == nil {
		return rows
	}
	host := e.Host
	if about.Simulated {
		host += " (simulated)"
	}
	rows = append(rows, Row{"machine", host}, Row{"interface", set.Interface})
	i, ok := e.Interface(set.Interface)
	if !ok {
		return rows
	}
	if !i.Hardware.IsZero() {
		rows = append(rows, Row{"hardware address", i.Hardware.String()})
	}
	for _, a := range i.Addresses {
		if !a.Prefix.Addr().IsLinkLocalUnicast() || a.Prefix.Addr().Is4() {
			rows = append(rows, Row{"address and prefix", fmt.Sprintf("%v, %v", a.Prefix, a.Origin)})
		}
	}
	for _, v6 := range []bool{false, true} {
		if gw, ok := e.Gateway(i.Name, v6); ok {
			rows = append(rows, Row{"default gateway", gw.String()})
		}
	}
	rows = append(rows, leaseRows(e, i.Name)...)
	for _, a := range e.AskedResolvers() {
		rows = append(rows, Row{"name servers", a.String()})
	}
	if i.Manager != "" {
		rows = append(rows, Row{"managed by", i.Manager})
	}
	return once(append(rows, Row{"written by", strings.TrimSpace("Passepartout " + about.Version)}))
}

func leaseRows(e *endpoint.Endpoint, iface string) []Row {
	l, ok := e.Lease(iface)
	if !ok {
		return nil
	}
	rows := []Row{{"DHCP server", l.Terms.Server.String()}}
	for _, at := range []struct {
		name string
		at   time.Time
	}{{"lease obtained", l.Obtained}, {"T1 (renewal)", l.T1}, {"T2 (rebinding)", l.T2}, {"lease ends", l.Expires}} {
		if !at.at.IsZero() {
			rows = append(rows, Row{at.name, stamp(at.at.Local())})
		}
	}
	if st := l.At(e.At); st != lease.Unknown {
		rows = append(rows, Row{"lease is", string(st)})
	}
	return rows
}

func nameRows(set *evidence.Set, f *facts.Facts) (rows []Row) {
	if set.Target.Name == "" {
		return nil
	}
	rows = append(rows, Row{"name looked up", set.Target.Name})
	for _, l := range set.Lookups {
		if l.Type != "A" && l.Type != "AAAA" {
			continue
		}
		answer := string(l.Outcome.String())
		switch {
		case len(l.Addresses) > 0:
			answer = wording.List(l.Addresses)
		case l.RCode != "" && l.Came():
			answer = l.RCode + ", no address"
		}
		if l.Came() {
			answer += ", in " + wording.Millis(l.RTT)
		}
		rows = append(rows, Row{"answer", fmt.Sprintf("%v, %s %s: %s", l.Server, l.Name, l.Type, answer)})
	}
	if len(f.Addresses) > 0 {
		rows = append(rows, Row{"taken as", wording.List(f.Addresses)})
	}
	const most = 10
	return once(rows[:min(len(rows), most)])
}

// mostHops is how many stations of a way are named.
const mostHops = 6

func wayRows(set *evidence.Set, f *facts.Facts) (rows []Row) {
	addrs := f.Addresses
	if len(addrs) == 0 {
		for _, r := range f.Resolvers {
			addrs = append(addrs, r.Address)
		}
	}
	for _, a := range addrs {
		t, ok := set.TrailTo(a)
		if !ok {
			continue
		}
		var hops []string
		answered := slices.ContainsFunc(t.Stations, func(st evidence.Station) bool { return st.From.IsValid() })
		for _, st := range t.Stations[:min(len(t.Stations), mostHops)] {
			switch {
			case st.From.IsValid():
				hops = append(hops, fmt.Sprintf("%d %v %s", st.HopLimit, st.From, wording.Millis(st.RTT)))
			default:
				hops = append(hops, fmt.Sprintf("%d no answer", st.HopLimit))
			}
		}
		end := "not reached"
		if t.Reached {
			end = "reached"
		}
		if !answered {
			rows = append(rows, Row{"first hops", fmt.Sprintf("to %v: nobody on the way answers", a)})
		} else {
			rows = append(rows, Row{"first hops", fmt.Sprintf("to %v, %s: %s", a, end, strings.Join(hops, " · "))})
		}
		if routers := translating(t); len(routers) > 1 {
			rows = append(rows, Row{"routers in a row that translate", wording.List(routers) + " (private, one behind the other)"})
		}
	}
	for _, c := range set.Connects {
		if slices.Contains(f.Addresses, c.To.Addr()) {
			words := c.Outcome.String()
			if c.Came() {
				words += " in " + wording.Millis(c.RTT)
			}
			if c.From.IsValid() && c.From != c.To.Addr() {
				words += fmt.Sprintf(", by %v", c.From)
			}
			rows = append(rows, Row{"connection", fmt.Sprintf("%v: %s", c.To, words)})
		}
	}
	return once(rows)
}

// translating are the private stations with which a way begins: each that leads on from private to private translates, or leaves it to the
// next (RFC 1918, RFC 6598).
func translating(t evidence.Trail) (out []netip.Addr) {
	for _, st := range t.Stations {
		if !st.From.IsValid() {
			continue
		}
		if kind := subnet.KindOf(st.From); kind != subnet.Private && kind != subnet.CarrierShared || st.From == t.To {
			break
		}
		out = append(out, st.From)
	}
	return out
}

func timeRows(s *state.State) (rows []Row) {
	for _, p := range s.Past {
		about := ""
		if set, _ := s.Shown(); p.Target != set.Target.String() {
			about = p.Target + ": "
		}
		rows = append(rows, Row{"was so", fmt.Sprintf("%s to %s: %s%s", stamp(p.From), stamp(p.To), about, p.Title)})
	}
	for _, o := range s.Outages {
		to := "and goes on"
		if !o.To.IsZero() {
			to = fmt.Sprintf("to %s (%s)", stamp(o.To), o.To.Sub(o.From).Round(100*time.Millisecond))
		}
		rows = append(rows, Row{"outage", fmt.Sprintf("%s %s, %s: %s", stamp(o.From), to, o.Zone, o.Evidence)})
	}
	for _, c := range s.Changes {
		rows = append(rows, Row{"change", stamp(c.At) + ": " + c.What})
	}
	const most = 20
	return once(rows[max(len(rows)-most, 0):])
}

func doneRows(s *state.State, set *evidence.Set, about About) (rows []Row) {
	acts := about.Acts
	if acts == nil {
		acts = s.Acts
	}
	for _, a := range acts {
		words := fmt.Sprintf("%s: %s, %s", stamp(a.At), a.What, strings.ReplaceAll(a.Outcome, "-", " "))
		if a.Says != "" {
			words += "; " + a.Says
		}
		rows = append(rows, Row{"changed", words})
	}
	for _, c := range set.Chosen {
		rows = append(rows, Row{"tested besides", verdict.TestOf(c).Words(set)})
	}
	return once(rows)
}

func noteRows(s *state.State) (rows []Row) {
	for _, n := range s.Notes {
		rows = append(rows, Row{"note", stamp(n.At) + ": " + n.Text})
	}
	const most = 20
	return once(rows[max(len(rows)-most, 0):])
}

func withheldRows(r verdict.Result) (rows []Row) {
	for _, h := range r.Withheld {
		rows = append(rows, Row{h.Kind.String(), h.Why})
	}
	return rows
}

// once has a name that is the same as the one before stand there only once.
func once(rows []Row) []Row {
	last := ""
	for i := range rows {
		if rows[i].Value == "" {
			continue
		}
		if rows[i].Name == last {
			rows[i].Name = ""
			continue
		}
		last = rows[i].Name
	}
	return rows
}

func stamp(at time.Time) string {
	if at.IsZero() {
		return "not known"
	}
	return at.Format("2006-01-02 15:04:05 -07:00")
}
