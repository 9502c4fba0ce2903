package conductor

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"time"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/event"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
	"passepartout/internal/machine/wire"
	"passepartout/internal/probe"
)

// listening is what listens on the segment of one interface.
type listening struct {
	iface string
	dhcp  *probe.DHCPListener
	deaf  string // why nothing can be heard
	port  machine.FrameSocket
}

func (e *listening) close() {
	if e.dhcp != nil {
		e.dhcp.Close()
	}
	if e.port != nil {
		e.port.Close()
	}
}

// listen opens what listens on the interface that was chosen, before the tests ask anything, so that what they say is heard as well.
func (c *Conductor) listen(iface string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if iface == "" || c.hearing != nil && c.hearing.iface == iface || c.ctx.Err() != nil {
		return
	}
	old := c.hearing
	c.hearing = &listening{iface: iface}
	if old != nil {
		go func() { // it waits for what it has under way
			defer guard.Goroutine()
			old.close()
		}()
	}
	if p := c.machine.Permissions().Frames; !p.Granted {
		c.hearing.deaf = "it needs permission for raw frames"
		return
	}
	ear, err := probe.ListenDHCP(c.machine, iface, c.heardDHCP)
	switch {
	case err == nil:
		c.hearing.dhcp = ear
	case errors.Is(err, fs.ErrPermission):
		c.hearing.deaf = "it needs permission for raw frames"
	default:
		c.hearing.deaf = err.Error()
	}
	if !c.living {
		return // a single check has its own questions for this
	}
	if port, err := c.machine.OpenFrames(machine.FrameConfig{Interface: iface, Only: machine.OnlyHousekeeping}); err == nil {
		c.hearing.port = port
		c.wg.Go(func() {
			defer guard.Goroutine()
			c.hear(port)
		})
		c.wg.Go(func() {
			defer guard.Goroutine()
			c.askForOwn(port)
		})
	}
}

// DHCPListener hears the DHCP messages on the segment. It is nil, with the reason, where nothing can be heard, and without one before
// anything was asked.
func (c *Conductor) DHCPListener() (*probe.DHCPListener, string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.hearing == nil {
		return nil, ""
	}
	return c.hearing.dhcp, c.hearing.deaf
}

// conflictEvery is how often it is asked whether anybody else has an address of this machine's: a question that names no sender (RFC 5227
// §2.1.1).
const conflictEvery = 4 * time.Second

// askForOwn asks again and again. Who answers is heard as a claim.
func (c *Conductor) askForOwn(port machine.FrameSocket) {
	for probe.Sleep(c.ctx, conflictEvery) {
		s := c.State()
		if s.Endpoint == nil || s.Testing() {
			continue
		}
		i, ok := s.Endpoint.Interface(s.Round.Set.Interface)
		if !ok || !i.Up {
			continue
		}
		for _, a := range i.Usable(false) {
			if port.Send(wire.ARPRequest(port.Hardware(), netip.Addr{}, a.Prefix.Addr())) != nil {
				break
			}
		}
	}
}

// The bounds of what a flood of claims can add to a log.
const (
	mostClaims = 8                // different ones
	claimAgain = 10 * time.Second // one that was told is told again after that
)

// hear takes note of other machines that claim an address of this one's.
func (c *Conductor) hear(port machine.FrameSocket) {
	told := map[string]time.Time{}
	for {
		frame, _, err := port.Receive()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			continue
		}
		f, ok := wire.ParseFrame(frame)
		if !ok || !f.Claim.IsValid() || f.Hardware.IsZero() {
			continue
		}
		c.mu.Lock()
		e := c.state.Endpoint
		claim := f.Claim.String() + f.Hardware.String()
		last, known := told[claim]
		if e != nil && owns(e, f.Claim) && !ownHardware(e, f.Hardware) && (known || len(told) < mostClaims) &&
			time.Since(last) >= claimAgain && !c.state.Testing() {
			told[claim] = time.Now()
			quiet := c.state.Verdict.Result.Fault == fault.AddressConflict.ID // that is what it says already
			c.add(event.Changed{Of: event.Neighbour, Quiet: quiet,
				What: fmt.Sprintf("another machine, %v, claims this machine's address %v", f.Hardware, f.Claim)})
		}
		c.mu.Unlock()
	}
}

func owns(e *endpoint.Endpoint, a netip.Addr) bool { return e.Owns(a) && !a.IsLoopback() }

func ownHardware(e *endpoint.Endpoint, h endpoint.HardwareAddr) bool {
	for _, i := range e.Interfaces {
		if i.Hardware == h {
			return true
		}
	}
	return false
}

// heardDHCP takes note of what servers say to this machine beside the tests: an offer that came late, an acknowledgement, a refusal.
func (c *Conductor) heardDHCP(s dhcp.Sighting) {
	m := &s.Message
	if !m.Reply {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	e := c.state.Endpoint
	if e == nil {
		return
	}
	if dhcp.IsProbe(m.Client, m.XID) && !c.state.Round.Over {
		return // the tests have asked for it, and take it in
	}
	i, ok := e.Interface(c.state.Round.Set.Interface)
	if !ok || m.Client != dhcp.HardwareFrom(i.Hardware[:]) {
		return
	}
	v := &c.state.Verdict
	quiet := !rests(v.Result)
	server := m.Server()
	switch m.Type {
	case dhcp.Offer:
		c.add(event.Changed{Of: event.Offer, Quiet: quiet,
			What: fmt.Sprintf("the DHCP server %v offers this machine %v", server, m.Terms().Address)})
	case dhcp.Ack:
		c.add(event.Changed{Of: event.Lease, Quiet: quiet,
			What: fmt.Sprintf("the DHCP server %v has acknowledged %v", server, m.Terms().Address)})
	case dhcp.Nak:
		c.add(event.Changed{Of: event.Lease, What: fmt.Sprintf("the DHCP server %v has refused this machine", server)})
	}
}

// rests reports whether a verdict rests on what DHCP servers were heard to say, or not to say.
func rests(r verdict.Result) bool {
	s, ok := r.Suspect(r.Fault)
	if !ok || r.Zone == zone.None {
		return len(r.Also) > 0
	}
	for _, k := range s.Fault.Needs {
		if k == evidence.DHCPOffer {
			return true
		}
	}
	return false
}
