package tui

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/acting"
	"passepartout/internal/core/evidence"
	"passepartout/internal/machine/simulated"
)

// pickHandle picks what shall be set by hand.
func pickHandle(t *testing.T, m *model, name string) {
	i := slices.IndexFunc(handles, func(h handle) bool { return h.name == name })
	require.GreaterOrEqual(t, i, 0, name)
	m.acts.picked = len(m.result.Mends) + i
}

// By hand, at one machine.
func TestByHand(t *testing.T) {
	t.Parallel()
	m := standing(t, "healthy", simulated.Options{}, nil)
	eachThingIsSetByHand(t, m)
	howLongItLastsByKey(t, m)
	aViewLeadsToWhatIsChangedOfIt(t, m)
}

// Each thing that can be set is set by hand: picked, typed where it takes words, looked at; and what can be taken away is.
func eachThingIsSetByHand(t *testing.T, m *model) {
	press(m, "0")
	for _, c := range []struct{ handle, key, typed, does string }{
		{"switched", "enter", "", "switches eth0 off"},
		{"address", "x", "", "takes the address 172.27.40.23/24 from eth0"},
		{"gateway", "x", "", "takes the route to everywhere by 172.27.40.1 on eth0 away"},
		{"IPv6 address", "enter", "2001:db8:40::99/64", "gives eth0 the address 2001:db8:40::99/64"},
		{"name servers", "enter", "172.27.40.23/24 172.27.40.1 203.0.113.53", "sets the name servers to 203.0.113.53"},
		{"search list", "enter", "pier.example", "sets the name servers to 172.27.40.2, 203.0.113.53"},
		{"MTU", "enter", "1400", "sets the MTU of eth0 to 1400 octets"},
		{"other routes", "enter", "203.0.113.80/32 172.27.40.1", "adds the route 203.0.113.80/32 by 172.27.40.1 on eth0"},
		{"hosts file", "x", "", "takes ticket-03 at 172.27.40.23 out of the hosts file"},
		{"fixed entries", "enter", "172.27.40.1 02:00:00:00:28:01", "fixes 172.27.40.1 at 02:00:00:00:28:01 on eth0"},
		{"further address", "enter", "172.27.40.99/24", "gives eth0 the address 172.27.40.99/24"},
	} {
		pickHandle(t, m, c.handle)
		shows(t, m, "▸ "+c.handle)
		press(m, c.key)
		if c.typed != "" {
			require.Equal(t, entryLayer, m.top(), c.handle)
			m.entry.input.SetValue(c.typed)
			press(m, "enter")
		}
		require.NotNil(t, m.acts.draft, "%s: %s", c.handle, m.acts.says)
		until(t, m, "the plan", func() bool { return m.acts.draft.looked })
		shows(t, m, c.does)
		press(m, "esc")
		require.Nil(t, m.acts.draft, c.handle)
	}
	for _, handle := range []string{"rules", "other routes"} {
		pickHandle(t, m, handle)
		press(m, "x")
		shows(t, m, handle+": there is nothing that could be taken away")
	}
	pickHandle(t, m, "IPv6 gateway")
	press(m, "x")
	shows(t, m, "takes the route to everywhere by 2001:db8:40::1 on eth0 away", "no route leads out of the local network any more, by IPv6")
	press(m, "esc")
}

// Which one of several is taken away is asked.
func TestOneOfSeveralIsTakenAway(t *testing.T) {
	t.Parallel()
	m := standing(t, "hosts-file-override", simulated.Options{}, nil)
	press(m, "0")
	pickHandle(t, m, "hosts file")
	press(m, "x")
	shows(t, m, "What is to be taken away?", "▸ takes ")
	press(m, "esc", "x", "down", "enter")
	require.NotNil(t, m.acts.draft, m.acts.says)
	assert.Equal(t, "By hand: "+m.acts.removals[1].String(), m.acts.draft.proposal.Title)
}

// From the view on a matter, what is changed of it comes first; what was chosen there is given.
func aViewLeadsToWhatIsChangedOfIt(t *testing.T, m *model) {
	for _, c := range []struct{ key, handle string }{{"2", "address"}, {"3", "lease"}, {"4", "fixed entries"}, {"5", "name servers"},
		{"7", "other routes"}, {"8", "MTU"}, {"9", "switched"}} {
		press(m, c.key)
		press(m, "0")
		shows(t, m, "▸ "+c.handle)
	}
	press(m, "4")
	until(t, m, "the neighbours", func() bool { return len(m.segment().Rows) > 1 })
	press(m, "down", "0", "enter")
	chosen := m.neighbours().chosen
	require.True(t, chosen.IsValid())
	assert.Contains(t, m.entry.input.Value(), chosen.String()+" 02:00:")
}

// How long a change lasts is said with it, and chosen by a key; what cannot be is said.
func howLongItLastsByKey(t *testing.T, m *model) {
	pickHandle(t, m, "further address")
	press(m, "enter")
	m.entry.input.SetValue("172.27.40.99/24")
	press(m, "enter")
	until(t, m, "the plan", func() bool { return m.acts.draft.looked })
	shows(t, m, "lasts now")
	press(m, "l")
	until(t, m, "the plan", func() bool { return m.acts.draft.looked })
	shows(t, m, "lasts for 10m0s", "172.27.40.99/24 for 10m0s", "not for good: for good is set an interface's address")
	press(m, "l")
	shows(t, m, "lasts now")
	press(m, "esc")
	pickHandle(t, m, "MTU")
	press(m, "enter")
	m.entry.input.SetValue("1400")
	press(m, "enter", "l")
	assert.NotContains(t, text(m), "lasts")
	press(m, "esc")
}

// A device with other settings is reached from a second address: free, for a while, and what is asked for from then on is the device.
func TestADeviceIsReachedForAWhile(t *testing.T) {
	t.Parallel()
	m := standing(t, "device-in-another-network", simulated.Options{}, nil)
	press(m, "t")
	m.input.SetValue("bookings.kittiwake.example:443")
	press(m, "enter")
	until(t, m, "the machine's settings", func() bool { return m.endpoint() != nil && m.set.Interface != "" })
	press(m, "0")
	for typed, says := range map[string]string{"lock": "give the device's address", "192.168.1.255": "means all hosts",
		"fe80::1/64": "by IPv4"} {
		pickHandle(t, m, "a device")
		press(m, "enter")
		m.entry.input.SetValue(typed)
		press(m, "enter")
		assert.Contains(t, m.entry.flaw, says, typed)
		press(m, "esc")
	}
	pickHandle(t, m, "a device")
	press(m, "enter")
	m.entry.input.SetValue("192.168.1.1")
	press(m, "enter")
	until(t, m, "the plan", func() bool { return m.acts.draft != nil && m.acts.draft.looked })
	shows(t, m, "Reach 192.168.1.1 for 10 minutes", "192.168.1.2/32")
	press(m, "enter")
	until(t, m, "the device", func() bool { // it answers: how fast is this machine's matter
		return m.target.String() == "192.168.1.1" && m.set != nil &&
			slices.ContainsFunc(m.set.Echoes, func(e evidence.Echo) bool { return e.Came() && e.From == m.target.Addr })
	})
	press(m, "0")
	shows(t, m, "goes by itself at")
	require.Len(t, m.acts.done, 1)
	assert.Equal(t, acting.Kept, m.acts.done[0].outcome)
	now, err := acting.Settings(t.Context(), m.Ground.Machine)
	require.NoError(t, err)
	assert.Len(t, now.On("eth0", false), 2)
	press(m, "u")
	until(t, m, "the undoing", func() bool { return m.acts.done[0].outcome == acting.TakenBack })
	now, err = acting.Settings(t.Context(), m.Ground.Machine)
	require.NoError(t, err)
	assert.Len(t, now.On("eth0", false), 1)
}
