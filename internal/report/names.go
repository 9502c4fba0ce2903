package report

import (
	"fmt"
	"io"
	"net/netip"
	"strings"
	"text/tabwriter"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/names"
	"passepartout/internal/core/wording"
)

// The shapes of the JSON of names.
const (
	NamesSchema     = "passepartout.names/1"
	ResolversSchema = "passepartout.resolvers/1"
)

// Named is one name as several servers have it.
type Named struct {
	Name    string
	Asked   []string // the names that it was completed to
	At      time.Time
	Servers []names.Server
	Lookups []evidence.Lookup
	Hosts   []netip.Addr // what the hosts file says in their place
}

func (n Named) addresses() (out []netip.Addr) {
	for _, s := range n.Servers {
		out = append(out, s.Address)
	}
	return out
}

// Lines lays the answers out side by side.
func (n Named) Lines() []names.Line { return names.Beside(n.addresses(), n.Lookups) }

// Parts reports whether any two servers disagree.
func (n Named) Parts() bool {
	for _, l := range n.Lines() {
		if l.Parts {
			return true
		}
	}
	return false
}

type recordJSON struct {
	Name  string `json:"name"`
	Type  string `json:"type"`
	TTL   int64  `json:"ttl_s"`
	Value string `json:"value"`
}

type answerJSON struct {
	Server        string       `json:"server"`
	Name          string       `json:"name"`
	Type          string       `json:"type"`
	Transport     string       `json:"transport"`
	Outcome       string       `json:"outcome"`
	RCode         string       `json:"rcode"`
	RTT           float64      `json:"rtt_ms,omitempty"`
	Authoritative bool         `json:"authoritative"`
	Truncated     bool         `json:"truncated"`
	Ignored       int          `json:"foreign_answers_ignored"`
	Records       []recordJSON `json:"records"`
	Group         int          `json:"agrees_in_group"`
}

// WriteJSON writes it as one object.
func (n Named) WriteJSON(w io.Writer) error {
	type server struct {
		Address string   `json:"address"`
		Set     bool     `json:"set"`
		Origin  []string `json:"origin"`
	}
	out := struct {
		Schema  string       `json:"schema"`
		At      time.Time    `json:"at"`
		Name    string       `json:"name"`
		Tried   []string     `json:"tried"`
		Hosts   []netip.Addr `json:"hosts_file"`
		Servers []server     `json:"servers"`
		Answers []answerJSON `json:"answers"`
		Parts   bool         `json:"servers_disagree"`
	}{Schema: NamesSchema, At: n.At.UTC(), Name: n.Name, Tried: orEmpty(n.Asked), Hosts: orEmpty(n.Hosts), Servers: []server{},
		Answers: []answerJSON{}, Parts: n.Parts()}
	for _, s := range n.Servers {
		out.Servers = append(out.Servers, server{s.Address.String(), s.Set, orEmpty(s.Origin)})
	}
	for _, line := range n.Lines() {
		for i, c := range line.Cells {
			if c.Outcome == evidence.NotKnown {
				continue
			}
			x := answerJSON{Server: n.Servers[i].Address.String(), Name: c.Name, Type: line.Type, Transport: transport(line.TCP),
				Outcome: c.Outcome.String(), RCode: c.RCode, RTT: float64(c.RTT.Microseconds()) / 1000,
				Authoritative: c.Authoritative, Truncated: c.Truncated, Ignored: c.Ignored, Records: []recordJSON{}, Group: c.Group}
			for _, r := range c.Records {
				x.Records = append(x.Records, recordJSON{r.Name, r.Type, int64(r.TTL / time.Second), r.Value})
			}
			out.Answers = append(out.Answers, x)
		}
	}
	return writeJSON(w, out)
}

func transport(tcp bool) string {
	if tcp {
		return "tcp"
	}
	return "udp"
}

// WriteText writes it for people.
func (n Named) WriteText(w io.Writer) error {
	if len(n.Hosts) > 0 {
		fmt.Fprintf(w, "the hosts file has %s for %s: programs here take that and ask nobody\n", list(n.Hosts), n.Name)
	}
	if len(n.Asked) > 0 && n.Asked[0] != n.Name {
		fmt.Fprintf(w, "a short name is tried as %s\n", strings.Join(n.Asked, ", then "))
	}
	for _, line := range n.Lines() {
		what := line.Type
		if line.TCP {
			what += " over TCP"
		}
		if line.Parts {
			what += "   ╍╍ the servers disagree"
		}
		fmt.Fprintln(w, what)
		t := tabwriter.NewWriter(w, 0, 8, 2, ' ', 0)
		for i, c := range line.Cells {
			if c.Outcome != evidence.NotKnown {
				fmt.Fprintf(t, "  %v\t%s\t%s\t%s\n", n.Servers[i].Address, names.Words(c.Lookup), names.Footing(c.Lookup),
					n.Servers[i].From())
			}
		}
		if err := t.Flush(); err != nil {
			return err
		}
	}
	if len(n.Servers) == 0 {
		fmt.Fprintln(w, "no name server is set, and nobody names one")
	}
	return nil
}

// Compared is a comparison of name servers.
type Compared struct {
	At      time.Time
	Names   []string
	Rounds  int
	Servers []names.Server
	Trial   *names.Trial
}

// WriteJSON writes it as one object.
func (c Compared) WriteJSON(w io.Writer) error {
	type figures struct {
		Asked    int            `json:"asked"`
		Answered int            `json:"answered"`
		Typical  float64        `json:"typical_ms,omitempty"`
		Worst    float64        `json:"worst_ms,omitempty"`
		Failures map[string]int `json:"failures"`
	}
	type row struct {
		Server string  `json:"server"`
		Origin string  `json:"origin"`
		First  figures `json:"first"`
		Again  figures `json:"again"`
	}
	convert := func(f names.Figures) figures {
		out := figures{Asked: f.Asked, Answered: f.Answered, Failures: f.Failures}
		if out.Failures == nil {
			out.Failures = map[string]int{}
		}
		if d, ok := f.Typical(); ok {
			out.Typical = float64(d.Microseconds()) / 1000
		}
		if d, ok := f.Worst(); ok {
			out.Worst = float64(d.Microseconds()) / 1000
		}
		return out
	}
	a := c.Trial.Advice()
	out := struct {
		Schema  string    `json:"schema"`
		At      time.Time `json:"at"`
		Names   []string  `json:"names"`
		Rounds  int       `json:"rounds"`
		Servers []row     `json:"servers"`
		Best    string    `json:"best"`
		Advice  string    `json:"advice"`
	}{ResolversSchema, c.At.UTC(), orEmpty(c.Names), c.Rounds, []row{}, known(a.Best), a.Words}
	for i, t := range c.Trial.Tallies {
		out.Servers = append(out.Servers, row{t.Server.String(), c.Servers[i].From(), convert(t.Cold), convert(t.Warm)})
	}
	return writeJSON(w, out)
}

// FiguresWords say how a number of look-ups went.
func FiguresWords(f names.Figures) (share, typical, worst string) {
	if f.Asked == 0 {
		return "·", "·", "·"
	}
	share, typical, worst = fmt.Sprintf("%d of %d", f.Answered, f.Asked), "·", "·"
	if d, ok := f.Typical(); ok {
		typical = wording.Millis(d)
	}
	if d, ok := f.Worst(); ok {
		worst = wording.Millis(d)
	}
	return share, typical, worst
}

// WriteText writes it for people.
func (c Compared) WriteText(w io.Writer) error {
	fmt.Fprintf(w, "%d rounds of %s\n", c.Rounds, strings.Join(c.Names, ", "))
	t := tabwriter.NewWriter(w, 0, 8, 2, ' ', 0)
	fmt.Fprintln(t, "name server\tfirst time: answered\tmedian\tmax\tagain: answered\tmedian\tmax\t")
	for i, x := range c.Trial.Tallies {
		a, b, d := FiguresWords(x.Cold)
		e, f, g := FiguresWords(x.Warm)
		fmt.Fprintf(t, "%v\t%s\t%s\t%s\t%s\t%s\t%s\t%s\n", x.Server, a, b, d, e, f, g, c.Servers[i].From())
	}
	if err := t.Flush(); err != nil {
		return err
	}
	_, err := fmt.Fprintln(w, c.Trial.Advice().Words)
	return err
}

// NamesExport is view 5 as files: the name, and the comparison once there is one.
func NamesExport(n Named, c Compared) Export {
	return Export{Data: map[string]func(io.Writer) error{
		".json": n.WriteJSON,
		".txt": func(w io.Writer) error {
			if err := n.WriteText(w); err != nil || c.Trial == nil {
				return err
			}
			fmt.Fprintln(w)
			return c.WriteText(w)
		},
	}}
}
