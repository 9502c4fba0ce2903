package fault

import (
	"fmt"
	"strings"

	"passepartout/internal/core/change"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

var interfaceFaults = []*Fault{InterfaceDown, NoCarrier, LinkErrors, StackBroken}

// InterfaceDown: the port is switched off in the system.
var InterfaceDown = &Fault{
	ID: "interface-down", Zone: zone.Host, Place: 10, Scope: OfMachine, Matters: IfItShows, Check: "link",
	Needs: []evidence.Kind{evidence.Settings},
	Doc: `The interface is switched off
The port is administratively down: somebody, or a program, has switched it off in the system. Nothing can be sent or heard through it,
whatever the state of the cable. It is taken for a dead cable or a dead switch. Switch it on (ip link set dev NAME up, or in the
network settings), then see whether whatever manages it switches it off again.`,
	Judge: func(p *facts.Facts) Finding {
		switch {
		case p.Iface == nil && p.Endpoint != nil:
			return found(Confirmed, "This machine has no network interface besides loopback.").
				next("Look whether the network card is recognized by the system at all, and whether its driver is loaded.")
		case p.Iface == nil:
			return possible("the machine's settings have not been read")
		case p.Iface.Up:
			return cleared("%s is switched on", p.Iface.Name)
		}
		return unlessElsewhere(p, found(Confirmed, "The interface "+p.Iface.Name+" is switched off in this machine's settings.",
			p.Iface.Name+" is administratively down")).
			next("Switch "+p.Iface.Name+" on: ip link set dev "+p.Iface.Name+" up", "Then run again, and see whether it stays on.").
			switchesOn(p)
	},
}

// switchesOn offers to switch the interface on, with all that it had: what its routes were is lost with its being off.
func (f Finding) switchesOn(p *facts.Facts) Finding {
	if all := completed(p, false, settings{}); all.address.IsValid() && len(all.gateways) > 0 {
		return f.together(p, false, all)
	}
	return f.mends("Switch "+p.Iface.Name+" on", "", change.Change{Steps: []change.Op{{Do: change.SwitchOn, Interface: p.Iface.Name}}})
}

// unlessElsewhere makes a finding about an interface wait for the target where that is reached without it: on this machine itself, or
// through another one.
func unlessElsewhere(p *facts.Facts, f Finding) Finding {
	if p.TargetZone() == zone.Host || p.LeavesElsewhere() {
		return f.oncePlain(p)
	}
	return f
}

// NoCarrier: the port is on, and there is no signal.
var NoCarrier = &Fault{
	ID: "no-carrier", Zone: zone.Host, Place: 20, Scope: OfSocket, Matters: IfItShows, Check: "link",
	Needs: []evidence.Kind{evidence.Settings},
	Doc: `No signal on the cable
The port is switched on and hears nothing from the other end: no cable, a broken one, a dead socket, a switch port that is off, or a radio
that is not associated. It is taken for a wrong address or a dead network. Look at the lamps on both ends, try another cable, then another
socket.`,
	Judge: func(p *facts.Facts) Finding {
		switch {
		case p.Iface == nil:
			return possible("there is no interface to look at")
		case !p.Iface.Up:
			return possible("%s is switched off, so its signal cannot be seen", p.Iface.Name)
		case p.Iface.Carrier == endpoint.CarrierPresent:
			return cleared("%s has a carrier", p.Iface.Name)
		case p.Iface.Carrier == endpoint.CarrierUnknown:
			return possible("the system does not tell whether %s has a carrier", p.Iface.Name)
		}
		if p.Iface.Kind == endpoint.Bridge {
			return found(Confirmed,
				fmt.Sprintf("Traffic leaves by the bridge %s of this machine, and nothing is connected to it.", p.Iface.Name),
				fmt.Sprintf("%s is a bridge without a member that has a signal", p.Iface.Name)).
				next(insideNext(p.Iface.Name)...)
		}
		if p.Iface.Kind == endpoint.Wireless {
			return unlessElsewhere(p, found(Confirmed, "The radio "+p.Iface.Name+" is on and not associated with any network.",
				p.Iface.Name+" is on, without an association")).
				next("Join the wireless network again, and see whether its name and key are still right.")
		}
		return unlessElsewhere(p, found(Confirmed, "The interface "+p.Iface.Name+" is on and there is no signal on its cable.",
			p.Iface.Name+" is on, carrier absent")).
			next("Push the cable in at both ends and look at the lamps.", "Try another cable, then another wall socket or switch port.")
	},
}

// insideNext is what to do where traffic stays in this machine, on a bridge that containers or virtual machines have brought.
func insideNext(bridge string) []string {
	return []string{
		fmt.Sprintf("If it should leave this machine, give the bridge %s another network: it holds the target's address.", bridge),
		"If the target is a container or a virtual machine here, start it."}
}

// StackBroken: the machine does not even answer itself.
var StackBroken = &Fault{
	ID: "stack-broken", Zone: zone.Host, Place: 240, Scope: OfMachine, Matters: IfItShows, Check: "loopback",
	Needs: []evidence.Kind{evidence.Loopback},
	Doc: `The machine does not answer itself
A packet to the loopback address does not come back: the loopback port is down, or the machine's own filter swallows even that. Programs
that talk to helpers on the same machine fail as well; what others send arrives. Switch the loopback interface on and look at the
filter's rules for it.`,
	Judge: func(p *facts.Facts) Finding {
		asked := false
		for _, e := range p.Loopback {
			switch e.Outcome {
			case evidence.Answered, evidence.Refused:
				return cleared("%v answers in %s", e.Asked, wording.Millis(e.RTT))
			case evidence.Silent, evidence.LocalError, evidence.Unreachable:
				asked = true
			}
		}
		if !asked || p.IsOpen(evidence.Loopback) {
			return possible("the loopback address has not answered yet")
		}
		return found(Confirmed, "This machine does not answer itself: 127.0.0.1 is silent.", "no answer from the loopback address").
			// others answer it
			aside(p.TargetZone() != zone.Host && (p.Alive == facts.Yes || len(p.Others) > 0 || len(p.Outside) > 0)).
			next("Switch the loopback interface on: ip link set dev lo up", "Look for filter rules that concern the interface lo.")
	},
}

// slowPort is a speed in Mbit/s up to which a cable's port is unusually slow today: what is left where pairs of the cable are broken.
const slowInterface = 10

// portTroubles are the frames that the port has lost while the probes ran. Drops count only where losses were measured as well: some are
// usual.
func interfaceTroubles(p *facts.Facts) (n uint64, grown endpoint.Counters, over evidence.InterfaceCount, ok bool) {
	for _, c := range p.Counted {
		if p.Iface == nil || c.Interface != p.Iface.Name || ok && c.Over < over.Over {
			continue
		}
		grown, over, ok = c.After.Since(c.Before), c, true
		n = grown.Errors()
		if lost := lostNearby(p); lost > 0 && grown.Drops() >= uint64(lost+1)/2 {
			n += grown.Drops()
		}
	}
	return n, grown, over, ok
}

// lostNearby is how many small probes to gateway and neighbours were lost.
func lostNearby(p *facts.Facts) (n int) {
	for _, b := range p.Bursts {
		if b.To == p.Gateway || p.OnLink(b.To) {
			n += b.Sent - b.Received
		}
	}
	return n
}

// PortTroubleWords say what a port has lost.
func TroubleWords(c endpoint.Counters) string {
	if c.ReceiveErrors >= c.Damaged { // most drivers count the damaged ones among the errors
		c.Damaged = 0
	}
	var parts []string
	for _, x := range []struct {
		n        uint64
		one, all string
	}{
		{c.ReceiveErrors, "receive error", "receive errors"}, {c.SendErrors, "send error", "send errors"},
		{c.Damaged, "damaged frame", "damaged frames"}, {c.Overruns, "overrun", "overruns"},
		{c.ReceiveDrops, "frame dropped on receipt", "frames dropped on receipt"},
		{c.SendDrops, "frame dropped on sending", "frames dropped on sending"}, {c.CarrierLosses, "loss of signal", "losses of signal"},
		{c.Collisions, "collision", "collisions"},
	} {
		if x.n > 0 {
			parts = append(parts, wording.Plural(int(x.n), x.one, x.all))
		}
	}
	return strings.Join(parts, ", ")
}

// LinkErrors: the port loses frames.
var LinkErrors = &Fault{
	ID: "link-errors", Zone: zone.Host, Place: 210, Scope: OfMachine, Matters: WhereSomethingPasses, Check: "link",
	Needs: []evidence.Kind{evidence.Settings, evidence.LossProbes}, OfQuality: true,
	Explains: []ID{"segment-lossy", "path-lossy", "path-slow", "service-slow"},
	Doc: `The interface loses frames
The counters of errors at this machine's port rise while it is used, or it has agreed with the switch on half duplex or an unusually slow
speed: a damaged cable or plug, a worn socket, a failing card, or a port that one side has been set by hand. Totals since the machine was
started say nothing; only their growth does. Change the cable, then the socket, then the card; let both sides agree on speed and duplex by
themselves.`,
	Judge: func(p *facts.Facts) Finding {
		if p.Iface == nil || !p.Iface.Up || p.Iface.Carrier == endpoint.CarrierAbsent {
			return possible("the interface is not in use")
		}
		n, grown, over, looked := interfaceTroubles(p)
		loss := p.LossZone()
		local := loss == zone.LocalSubnet
		frames := grown.ReceivedPackets + grown.SentPackets + n
		next := []string{"Change the cable of this machine, then the socket.",
			"Watch it meanwhile: view 8, counters, shows whether the counters still rise."}
		var odd []string
		half := p.Iface.Duplex == endpoint.HalfDuplex
		if half {
			odd = append(odd, p.Iface.Name+" runs at half duplex")
		}
		usual := 0
		if home, ok := p.Here(); ok && home.SpeedMbit > p.Iface.SpeedMbit {
			usual = home.SpeedMbit
		}
		if s := p.Iface.SpeedMbit; s > 0 && p.Iface.Kind != endpoint.Wireless && (s <= slowInterface || s < usual) {
			words := fmt.Sprintf("%s runs at %d Mbit/s", p.Iface.Name, s)
			if usual > 0 {
				words += fmt.Sprintf(", and the site sheet has %d Mbit/s", usual)
			}
			odd = append(odd, words)
		}
		if len(odd) > 0 {
			next = append(next, "Let both sides agree on speed and duplex by themselves: see whether the interface here, or the switch's, "+
				"has been set by hand.")
		}
		switch {
		case looked && n >= 3 && float64(n) >= 0.01*float64(frames) && loss != zone.Unknown:
			reasons := append(
				[]string{fmt.Sprintf("within %s of probing: %s, among %d frames", wording.Millis(over.Over), TroubleWords(grown), frames)},
				odd...)
			if gw, ok := p.Burst(p.Gateway); ok {
				reasons = append(reasons, counted(gw))
			}
			f := found(Confirmed, fmt.Sprintf("The interface %s loses frames: %s while the tests ran.", p.Iface.Name, TroubleWords(grown)),
				reasons...).next(next...)
			// what comes from far away crosses the port as well: of few probes, those to a neighbour may all have come through by chance
			if !local {
				f.Standing = Supported
			}
			return f
		case looked && n >= 3 && float64(n) >= 0.01*float64(frames):
			return found(Supported,
				fmt.Sprintf("Errors rise at the interface %s: %s while the tests ran.", p.Iface.Name, TroubleWords(grown))).aside(true).
				next(next...)
		case half && local:
			return found(Supported, fmt.Sprintf("The interface %s runs at half duplex, and packets are lost on the segment.", p.Iface.Name),
				odd...).next(next...)
		case len(odd) > 0:
			return found(Supported, upper(strings.Join(odd, "; "))+".", odd...).aside(true).next(next...)
		case looked && !p.IsOpen(evidence.LossProbes):
			return cleared("no error at %s in %s of probing", p.Iface.Name, wording.Millis(over.Over))
		}
		return possible("the interface's counters have not been read again yet")
	},
}
