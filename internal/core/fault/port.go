package fault

import (
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
)

// InterfaceDown: the port is switched off in the system.
var InterfaceDown = &Fault{
	ID: "interface-down", Zone: Host, Check: "link", Needs: []evidence.Kind{evidence.Settings},
	Doc: `The network port is switched off
The port is administratively down: somebody, or a program, has switched it off in the system. Nothing can be sent or heard through it,
whatever the state of the cable. It is taken for a dead cable or a dead switch. Switch it on (ip link set dev NAME up, or in the
network settings), then see whether whatever manages it switches it off again.`,
	Judge: func(p *Pass) Finding {
		switch {
		case p.Iface == nil && p.Endpoint != nil:
			return found(Confirmed, "This machine has no network port besides loopback.").next("Look whether the network card is recognized by the system at all, and whether its driver is loaded.")
		case p.Iface == nil:
			return possible("the machine's settings have not been read")
		case p.Iface.Up:
			return cleared("%s is switched on", p.Iface.Name)
		}
		return found(Confirmed, "The port "+p.Iface.Name+" is switched off in this machine's settings.", p.Iface.Name+" is administratively down").
			next("Switch "+p.Iface.Name+" on: ip link set dev "+p.Iface.Name+" up", "Then run again, and see whether it stays on.")
	},
}

// NoCarrier: the port is on, and there is no signal.
var NoCarrier = &Fault{
	ID: "no-carrier", Zone: Host, Check: "link", Needs: []evidence.Kind{evidence.Settings},
	Doc: `No signal on the cable
The port is switched on and hears nothing from the other end: no cable, a broken one, a dead socket, a switch port that is off, or a radio that is not
associated. It is taken for a wrong address or a dead network. Look at the lamps on both ends, try another cable, then another socket.`,
	Judge: func(p *Pass) Finding {
		switch {
		case p.Iface == nil:
			return possible("there is no port to look at")
		case !p.Iface.Up:
			return possible("%s is switched off, so its signal cannot be seen", p.Iface.Name)
		case p.Iface.Carrier == endpoint.CarrierPresent:
			return cleared("%s has a carrier", p.Iface.Name)
		case p.Iface.Carrier == endpoint.CarrierUnknown:
			return possible("the system does not tell whether %s has a carrier", p.Iface.Name)
		}
		if p.Iface.Kind == endpoint.Wireless {
			return found(Confirmed, "The radio "+p.Iface.Name+" is on and not associated with any network.", p.Iface.Name+" is on, without an association").
				next("Join the wireless network again, and see whether its name and key are still right.")
		}
		return found(Confirmed, "The port "+p.Iface.Name+" is on and there is no signal on its cable.", p.Iface.Name+" is on, carrier absent").
			next("Push the cable in at both ends and look at the lamps.", "Try another cable, then another wall socket or switch port.")
	},
}

// StackBroken: the machine does not even answer itself.
var StackBroken = &Fault{
	ID: "stack-broken", Zone: Host, Check: "loopback", Needs: []evidence.Kind{evidence.Loopback},
	Doc: `The machine does not answer itself
A packet to the loopback address does not come back: the loopback port is down, or the machine's own filter swallows even that. Programs that talk to helpers
on the same machine fail as well. Switch the loopback port on and look at the filter's rules for it.`,
	Judge: func(p *Pass) Finding {
		asked := false
		for _, e := range p.Loopback {
			switch e.Outcome {
			case evidence.Answered, evidence.Refused:
				return cleared("%v answers in %s", e.Asked, Millis(e.RTT))
			case evidence.Silent, evidence.LocalError, evidence.Unreachable:
				asked = true
			}
		}
		if !asked || p.IsOpen(evidence.Loopback) {
			return possible("the loopback address has not answered yet")
		}
		return found(Confirmed, "This machine does not answer itself: 127.0.0.1 is silent.", "no answer from the loopback address").
			next("Switch the loopback port on: ip link set dev lo up", "Look for filter rules that concern the port lo.")
	},
}
