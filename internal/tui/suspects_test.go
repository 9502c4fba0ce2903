package tui

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/fault"
	"passepartout/internal/machine/simulated"
)

func TestSuspectsView(t *testing.T) {
	m := showing(t, 140, 44, func(s *evidence.Set) { GatewayGone(s) })
	press(m, "9")
	shows(t, m, "HOST", "LOCAL SUBNET", "BEYOND", "1 found", "Found", "▸━╳ The gateway does not answer", "local subnet",
		"answered: 172.27.40.2", "Ruled out")
	list := m.ordered()
	assert.Len(t, list, len(fault.Catalogue), "every fault of the catalogue is shown")
	for i := range list[1:] {
		assert.LessOrEqual(t, standingOrderOf(list[i].Standing), standingOrderOf(list[i+1].Standing), "what is found comes first")
	}
	for range len(list) {
		press(m, "down")
		chosen := list[m.suspects().selected]
		page := text(m)
		assert.Contains(t, page, chosen.Fault.Title(), "each can be looked at")
		for _, reason := range append(chosen.For, chosen.Against...) {
			assert.Contains(t, strings.Join(strings.Fields(page), " "), strings.Fields(reason)[0], chosen.Fault.ID)
		}
	}
	press(m, "pgup", "pgup", "pgup", "pgup", "pgup", "pgup", "pgup")
	press(m, "enter")
	assert.Equal(t, overviewView, m.view, "the exchange is one key away")
	assert.Equal(t, "gateway", m.result.Checks[m.selected].ID)
}

func standingOrderOf(s fault.Standing) int {
	for i, x := range standingOrder {
		if x == s {
			return i
		}
	}
	return -1
}

// After a repair the same tests say what became of it.
func TestBeforeAndAfter(t *testing.T) {
	broken := standing(t, "gateway-not-set", simulated.Options{}, nil)
	again := func() {
		press(broken, "r")
		was := broken.state.Round.Number
		until(t, broken, "another run of the tests", func() bool { return broken.state.Round.Number > was })
		testsEnd(t, broken)
	}
	again()
	shows(t, broken, "Still broken. Nothing that was tested has changed.")
	well := standing(t, "healthy", simulated.Options{}, nil)
	broken.keys = newKeys(true)
	broken.Ground.Mended = func() (Ground, error) { return Ground{Machine: well.Ground.Machine}, nil }
	press(broken, "h")
	until(t, broken, "the repair", func() bool { return broken.Ground.Mended == nil })
	testsEnd(t, broken)
	shows(t, broken, "Repaired. Changed:", "gateway set: no gateway is")
	assert.Regexp(t, `(?m)━━ gateway set  +172\.27\.40\.1 lies inside the mask.*\n +before +━╳ no gateway is set`, text(broken),
		"before beside after")
	press(broken, "up", "up", "up", "up", "up", "up", "up", "up", "up", "up", "up", "up", "down", "down", "down")
	shows(t, broken, "before  no gateway is set (broken)")
	again()
	assert.NotContains(t, text(broken), "Repaired", "that was the run before")
	broken.target = well.target
	press(broken, "t", "enter")
	assert.Nil(t, broken.before, "another question has no run before")
}

// In a demonstration somebody can be had to do the repair.
func TestHavingItMended(t *testing.T) {
	m := standing(t, "resolver-wrong", simulated.Options{}, nil)
	m.keys = newKeys(true)
	well := standing(t, "healthy", simulated.Options{}, nil)
	m.Ground.Mended = func() (Ground, error) { return Ground{Machine: well.Ground.Machine}, nil }
	press(m, "9", "h")
	until(t, m, "the repair", func() bool { return m.Ground.Mended == nil })
	testsEnd(t, m)
	shows(t, m, "Repaired. Changed:", "1 overview", "asked for bookings.kittiwake.example")
	press(m, "h")
	shows(t, m, "nothing to mend here any more")
	press(well, "h")
	assert.NotContains(t, text(well), "nothing to mend", "on a live machine it is no key")
}

// Without permission for frames the open suspects say what is missing.
func TestSuspectsSayWhatIsMissing(t *testing.T) {
	m := showing(t, 140, 44, func(s *evidence.Set) { GatewayGone(s); WithoutFrames(s) })
	press(m, "9")
	for i, s := range m.ordered() {
		if s.Fault.ID == "host-firewall" {
			m.suspects().selected, m.suspects().chosen = i, s.Fault.ID
		}
	}
	shows(t, m, "missing", "segment-frames, which needs permission")
}
