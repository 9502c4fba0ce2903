package tui

import (
	"net/netip"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
)

// Whatever a key does is found by a word of its name, and done from there: in four keys at most.
func TestAnyCommandByItsName(t *testing.T) {
	for word, does := range map[string]func(m *model) bool{
		"ta": func(m *model) bool { return m.shows(questionLayer) },
		"va": func(m *model) bool { return m.shows(valuesLayer) },
		"ex": func(m *model) bool { return m.shows(entryLayer) || m.view == passingView },
		"su": func(m *model) bool { return m.view == suspectsView },
		"pa": func(m *model) bool { return m.view == pathView },
		"in": func(m *model) bool { return m.shows(interfacesLayer) },
	} {
		m := showing(t, 142, 44, nil)
		press(m, append([]string{"?"}, append(strings.Split(word, ""), "enter")...)...)
		assert.True(t, does(m), "%s\n%s", word, text(m))
		assert.False(t, m.shows(deedsLayer), word)
	}
}

// The list has every key of every view, each with its words, and each of them is a key.
func TestEveryKeyHasWords(t *testing.T) {
	for _, v := range views {
		keys := map[string]bool{}
		for _, d := range v.deeds {
			assert.NotEmpty(t, d.name, "%s %s", v.name, d.key)
			assert.NotEmpty(t, d.does, "%s %s", v.name, d.key)
			assert.False(t, keys[d.key], "%s %s twice", v.name, d.key)
			keys[d.key] = true
			_, is := pressOf(d.key)
			assert.True(t, is, "%s %s is no key", v.name, d.key)
		}
		m := showing(t, 142, 60, nil)
		press(m, v.key, "?")
		page := text(m)
		for _, d := range v.deeds {
			assert.Contains(t, page, d.name, v.name)
		}
		for range 200 { // everything can be looked at, in the smallest window too
			press(m, "down")
		}
		assert.Contains(t, text(m), "silence that proves nothing", v.name)
	}
	for _, d := range showing(t, 142, 44, nil).general() {
		assert.NotEmpty(t, d.does, d.name)
	}
}

// What is typed narrows the list; what is not there is said, and backspace takes it back.
func TestTypingInTheList(t *testing.T) {
	m := showing(t, 80, 24, nil)
	press(m, "?", "z", "z", "z")
	shows(t, m, "Nothing here is called that")
	press(m, "enter", "backspace", "backspace", "backspace")
	shows(t, m, "choose the check above")
	press(m, "n", "e", "i", "g", "h")
	assert.Equal(t, "neighbours", m.deedsShown()[0].name)
	whole(t, m, "the list")
	press(m, "esc")
	assert.Nil(t, m.top())
}

// A page that is longer than the window scrolls under its head, by keys and by the wheel, and says how much there is.
func TestALongPageScrolls(t *testing.T) {
	many := func(s *evidence.Set) {
		e := *s.Endpoint
		for i := range 60 {
			to := netip.PrefixFrom(netip.AddrFrom4([4]byte{198, 51, 100, byte(4 * i)}), 30)
			e.Routes = append(e.Routes[:len(e.Routes):len(e.Routes)], endpoint.Route{To: to, Interface: "eth0"})
		}
		s.Endpoint = &e
	}
	m := showing(t, 80, 24, many)
	press(m, "2")
	page := text(m)
	require.Regexp(t, `rows 1 to \d+ of \d+`, page)
	assert.NotContains(t, page, "198.51.100.236/30")
	press(m, "end")
	page = text(m)
	assert.Contains(t, page, "198.51.100.236/30")
	assert.Contains(t, page, "ticket-03", "the head stays")
	whole(t, m, "scrolled")
	press(m, "home")
	assert.Regexp(t, `rows 1 to`, text(m))
	send(m, tea.MouseWheelMsg{Button: tea.MouseWheelDown, X: 10, Y: 15})
	assert.Regexp(t, `rows 4 to`, text(m))
	press(m, "pgdown", "1", "2")
	assert.NotRegexp(t, `rows 1 to`, text(m), "where it was left")
}

// What stands beside a list goes on by a key, and begins anew with another choice.
func TestWhatStandsBesideScrolls(t *testing.T) {
	m := showing(t, 80, 24, nil)
	press(m, "9")
	before := text(m)
	require.Contains(t, before, "space goes on")
	press(m, "space")
	assert.NotEqual(t, before, text(m))
	whole(t, m, "beside")
	press(m, "down", "up")
	assert.Equal(t, clock.ReplaceAllString(before, ""), clock.ReplaceAllString(text(m), ""))
}

// The choice of complaints begins with a few, is narrowed by what is typed, and marks what was looked into already.
func TestTheChoiceOfComplaints(t *testing.T) {
	opened := ""
	c := Config{Begin: []string{"second"}, Open: func(name string) (Ground, error) {
		opened = name
		return Ground{Machine: still{}}, nil
	}}
	for _, name := range []string{"first", "second", "third"} {
		c.Cases = append(c.Cases, Case{Name: name, Complaint: "It is the " + name + " thing that fails."})
	}
	m := newModel(t.Context(), c)
	m.width, m.height = 80, 24
	shows(t, m, "To begin with", "▸ It is the second", "Any one of them", "All others", "It is the first")
	press(m, "t", "h", "i", "r", "d")
	assert.Contains(t, text(m), "▸ It is the third")
	assert.NotContains(t, text(m), "first thing")
	whole(t, m, "narrowed")
	press(m, "enter")
	until(t, m, "the site", func() bool { return m.shows(questionLayer) })
	assert.Equal(t, "third", opened)
	press(m, "esc")
	shows(t, m, "It is the third thing that fails. (looked into)")
	press(m, "x", "x")
	shows(t, m, "No complaint has that word")
	press(m, "enter", "esc", "down", "enter")
	until(t, m, "any one", func() bool { return m.shows(questionLayer) })
	assert.Contains(t, []string{"first", "second", "third"}, opened)
	m.leave()
}
