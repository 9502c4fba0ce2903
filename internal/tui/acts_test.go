package tui

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/acting"
	"passepartout/internal/core/change"
	"passepartout/internal/core/zone"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/nap/naptest"
	"passepartout/internal/scenario"
)

// What a change of this machine mends is mended from the verdict by keys alone, proven by the same tests, kept, and taken back by one key
// more.
func TestMendedByKeys(t *testing.T) {
	var mu sync.Mutex
	faults := map[string]bool{}
	t.Cleanup(func() { fmt.Printf("mended by keys, simulated: %d faults\n", len(faults)) })
	for i, name := range []string{"competing-default-routes", "competing-default-routes-names", "fourth-name-server-lives",
		"lookups-switched-off", "lookups-end-before-dns",
		"stub-stopped", "stub-hangs", "stub-refuses", "hosts-file-override", "hosts-file-blocks", "route-by-rule-wrong",
		"route-by-rule-refuses",
		"route-by-rule-to-a-neighbour",
		"gateway-not-a-router", "gateway-not-set", "gateway-not-set-six-only", "gateway-outside-subnet", "interface-down",
		"mask-too-narrow",
		"mask-too-wide", "mtu-too-large", "mtu-black-hole", "neighbour-entry-pinned", "resolver-not-set", "resolver-set-by-hand-six-only",
		"resolver-wrong", "resolver-wrong-by-sheet", "route-stale", "router-leads-nowhere", "router-leads-nowhere-six-only",
		"split-tunnel-holds-target", "tunnel-holds-route", "wrong-network", "device-in-another-network",
		"no-address", "self-assigned-address", "address-expired"} {
		if i >= 6 && testing.Short() {
			break
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			naptest.Undisturbed(t, func(found assert.TestingT) {
				fault := mendedByKeys(t, found, name)
				mu.Lock()
				faults[fault] = true
				mu.Unlock()
			})
		})
	}
}

// mendedByKeys mends a scenario's fault, and takes that back; it gives the fault.
func mendedByKeys(t *testing.T, found assert.TestingT, name string) (fault string) {
	m := standing(t, name, simulated.Options{}, nil)
	defer m.leave()
	if fault = string(m.result.Fault); !assert.NotEmpty(found, m.result.Mends, text(m)) {
		return fault
	}
	shows(t, m, "g goes and does it")
	began := change.Of(m.endpoint())
	press(m, "g")
	until(t, m, "the plan", func() bool { return m.acts.draft != nil && m.acts.draft.looked })
	shows(t, m, "as it will be", m.acts.draft.proposal.Title, "taken back by itself after 60 s")
	press(m, "enter")
	until(t, m, "the proof", func() bool { return m.acts.doing != nil && m.acts.doing.proven })
	assert.Equal(found, zone.None, m.acts.doing.after.Zone, text(m))
	shows(t, m, "before", "after", "k keeps it")
	press(m, "k")
	until(t, m, "the end", func() bool { return m.acts.doing == nil })
	require.Len(t, m.acts.done, 1, text(m))
	assert.Equal(t, acting.Kept, m.acts.done[0].outcome)
	press(m, "u")
	until(t, m, "the undoing", func() bool { return m.acts.done[0].outcome == acting.TakenBack })
	shows(t, m, "taken back")
	now, err := acting.Settings(t.Context(), m.Ground.Machine)
	require.NoError(t, err)
	assert.True(t, began.Equal(&now), "%+v\n%+v", began, now)
	return fault
}

// What is typed is looked at before it is done; what makes it worse is told, and taken back by one key, or by itself.
func TestChangedByHand(t *testing.T) {
	t.Parallel()
	m := standing(t, "healthy", simulated.Options{}, nil)
	before := func() change.Settings {
		s, err := acting.Settings(t.Context(), m.Ground.Machine)
		require.NoError(t, err)
		return s
	}
	began := before()
	press(m, "0")
	shows(t, m, "nothing here needs to be changed", "172.27.40.23/24")
	for wrong, says := range map[string]string{"": "give an address with its prefix length", "172.27.40.9": "with its prefix length",
		"172.27.40.9/24 gate": "no address", "172.27.40.255/24": "means all hosts", "172.27.40.9/24 10.0.0.1": "lies outside",
		"224.0.0.1/4": "no host's address"} {
		press(m, "a")
		m.entry.input.SetValue(wrong)
		press(m, "enter")
		assert.Contains(t, m.entry.flaw, says, wrong)
		press(m, "esc")
	}
	press(m, "a")
	assert.Equal(t, "172.27.40.23/24 172.27.40.1 172.27.40.2 203.0.113.53", m.entry.input.Value())
	m.entry.input.SetValue("172.27.40.2/24 172.27.40.1")
	press(m, "enter")
	until(t, m, "who has it", func() bool { return m.acts.draft != nil && m.acts.draft.looked })
	shows(t, m, "172.27.40.2 is in use")
	press(m, "enter")
	shows(t, m, "F does it all the same")
	assert.Nil(t, m.acts.doing)
	press(m, "a")
	m.entry.input.SetValue("172.27.40.23/24 172.27.40.70")
	press(m, "enter")
	until(t, m, "whether it answers", func() bool { return m.acts.draft != nil && m.acts.draft.looked })
	press(m, "enter")
	until(t, m, "the proof", func() bool { return m.acts.doing != nil && m.acts.doing.proven })
	assert.Equal(t, zone.Host, m.acts.doing.after.Zone, m.acts.doing.after.Sentence)
	press(m, "t") // something else is asked for, and it is still on trial
	m.input.SetValue("weather.kittiwake.example:443")
	press(m, "enter")
	testsEnd(t, m)
	press(m, "0")
	shows(t, m, "by itself in")
	press(m, "b")
	until(t, m, "the taking back", func() bool { return m.acts.doing == nil })
	now := before()
	assert.True(t, began.Equal(&now), "%+v", now)
	press(m, "u")
	shows(t, m, "no change of this session that stands")
	until(t, m, "the repair", func() bool { return m.result.Zone == zone.None })
}

// Who may not change the machine is shown the plan all the same, and what somebody who may has to type.
func TestWithoutPermissionThePlanIsShown(t *testing.T) {
	t.Parallel()
	m := standing(t, "gateway-outside-subnet", simulated.Options{}, nil)
	m.Ground.Needs = "this needs cap_net_admin"
	press(m, "g")
	shows(t, m, "this needs cap_net_admin", "sudo passepartout set address 172.27.40.23/24 -i eth0 --gateway 172.27.40.1")
	press(m, "enter")
	pump(m, 200*time.Millisecond)
	assert.Nil(t, m.acts.doing)
	press(m, "esc")
	shows(t, m, "This would mend it")
}

// A plan is shown at once, however many routes there are; and what counts is on the smallest screen.
func TestAPlanIsShownAtOnce(t *testing.T) {
	m := standing(t, "mask-too-narrow", simulated.Options{}, func(s *scenario.Scenario) {
		n := s.Site.Nodes["ticket-03"]
		for i := range 10_000 {
			n.Routes = append(n.Routes, scenario.Route{To: routeTo(i), Via: n.Ports["eth0"].Addresses[0].Addr().Next(), Metric: 5})
		}
	})
	require.Greater(t, len(change.Of(m.endpoint()).Routes), 9_000)
	var took []time.Duration
	for range 5 {
		m.acts.draft = nil
		began := time.Now()
		send(m, tea.KeyPressMsg{Code: 'g', Text: "g"})
		out := text(m)
		took = append(took, time.Since(began))
		require.Contains(t, out, "as it will be")
	}
	fmt.Printf("a plan over 10,000 routes: shown within %v of the key (bar 200 ms)\n", slices.Min(took).Round(time.Millisecond))
	assert.Less(t, slices.Min(took), 2*time.Second)

	small := standing(t, "mask-too-narrow", simulated.Options{}, nil)
	send(small, tea.WindowSizeMsg{Width: leastWidth, Height: leastHeight})
	press(small, "g")
	until(t, small, "the plan", func() bool { return small.acts.draft != nil && small.acts.draft.looked })
	shows(t, small, "enter does it")
	press(small, "enter")
	until(t, small, "the proof", func() bool { return small.acts.doing != nil && small.acts.doing.proven })
	shows(t, small, "k keeps it", "▰", "after")
	assert.LessOrEqual(t, strings.Count(text(small), "\n"), leastHeight)
}

func routeTo(i int) netip.Prefix {
	return netip.PrefixFrom(netip.AddrFrom4([4]byte{100, 64 + byte(i>>14), byte(i >> 6), byte(i << 2)}), 30)
}

// From the lease the way leads to the plan of its renewal, or to why there is none.
func TestRenewedFromTheLease(t *testing.T) {
	t.Parallel()
	for name, wants := range map[string][]string{
		"healthy":                {"dhclient, which takes no word while it runs"},
		"no-address":             {"Take the lease of 172.27.40.23 on eth0", "first the lease is taken from 172.27.40.2", "enter does it"},
		"gateway-outside-subnet": {"Take the lease of", "172.27.40.1"},
	} {
		m := standing(t, name, simulated.Options{}, nil)
		press(m, "3", "n")
		until(t, m, name, func() bool { return m.acts.says != "" || m.acts.draft != nil && m.acts.draft.looked })
		shows(t, m, wants...)
		m.leave()
	}
}

// What only a client of DHCP does is not on trial: nobody could take it back.
func TestAClientIsTold(t *testing.T) {
	t.Parallel()
	m := standing(t, "healthy", simulated.Options{}, nil)
	defer m.leave()
	press(m, "0")
	require.NoError(t, looks(m, change.Proposal{Title: "Have dhcpcd renew the lease of eth0", From: "you",
		Change: change.Change{Steps: []change.Op{{Do: change.RenewLease, Interface: "eth0", Name: "dhcpcd"}}}}))
	until(t, m, "the plan", func() bool { return m.acts.draft != nil && m.acts.draft.looked })
	shows(t, m, "has dhcpcd renew the lease of eth0")
	assert.NotContains(t, text(m), "taken back by itself")
	press(m, "enter")
	until(t, m, "the end", func() bool { return len(m.acts.done) == 1 })
	assert.Equal(t, acting.Failed, m.acts.done[0].outcome, "a simulated client cannot be told")
	assert.Contains(t, m.acts.done[0].says, "cannot be told")
	shows(t, m, "failed", "Have dhcpcd renew the lease of eth0")
}

func looks(m *model, p change.Proposal) error {
	cmd, err := m.lookAt(p)
	carryOut(m, cmd)
	return err
}
