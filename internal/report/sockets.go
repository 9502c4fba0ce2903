package report

import (
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strconv"
	"text/tabwriter"
	"time"

	"passepartout/internal/core/sockets"
	"passepartout/internal/core/wording"
)

// SocketsSchema names the shape of the JSON.
const SocketsSchema = "passepartout.sockets/1"

// Sockets is what was seen of a machine's sockets, to be written.
type Sockets struct {
	*sockets.Seen
	Filter  sockets.Filter
	Only    bool                    // those that listen
	Changes bool                    // what opened and closed is told too
	Name    func(netip.Addr) string // "" where none is known
	stuck   map[uint64]*sockets.Stuck
}

type stuckJSON struct {
	Why  string  `json:"why"`
	Says string  `json:"says"`
	For  float64 `json:"for_s"`
}

type socketJSON struct {
	Protocol      string     `json:"protocol"`
	Local         string     `json:"local"`
	Remote        string     `json:"remote"`
	Name          string     `json:"name"`
	State         string     `json:"state"`
	Program       string     `json:"program"`
	PID           int        `json:"pid,omitempty"`
	User          string     `json:"user"`
	Since         *time.Time `json:"since"`
	RTT           *int64     `json:"rtt_us"`
	RTTVar        *int64     `json:"rttvar_us"`
	Retransmitted *uint32    `json:"retransmitted"`
	Unacked       *uint32    `json:"unacknowledged_octets"`
	Unread        *uint32    `json:"unread_octets"`
	PathMTU       *uint32    `json:"path_mtu"`
	Waiting       *uint32    `json:"not_accepted,omitempty"`
	Dropped       uint32     `json:"dropped,omitempty"`
	Stuck         *stuckJSON `json:"stuck"`
}

type changeOfSocketJSON struct {
	At      time.Time `json:"at"`
	Local   string    `json:"local"`
	Remote  string    `json:"remote"`
	Name    string    `json:"name"`
	Program string    `json:"program"`
	PID     int       `json:"pid,omitempty"`
	Never   bool      `json:"never_answered,omitempty"`
}

// chosen are the sockets that are to be told, those that are stuck first.
func (n *Sockets) chosen() (out []*sockets.Socket) {
	n.stuck = map[uint64]*sockets.Stuck{}
	for i := range n.Seen.Stuck {
		n.stuck[n.Seen.Stuck[i].ID] = &n.Seen.Stuck[i]
	}
	for i := range n.Table.Sockets {
		s := &n.Table.Sockets[i]
		if n.Mine(s) || !n.Filter.Takes(n.Table, s) || n.Only && !s.Waits() {
			continue
		}
		out = append(out, s)
	}
	slices.SortStableFunc(out, func(a, b *sockets.Socket) int { return n.rank(a) - n.rank(b) })
	return out
}

func (n *Sockets) rank(s *sockets.Socket) int {
	if x := n.stuck[s.ID]; x != nil {
		return int(x.Why)
	}
	return 100
}

func (n *Sockets) name(a netip.AddrPort) string {
	if n.Name == nil || !a.IsValid() {
		return ""
	}
	return n.Name(a.Addr().WithZone(""))
}

// UserName gives a user's name, or the number.
func (n *Sockets) UserName(id uint32) string {
	if name := n.Users[id]; name != "" {
		return name
	}
	return strconv.FormatUint(uint64(id), 10)
}

func end(a netip.AddrPort) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}

func (n *Sockets) json(s *sockets.Socket) socketJSON {
	p, _ := n.Program(s)
	x := socketJSON{Protocol: s.Protocol.String(), Local: end(s.Local), Remote: end(s.Remote), Name: n.name(s.Remote),
		State:   s.State.String(),
		Program: p.Name, PID: p.PID, User: n.UserName(s.User), Dropped: s.Dropped}
	if at, ok := n.Since(s); ok {
		at = at.UTC()
		x.Since = &at
	}
	if s.Protocol == sockets.TCP && s.State == sockets.Listen {
		x.Waiting = &s.Unread
	} else {
		x.Unread = &s.Unread
	}
	if s.Measured {
		if s.RTT > 0 {
			rtt, dev := s.RTT.Microseconds(), s.RTTVar.Microseconds()
			x.RTT, x.RTTVar = &rtt, &dev
		}
		x.Retransmitted, x.Unacked = &s.Retransmitted, &s.Unacked
		if s.PathMTU > 0 {
			x.PathMTU = &s.PathMTU
		}
	}
	if k := n.stuck[s.ID]; k != nil {
		x.Stuck = &stuckJSON{k.Why.String(), n.Says(k), k.For.Seconds()}
	}
	return x
}

// WriteJSON writes it as one object.
func (n Sockets) WriteJSON(w io.Writer) error {
	out := struct {
		Schema   string               `json:"schema"`
		At       time.Time            `json:"at"`
		Sockets  []socketJSON         `json:"sockets"`
		Opened   []changeOfSocketJSON `json:"opened,omitempty"`
		Closed   []changeOfSocketJSON `json:"closed,omitempty"`
		Missed   *int                 `json:"opened_unseen,omitempty"`
		Withheld string               `json:"withheld,omitempty"`
	}{Schema: SocketsSchema, At: n.At.UTC(), Sockets: []socketJSON{}, Withheld: n.Withheld}
	for _, s := range n.chosen() {
		out.Sockets = append(out.Sockets, n.json(s))
	}
	if n.Changes {
		for _, e := range n.Events {
			if !n.Takes(e) {
				continue
			}
			x := changeOfSocketJSON{e.At.UTC(), end(e.Socket.Local), end(e.Socket.Remote), n.name(e.Socket.Remote), e.Program.Name,
				e.Program.PID,
				e.Never}
			if e.Open {
				out.Opened = append(out.Opened, x)
			} else {
				out.Closed = append(out.Closed, x)
			}
		}
		if !n.Told {
			out.Missed = &n.Missed
		}
	}
	return writeJSON(w, out)
}

// Takes reports whether a change is of the chosen programs.
func (n *Sockets) Takes(e sockets.Event) bool {
	f := n.Filter
	return (f.PID == 0 || e.Program.PID == f.PID) && (f.Name == "" || e.Program.Named(f.Name))
}

// WriteCSV writes one line a socket (RFC 4180).
func (n Sockets) WriteCSV(w io.Writer) error {
	if err := csvRow(w, "protocol", "local", "remote", "name", "state", "program", "pid", "user", "since", "rtt_us", "rttvar_us",
		"retransmitted",
		"unacknowledged_octets", "unread_octets", "path_mtu", "stuck", "says"); err != nil {
		return err
	}
	number := func(x *uint32) string {
		if x == nil {
			return ""
		}
		return strconv.FormatUint(uint64(*x), 10)
	}
	for _, s := range n.chosen() {
		x := n.json(s)
		since, pid, rtt, dev, stuck := "", "", "", "", &stuckJSON{}
		if x.Since != nil {
			since = x.Since.Format(time.RFC3339)
		}
		if x.PID > 0 {
			pid = strconv.Itoa(x.PID)
		}
		if x.RTT != nil {
			rtt, dev = strconv.FormatInt(*x.RTT, 10), strconv.FormatInt(*x.RTTVar, 10)
		}
		if x.Stuck != nil {
			stuck = x.Stuck
		}
		if err := csvRow(w, x.Protocol, x.Local, x.Remote, x.Name, x.State, x.Program, pid, x.User, since, rtt, dev,
			number(x.Retransmitted),
			number(x.Unacked), number(x.Unread), number(x.PathMTU), stuck.Why, stuck.Says); err != nil {
			return err
		}
	}
	return nil
}

// mostRows of a sort are written for people.
const mostRows = 500

// more says how many rows were left out.
func more(w io.Writer, all int) {
	if all > mostRows {
		fmt.Fprintf(w, "  and %d more: --format json has them all, --program those of one\n", all-mostRows)
	}
}

// WriteText writes it for people: what is stuck, then who is connected to whom, then who listens.
func (n Sockets) WriteText(w io.Writer) error {
	told := 0
	for i := range n.Seen.Stuck {
		k := &n.Seen.Stuck[i]
		if !n.Filter.Takes(n.Table, &k.Socket) {
			continue
		}
		if told++; told == 1 {
			fmt.Fprintln(w, "What is stuck")
		}
		if told > mostRows {
			continue
		}
		fmt.Fprintf(w, "  %s %s\n      %s\n", n.who(k.Socket), n.Whither(&k.Socket), n.Says(k))
	}
	more(w, told)
	if told > 0 {
		fmt.Fprintln(w)
	}
	ends := 0
	listeners := n.Listeners(n.Filter)
	if groups := n.Groups(n.Filter); !n.Only && len(groups) > 0 {
		t := tabwriter.NewWriter(w, 0, 8, 2, ' ', 0)
		fmt.Fprintln(t, "Connections of\tto or at\tstate\tround trip\tsent again")
		for _, g := range groups {
			for _, e := range g.Ends {
				if ends++; ends > mostRows {
					continue
				}
				s := &n.Table.Sockets[e.Sockets[0]]
				fmt.Fprintf(t, "  %s\t%s\t%s\t%s\t%s\n", n.who(*s), n.EndWords(e), n.StateWords(s), RoundTrip(s), Again(s))
			}
		}
		if err := t.Flush(); err != nil {
			return err
		}
		more(w, ends)
		fmt.Fprintln(w)
	}
	if len(listeners) > 0 {
		t := tabwriter.NewWriter(w, 0, 8, 2, ' ', 0)
		fmt.Fprintln(t, "Listening\tat\tfor whom")
		for _, l := range listeners[:min(len(listeners), mostRows)] {
			fmt.Fprintf(t, "  %s\t%v %d\t%s\n", n.who(*l.Socket), l.Socket.Protocol, l.Socket.Local.Port(), l.Scope())
		}
		if err := t.Flush(); err != nil {
			return err
		}
		more(w, len(listeners))
	}
	if told+len(listeners)+ends == 0 {
		fmt.Fprintln(w, "no such socket")
	}
	if n.Changes {
		fmt.Fprintf(w, "\nin %s %d opened, %d closed%s\n", wording.Lasting(n.At.Sub(n.Began)), n.Opened, n.Closed, n.MissedWords())
	}
	if n.Withheld != "" {
		fmt.Fprintf(w, "not known: %s\n", n.Withheld)
	}
	return nil
}

// MissedWords say how many short connections may have been overlooked.
func (n *Sockets) MissedWords() string {
	if n.Told || n.Missed == 0 {
		return ""
	}
	return fmt.Sprintf("; %d more were opened, by the system's count, and over before they were seen", n.Missed)
}

func (n *Sockets) who(s sockets.Socket) string {
	p, ok := n.Program(&s)
	return ProgramWords(p, ok)
}

// ProgramWords name a program.
func ProgramWords(p sockets.Program, known bool) string {
	if !known || p.PID == 0 {
		return "a program that is not known"
	}
	return fmt.Sprintf("%s (%d)", p.Name, p.PID)
}

// Whither says whom a socket has to do with, or where it waits.
func (n *Sockets) Whither(s *sockets.Socket) string {
	switch {
	case s.State == sockets.Listen:
		return fmt.Sprintf("at port %d", s.Local.Port())
	case !s.Remote.IsValid():
		return "at " + end(s.Local)
	}
	return "to " + n.Place(s.Remote)
}

// Place names an end of a connection: its name beside its address, where one is known.
func (n *Sockets) Place(a netip.AddrPort) string {
	if name := n.name(a); name != "" {
		return name + " " + end(a)
	}
	return end(a)
}

// EndWords say whom a program has to do with.
func (n *Sockets) EndWords(e sockets.End) string {
	words := n.Place(e.At)
	switch {
	case e.Comes:
		words = fmt.Sprintf("at its port %d", e.At.Port())
	case e.Protocol == sockets.UDP:
		words += " by UDP"
	}
	if len(e.Sockets) > 1 {
		words += fmt.Sprintf(" × %d", len(e.Sockets))
	}
	return words
}

// StateWords say how a connection stands, and for how long.
func (n *Sockets) StateWords(s *sockets.Socket) string {
	words := s.State.Words()
	if d, ok := n.Lasts(s); ok {
		words += ", " + wording.Lasting(d)
	}
	return words
}

// RoundTrip gives the round trip that the system has measured, and how much it varies (RFC 6298).
func RoundTrip(s *sockets.Socket) string {
	if !s.Measured || s.RTT == 0 || s.State == sockets.SynSent {
		return ""
	}
	return wording.Millis(s.RTT) + " ± " + wording.Millis(s.RTTVar)
}

// Figures are what the system tells of a socket in numbers.
func (n *Sockets) Figures(s *sockets.Socket) string {
	if s.Waits() {
		if s.Protocol == sockets.TCP {
			return fmt.Sprintf("%d of at most %d connections wait to be accepted", s.Unread, s.Unacked)
		}
		return fmt.Sprintf("%d octets not read, %s for want of room", s.Unread,
			wording.Plural(int(s.Dropped), "datagram dropped", "datagrams dropped"))
	}
	if s.State == sockets.SynSent {
		return fmt.Sprintf("the opening (SYN) was sent %s, the next one follows in %s", wording.Times(int(s.Retries)+1),
			wording.Lasting(s.Expires))
	}
	words := fmt.Sprintf("%d octets not read", s.Unread)
	if !s.Measured {
		return words
	}
	words += fmt.Sprintf(", %d not acknowledged, %d of %d segments sent again", s.Unacked, s.Retransmitted, s.SegmentsOut)
	if s.PathMTU > 0 {
		words += fmt.Sprintf(", path MTU %d", s.PathMTU)
	}
	return words
}

// Again says how much had to be sent again.
func Again(s *sockets.Socket) string {
	switch {
	case !s.Measured:
		return ""
	case s.State == sockets.SynSent:
		return strconv.Itoa(int(s.Retries))
	}
	return strconv.Itoa(int(s.Retransmitted))
}
