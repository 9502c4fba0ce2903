package simulated_test

import (
	"errors"
	"io/fs"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/machine"
	"passepartout/internal/machine/machinetest"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/scenario"
)

func build(t *testing.T, name string, o simulated.Options) *simulated.Site {
	s, err := scenario.Load(name)
	require.NoError(t, err)
	site, err := simulated.Build(s, o)
	require.NoError(t, err)
	t.Cleanup(site.Close)
	return site
}

func TestConformance(t *testing.T) {
	site := build(t, "healthy", simulated.Options{})
	machinetest.Run(t,
		machinetest.Ground{Machine: site.Machine(), Do: func(f func()) { f() },
			Switch: func(_ *testing.T, up bool) { site.SwitchPort("eth0", up) }})
}

func TestPrivilege(t *testing.T) {
	for _, c := range []struct {
		privilege    simulated.Privilege
		echo, frames bool
	}{{simulated.Full, true, true}, {simulated.EchoOnly, true, false}, {simulated.Unprivileged, false, false}} {
		m := build(t, "healthy", simulated.Options{Privilege: c.privilege}).Machine()
		p := m.Permissions()
		assert.Equal(t, c.echo, p.Echo.Granted)
		assert.Equal(t, c.frames, p.Frames.Granted)
		_, err := m.OpenEcho(machine.EchoConfig{})
		assert.Equal(t, !c.echo, errors.Is(err, fs.ErrPermission), "%v", err)
		_, err = m.OpenFrames(machine.FrameConfig{Interface: "eth0"})
		assert.Equal(t, !c.frames, errors.Is(err, fs.ErrPermission), "%v", err)
		if !c.echo {
			assert.NotEmpty(t, p.Echo.Why)
			assert.NotEmpty(t, p.Echo.Mend, "the one command that would allow it")
		}
	}
}

func TestPortsOutOfOrder(t *testing.T) {
	e, err := build(t, "interface-down", simulated.Options{}).Machine().Read(t.Context())
	require.NoError(t, err)
	eth0, _ := e.Interface("eth0")
	assert.False(t, eth0.Up)
	assert.Empty(t, e.DefaultRoutes(false), "a port that is down has no routes")

	m := build(t, "no-carrier", simulated.Options{}).Machine()
	e, err = m.Read(t.Context())
	require.NoError(t, err)
	eth0, _ = e.Interface("eth0")
	assert.Equal(t, endpoint.CarrierAbsent, eth0.Carrier)
	port, err := m.OpenEcho(machine.EchoConfig{})
	require.NoError(t, err)
	defer port.Close()
	_, err = port.Send(machine.EchoRequest{To: netip.MustParseAddr("172.27.40.1"), Seq: 1})
	assert.NoError(t, err, "sending into a dead cable is no error")

	m = build(t, "route-blocked", simulated.Options{}).Machine()
	r, err := m.Route(t.Context(), netip.MustParseAddr("203.0.113.80"), "")
	require.NoError(t, err)
	assert.Equal(t, endpoint.Blackhole, r.Verdict)
	r, err = m.Route(t.Context(), netip.MustParseAddr("203.0.113.53"), "")
	require.NoError(t, err)
	assert.Equal(t, endpoint.Forward, r.Verdict, "beside the blackhole")
}

// What a segment loses and refuses to carry is lost, and nothing else.
func TestSegmentLosesAsToldTo(t *testing.T) {
	s, err := scenario.Load("healthy")
	require.NoError(t, err)
	s.Site.Segments["uplink"].MTU = 600
	s.Site.Segments["pier"].Loss = 30
	site, err := simulated.Build(s, simulated.Options{})
	require.NoError(t, err)
	defer site.Close()
	port, err := site.Machine().OpenEcho(machine.EchoConfig{})
	require.NoError(t, err)
	defer port.Close()
	got := map[uint16]bool{}
	done := make(chan struct{})
	go func() {
		defer close(done)
		for {
			a, err := port.Receive()
			if err != nil {
				return
			}
			if a.Outcome == evidence.Answered {
				got[a.Seq] = true
			}
		}
	}()
	const n = 200
	for seq := range uint16(n) {
		_, _ = port.Send(machine.EchoRequest{To: netip.MustParseAddr("172.27.40.1"), Seq: seq, Payload: make([]byte, 56)})
		_, _ = port.Send(machine.EchoRequest{To: netip.MustParseAddr("203.0.113.53"), Seq: n + seq, Payload: make([]byte, 900)})
		time.Sleep(200 * time.Microsecond)
	}
	time.Sleep(100 * time.Millisecond)
	port.Close()
	<-done
	small, large := 0, 0
	for seq := range got {
		if seq < n {
			small++
		} else {
			large++
		}
	}
	assert.InDelta(t, 0.49*n, small, 0.2*n, "30 %% lost each way leaves about half")
	assert.Zero(t, large, "larger than the uplink carries")
}

func TestCloseTwice(t *testing.T) {
	site := build(t, "healthy", simulated.Options{})
	site.Close()
	site.Close()
}
