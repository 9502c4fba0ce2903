package tui

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/fault"
	"passepartout/internal/machine/simulated"
)

// While one types, rows go; left, they are back; taken, they stay away until esc.
func TestRowsAreNarrowedAsOneTypes(t *testing.T) {
	m := showing(t, 140, 44, func(s *evidence.Set) { GatewayGone(s) })
	press(m, "9")
	all := len(m.ordered())
	press(m, "/")
	press(m, strings.Split("portal", "")...)
	few := m.ordered()
	assert.NotEmpty(t, few)
	assert.Less(t, len(few), all)
	for _, s := range few {
		assert.Contains(t, strings.ToLower(s.Fault.Title()+string(s.Fault.ID)), "portal")
	}
	shows(t, m, "only what has: a title, an id, a zone, a standing", "portal")
	press(m, "esc")
	assert.Len(t, m.ordered(), all, "as it was")
	press(m, "/")
	press(m, strings.Split("local ruled", "")...)
	press(m, "enter")
	narrowed := m.ordered()
	assert.Less(t, len(narrowed), all)
	for _, s := range narrowed {
		assert.Equal(t, fault.Cleared, s.Standing)
	}
	shows(t, m, "only “local ruled”, esc shows all")
	press(m, "down")
	assert.Equal(t, narrowed[1].Fault.ID, m.suspects().chosen)
	press(m, "1", "9")
	assert.Len(t, m.ordered(), len(narrowed), "of this view, until esc")
	press(m, "/")
	m.entry.input.SetValue("no such fault")
	press(m, "enter")
	shows(t, m, "No fault has all of “no such fault”. esc shows all.")
	press(m, "enter", "down")
	press(m, "esc")
	assert.Len(t, m.ordered(), all)
	press(m, "1", "/")
	assert.False(t, m.shows(entryLayer), "the overview's rows are not narrowed")
}

func TestNeighboursAreNarrowed(t *testing.T) {
	t.Parallel()
	m := standing(t, "healthy", simulated.Options{}, nil)
	press(m, "4")
	shows(t, m, "172.27.40.1", "172.27.40.2")
	press(m, "/")
	press(m, strings.Split("40.2 ", "")...)
	press(m, "enter")
	assert.NotEmpty(t, m.neighbourRows())
	for _, x := range m.neighbourRows() {
		assert.Contains(t, x.Address.String(), "40.2")
	}
	press(m, "down", "end")
	shows(t, m, "only “40.2”, esc shows all")
	press(m, "/")
	m.entry.input.SetValue("198.51.100.99")
	press(m, "enter")
	shows(t, m, "No neighbour has all of “198.51.100.99”.")
	press(m, "down", "esc")
	shows(t, m, "172.27.40.1 ")
}

// Every route is there, by the table in which it stands and what leads to it, and can be searched for.
func TestRoutesStandByTheirTables(t *testing.T) {
	m := showing(t, 120, 60, func(s *evidence.Set) {
		via := endpoint.Route{To: netip.MustParsePrefix("10.9.0.0/16"), Via: Core, Interface: "eth0", Table: 120, Verdict: endpoint.Forward}
		other := via
		other.To, other.Table = netip.MustParsePrefix("10.8.0.0/16"), 121
		s.Endpoint.Routes = append([]endpoint.Route{via, other}, s.Endpoint.Routes...)
		s.Endpoint.Rules = []endpoint.Rule{{Priority: 90, Table: 120, From: netip.MustParsePrefix("172.27.40.0/24")}}
	})
	press(m, "2")
	shows(t, m, "Table 120   rule 90, for packets from 172.27.40.0/24", "10.9.0.0/16", "Table 121   no rule leads to it: nothing goes by it")
	page := text(m)
	assert.Less(t, strings.Index(page, "everything else, IPv4"), strings.Index(page, "10.9.0.0/16"), "the main table first")
	press(m, "/")
	press(m, strings.Split("table 121", "")...)
	press(m, "enter")
	shows(t, m, "only “table 121”", "10.8.0.0/16")
	assert.NotContains(t, text(m), "10.9.0.0/16")
}

// How this machine would reach any address is asked in place: three keys and the address.
func TestTheWayToAnotherAddress(t *testing.T) {
	t.Parallel()
	m := standing(t, "healthy", simulated.Options{}, nil)
	press(m, "2", "a")
	press(m, strings.Split("no address", "")...)
	press(m, "enter")
	shows(t, m, "“no address” is no address such as 192.0.2.7")
	for _, c := range []struct{ to, want string }{
		{"198.51.100.7", "198.51.100.7                by 172.27.40.1 through eth0, as 172.27.40.23   asked at "},
		{"172.27.40.2", "172.27.40.2                 directly on eth0, as 172.27.40.23   asked at "},
		{"172.27.40.23", "172.27.40.23                itself   asked at "},
	} {
		if !m.shows(entryLayer) {
			press(m, "a")
		}
		m.entry.input.SetValue(c.to)
		press(m, "enter")
		until(t, m, c.want, func() bool { return strings.Contains(text(m), c.want) })
	}
	assert.Len(t, hold[waysAsked](m).answers, 3)
	for range 2 {
		press(m, "a")
		m.entry.input.SetValue("172.27.40.2")
		press(m, "enter")
		until(t, m, "first", func() bool { return hold[waysAsked](m).answers[0].To.String() == "172.27.40.2" })
	}
	assert.Len(t, hold[waysAsked](m).answers, 3, "asked again, it takes its own place")
}
