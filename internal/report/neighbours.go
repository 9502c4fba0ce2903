package report

import (
	"fmt"
	"io"
	"net/netip"
	"strings"
	"text/tabwriter"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/neighbours"
	"passepartout/internal/core/site"
	"passepartout/internal/oui"
	"passepartout/internal/probe/neighbourwatch"
)

// Neighbours is a picture of one segment's machines, to be written.
type Neighbours struct {
	Interface string
	Home      site.Network
	HasHome   bool
	neighbourwatch.Picture
}

// NeighboursSchema and FreeSchema name the shapes of the JSON.
const (
	NeighboursSchema = "passepartout.neighbours/1"
	FreeSchema       = "passepartout.free/1"
)

type nameJSON struct {
	Name   string `json:"name"`
	Source string `json:"source"`
}

type neighbourJSON struct {
	Address    string     `json:"address"`
	Hardware   string     `json:"hardware_address"`
	Vendor     string     `json:"vendor"`
	State      string     `json:"state"`
	Words      string     `json:"words"`
	Names      []nameJSON `json:"names"`
	Marks      []string   `json:"marks"`
	Beside     []string   `json:"other_hardware_addresses"`
	Documented string     `json:"documented"`
	RTT        float64    `json:"answered_after_ms,omitempty"`
}

type switchJSON struct {
	Name    string `json:"name"`
	Chassis string `json:"chassis"`
	Port    string `json:"port"`
	About   string `json:"port_description"`
	VLAN    int    `json:"vlan,omitempty"`
	Address string `json:"management_address"`
}

// WriteJSON writes it as one object.
func (n Neighbours) WriteJSON(w io.Writer) error {
	type asked struct {
		Addresses int     `json:"addresses"`
		Answered  int     `json:"answered"`
		Rate      int     `json:"requests_per_second"`
		Took      float64 `json:"took_s"`
	}
	out := struct {
		Schema    string          `json:"schema"`
		At        time.Time       `json:"at"`
		Interface string          `json:"interface"`
		Rows      []neighbourJSON `json:"neighbours"`
		Asked     *asked          `json:"asked,omitempty"`
		Switch    *switchJSON     `json:"switch,omitempty"`
		Withheld  string          `json:"withheld,omitempty"`
	}{Schema: NeighboursSchema, At: n.At.UTC(), Interface: n.Interface, Rows: []neighbourJSON{}, Withheld: n.Withheld}
	for _, r := range n.Rows {
		x := neighbourJSON{Address: r.Address.String(), Hardware: r.Hardware.String(), Vendor: oui.Of(r.Hardware), State: r.State.String(),
			Words: r.Words, Names: []nameJSON{}, Marks: []string{}, Beside: []string{}}
		for _, name := range r.Names {
			x.Names = append(x.Names, nameJSON{name.Text, name.Source.String()})
		}
		for _, m := range r.Marks {
			x.Marks = append(x.Marks, m.String())
		}
		for _, h := range r.Beside {
			x.Beside = append(x.Beside, h.String())
		}
		if n.HasHome {
			x.Documented = n.Home.Use(r.Address)
		}
		x.RTT = float64(r.RTT.Microseconds()) / 1000
		out.Rows = append(out.Rows, x)
	}
	if g := n.Progress; g.Total > 0 {
		out.Asked = &asked{g.Asked, g.Answered, g.Rate, g.Took.Seconds()}
	}
	if s := n.Switch; s != nil {
		out.Switch = &switchJSON{s.Name, s.Chassis, s.Port, s.PortText, s.VLAN, known(s.Address)}
	}
	return writeJSON(w, out)
}

// WriteText writes it for people.
func (n Neighbours) WriteText(w io.Writer) error {
	t := tabwriter.NewWriter(w, 0, 8, 2, ' ', 0)
	fmt.Fprintf(t, "machine\taddress\tcard\tstate\t%s\n", map[bool]string{true: "documented as\tmarks", false: "marks"}[n.HasHome])
	for _, r := range n.Rows {
		card := r.Hardware.String()
		if v := oui.Of(r.Hardware); v != "" {
			card += " (" + v + ")"
		}
		fmt.Fprintf(t, "%s\t%v\t%s\t%s\t", NameWords(r), r.Address, card, r.Words)
		if n.HasHome {
			fmt.Fprintf(t, "%s\t", n.Home.Use(r.Address))
		}
		fmt.Fprintf(t, "%s\n", MarkWords(r))
	}
	if err := t.Flush(); err != nil {
		return err
	}
	if len(n.Rows) == 0 {
		fmt.Fprintln(w, "nobody is known on this segment yet")
	}
	if g := n.Progress; g.Total > 0 {
		fmt.Fprintf(w, "asked %d addresses in %s, at most %d requests a second: %d answered\n", g.Asked, neighbours.Seconds(g.Took), g.Rate,
			g.Answered)
	}
	if s := n.Switch; s != nil {
		fmt.Fprintln(w, "the cable leads to "+SwitchWords(*s))
	}
	if n.Withheld != "" {
		fmt.Fprintf(w, "what others say on the segment could not be heard: it %s\n", n.Withheld)
	}
	return nil
}

// WriteCSV writes one line a neighbour (RFC 4180).
func (n Neighbours) WriteCSV(w io.Writer) error {
	if err := csvRow(w, "address", "hardware_address", "vendor", "state", "name", "name_source", "documented", "marks"); err != nil {
		return err
	}
	for _, r := range n.Rows {
		name, source, documented := "", "", ""
		if len(r.Names) > 0 {
			name, source = r.Names[0].Text, r.Names[0].Source.String()
		}
		if n.HasHome {
			documented = n.Home.Use(r.Address)
		}
		if err := csvRow(w, r.Address, r.Hardware, oui.Of(r.Hardware), r.Words, name, source, documented, MarkWords(r)); err != nil {
			return err
		}
	}
	return nil
}

// NameWords are a neighbour's first name and who gives it; "" if it has none.
func NameWords(r neighbours.Row) string {
	if len(r.Names) == 0 {
		return "·"
	}
	return fmt.Sprintf("%s (%v)", r.Names[0].Text, r.Names[0].Source)
}

// MarkWords are what matters about a neighbour.
func MarkWords(r neighbours.Row) string {
	var parts []string
	for _, m := range r.Marks {
		text := m.String()
		if len(r.Beside) > 0 && m.Wrong() {
			text += ": also " + r.Beside[0].String()
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, ", ")
}

// SwitchWords say where the cable leads.
func SwitchWords(s evidence.Switch) string {
	words := s.Name
	if words == "" {
		words = s.Chassis
	}
	words += ", port " + s.Port
	if s.PortText != "" && s.PortText != s.Port {
		words += " (" + s.PortText + ")"
	}
	if s.VLAN > 0 {
		words += fmt.Sprintf(", VLAN %d", s.VLAN)
	}
	return words
}

// TrialJSON writes what came of asking whether an address is free.
func TrialJSON(w io.Writer, t neighbours.Trial, prefix netip.Prefix, home site.Network, documented bool) error {
	s, sentence, limits := t.Result(prefix, home, documented)
	out := struct {
		Schema   string   `json:"schema"`
		Address  string   `json:"address"`
		Own      bool     `json:"own"`
		Result   string   `json:"result"`
		Sentence string   `json:"sentence"`
		Limits   []string `json:"limits"`
		Holders  []string `json:"hardware_addresses"`
		Probes   int      `json:"probes"`
		Echo     string   `json:"echo"`
		Took     float64  `json:"took_s"`
	}{Schema: FreeSchema, Address: t.Address.String(), Own: t.Own, Result: TrialWord(s), Sentence: sentence, Limits: orEmpty(limits),
		Holders: []string{}, Probes: t.Probes, Echo: t.Echo.Outcome.String(), Took: t.Took.Seconds()}
	for _, h := range t.Holders {
		out.Holders = append(out.Holders, h.String())
	}
	return writeJSON(w, out)
}

// TrialWord is the contract's word for how a trial came out.
func TrialWord(s neighbours.Standing) string {
	return [...]string{"asking", "taken", "being-taken", "quiet", "alone", "cannot-tell"}[s]
}
