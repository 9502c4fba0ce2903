package fault

import (
	"fmt"
	"net/netip"
	"strings"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/path"
	"passepartout/internal/core/zone"
)

// Burst gives the small probes to an address; false if none have come to their end.
func (p *Pass) Burst(a netip.Addr) (evidence.Burst, bool) {
	for _, b := range p.Bursts {
		if b.To == a && a.IsValid() {
			return b, true
		}
	}
	return evidence.Burst{}, false
}

func lossy(b evidence.Burst) bool { return b.Received > 0 && path.Lossy(b.Sent-b.Received, b.Sent) }

// far is a burst to the target, or to a name server beyond the gateway where the target's is not known.
func (p *Pass) far() (b evidence.Burst, ok bool) {
	for _, a := range p.Addresses {
		if b, ok = p.Burst(a); ok && b.Received > 0 {
			return b, true
		}
	}
	for _, r := range p.Resolvers {
		if b, ok = p.Burst(r.Address); ok && b.Received > 0 && !r.OnLink {
			return b, true
		}
	}
	return b, false
}

// near is a burst to a neighbour other than a gateway.
func (p *Pass) near() (b evidence.Burst, ok bool) {
	for _, b := range p.Bursts {
		other, _ := p.Endpoint.Gateway(p.Interface, b.To.Is6())
		if b.To != p.Gateway && b.To != other && p.OnLink(b.To) && b.Received > 0 {
			return b, true
		}
	}
	return b, false
}

// LossZone is where packets are lost: on the segment when gateway or neighbour lose and nobody farther away answers everything, beyond when
// only what is far away does. NoZone while nothing is.
func (p *Pass) LossZone() zone.Zone {
	gw, gwKnown := p.Burst(p.Gateway)
	far, farKnown := p.far()
	near, nearKnown := p.near()
	lossyGateway, lossyNear, lossyFar := gwKnown && lossy(gw), nearKnown && lossy(near), farKnown && lossy(far)
	switch {
	case farKnown && !lossyFar:
		return zone.Unknown // all the way there and back without loss: whoever loses on the way keeps to a ration
	case lossyGateway && (lossyFar || !nearKnown || lossyNear), lossyNear && (!gwKnown || gw.Received == 0):
		return zone.LocalSubnet
	case lossyFar && p.TargetOnLink():
		return zone.LocalSubnet
	case lossyFar && (gwKnown && gw.Received > 0 && !lossyGateway || nearKnown && !lossyNear):
		return zone.Beyond
	}
	return zone.Unknown
}

// slow reports whether the usual time to far lies a step above that to near, with enough replies on both sides.
func (p *Pass) slow(near, far evidence.Burst) bool {
	return near.Received >= path.StepProbes && far.Received >= path.StepProbes && far.Median-near.Median > p.stepBlamed()
}

// stepBlamed is from which step in delay on it is a fault: the one that the site sheet allows the target, shorter or longer than the usual.
func (p *Pass) stepBlamed() time.Duration {
	if allowed, ok := p.Sheet.Allowed(p.Target); ok {
		return allowed
	}
	return path.StepBlamed
}

// DelayZone is where the time is spent, if it is too much; NoZone if it is not.
func (p *Pass) DelayZone() zone.Zone {
	gw, known := p.Burst(p.Gateway)
	far, farKnown := p.far()
	if near, ok := p.near(); ok && (!known || gw.Received == 0) {
		gw, known = near, true
	}
	switch {
	case !known:
	case gw.Received >= path.StepProbes && gw.Median > path.StepBlamed:
		return zone.LocalSubnet
	case farKnown && p.slow(gw, far):
		return zone.Beyond
	}
	return zone.Unknown
}

// sizing gives the search for the largest packet that reaches an address.
func (p *Pass) sizing(a netip.Addr) (evidence.Sizing, bool) {
	for _, s := range p.Sizings {
		if s.To == a && a.IsValid() {
			return s, true
		}
	}
	return evidence.Sizing{}, false
}

// vanish reports that large packets to an address disappear without a word.
func vanish(s evidence.Sizing) bool {
	return s.Passes > 0 && s.Passes < s.Full && s.Lost > 0 && !s.Told
}

// InOrder reports whether the target is not only reached but can be used: full-size packets come through, loss and delay stay under the
// thresholds.
func (p *Pass) InOrder() Answer {
	usable := p.Usable()
	if usable != Yes {
		return usable
	}
	if p.LossZone() != zone.Unknown || p.DelayZone() != zone.Unknown {
		return No
	}
	if AddressConflict.Judge(p).Standing == Confirmed { // connections come and go with whoever spoke last
		return No
	}
	if MTUTooLarge.Judge(p).Standing.Holds() || MTUBlackHole.Judge(p).Standing.Holds() {
		return No
	}
	if p.IsOpen(evidence.LossProbes) && !p.steady() || p.IsOpen(evidence.PacketSize) && !p.roomy() {
		return Unknown
	}
	return Yes
}

// steady reports that the target itself has answered all probes in good time: nothing nearer by can lose or delay.
func (p *Pass) steady() bool {
	for _, a := range p.Addresses {
		if b, ok := p.Burst(a); !ok || lossy(b) || b.Median > p.stepBlamed() {
			return false
		}
	}
	return len(p.Addresses) > 0
}

// roomy reports that packets of full size reach the target, or that somebody says what does.
func (p *Pass) roomy() bool {
	for _, a := range p.Addresses {
		if s, ok := p.sizing(a); !ok || vanish(s) {
			return false
		}
	}
	return len(p.Addresses) > 0
}

func counted(b evidence.Burst) string {
	words := fmt.Sprintf("%d of %d probes to %v came back", b.Received, b.Sent, b.To)
	if b.Received > 0 {
		words += ", half within " + Millis(b.Median)
	}
	return words
}

// SegmentLossy: packets are lost, or kept waiting, between here and the gateway.
var SegmentLossy = &Fault{
	ID: "segment-lossy", Zone: zone.LocalSubnet, Scope: OfSocket, Matters: WhereSomethingPasses, Check: "gateway",
	Needs: []evidence.Kind{evidence.LossProbes}, OfQuality: true,
	Doc: `Packets are lost on the segment
Some of what is sent to the gateway does not come back, or comes back late, and what lies behind it fares no better: a bad cable or plug,
a socket or switch port with errors, a crowded radio cell, a loop between switches. It is taken for a slow provider. Change the cable,
then the socket; on radio, go nearer to the access point.`,
	Judge: func(p *Pass) Finding {
		gw, known := p.Burst(p.Gateway)
		near, nearKnown := p.near()
		far, farKnown := p.far()
		if !known || gw.Received == 0 {
			gw, known = near, nearKnown
		}
		switch {
		case p.IsOpen(evidence.LossProbes) && p.LossZone() != zone.LocalSubnet:
			return possible("loss is still being measured")
		case !known:
			return possible("nobody on the segment answered probes that could be counted")
		case p.LossZone() == zone.LocalSubnet:
			f := found(Supported,
				fmt.Sprintf("Packets are lost on %s already: of %d to %v only %d came back.", p.segmentName(), gw.Sent, gw.To, gw.Received),
				counted(gw))
			if farKnown && lossy(far) || nearKnown && near.To != gw.To && lossy(near) {
				f.Standing = Confirmed
			}
			if farKnown {
				f.For = append(f.For, counted(far))
			}
			if nearKnown && near.To != gw.To {
				f.For = append(f.For, counted(near))
			}
			return f.next("Change the cable of this machine, then the socket; on radio, go nearer to the access point.",
				"Watch it meanwhile: view 6, reach, shows at once whether it helps.")
		case p.DelayZone() == zone.LocalSubnet:
			return found(Supported,
				fmt.Sprintf("Packets are held up on %s already: half of those to %v take more than %s.", p.segmentName(), gw.To,
					Millis(gw.Median)), counted(gw)).
				next("See what else uses the segment now: a copy of large files, a loop between switches, a crowded radio cell.")
		}
		return cleared("%s", counted(gw))
	},
}

// begins finds the station after which something is worse than before it, up to the target: the last good one, and the first bad one.
func (p *Pass) begins(bad func(evidence.Burst) bool) (good, first netip.Addr, seen bool) {
	for _, t := range p.Trails {
		on := false
		for _, a := range p.Addresses {
			on = on || a == t.To
		}
		if !on {
			continue
		}
		for _, st := range t.Stations {
			b, ok := p.Burst(st.From)
			if !ok || b.Received == 0 {
				continue
			}
			switch {
			case !bad(b):
				good, first = st.From, netip.Addr{}
			case !first.IsValid():
				first = st.From
			}
		}
		return good, first, good.IsValid() && first.IsValid()
	}
	return good, first, false
}

func (p *Pass) where(good, first netip.Addr, what string) string {
	return fmt.Sprintf("%s after %v and before %v", what, good, first)
}

// PathLossy: packets are lost on the way, behind the gateway.
var PathLossy = &Fault{
	ID: "path-lossy", Zone: zone.Beyond, Scope: OfEverybody, Matters: WhereSomethingPasses, Check: "loss",
	Needs: []evidence.Kind{evidence.LossProbes, evidence.PathTrace}, OnSilence: true, OfQuality: true,
	Doc: `Packets are lost on the way
The segment and the gateway are clean, and behind them packets are lost all the way to the target: a crowded or damaged line of the
provider or farther on. Loss at a single station while later ones answer everything is no fault: routers ration their answers. Hand the
station at which it begins to the provider, with times.`,
	Judge: func(p *Pass) Finding {
		far, known := p.far()
		switch z := p.LossZone(); {
		case z == zone.LocalSubnet:
			return possible("packets are lost on the segment already")
		case z == zone.Beyond:
			gw, _ := p.Burst(p.Gateway)
			sentence := fmt.Sprintf("Packets are lost behind the gateway: of %d to %v only %d came back.", far.Sent, far.To, far.Received)
			good, first, seen := p.begins(lossy)
			standing := Supported
			if seen {
				standing = Confirmed
				sentence = fmt.Sprintf("%s: of %d to %v only %d came back.", p.where(good, first, "Packets are lost"), far.Sent, far.To,
					far.Received)
			}
			f := found(standing, sentence, counted(far))
			if gw.Received > 0 {
				f.For = append(f.For, counted(gw))
			}
			return f.next(
				"Hand it to the provider with the station at which it begins, and times: view 6, reach, and its export show them.",
				"Try at another hour: a crowded line is worse when all work.")
		case p.IsOpen(evidence.LossProbes) && !p.steady(): // the target that has answered all shows more than what is still open
			return possible("loss is still being measured")
		case !known:
			return possible("nobody beyond the gateway answered probes that could be counted")
		}
		return cleared("%s", counted(far))
	},
}

// PathSlow: the time is spent on the way, behind the gateway.
var PathSlow = &Fault{
	ID: "path-slow", Zone: zone.Beyond, Scope: OfEverybody, Matters: WhereSomethingPasses, Check: "loss",
	Needs: []evidence.Kind{evidence.LossProbes, evidence.PathTrace}, OfQuality: true,
	Doc: `The way is slow
From one station on, all answers take far longer, up to the target: a detour over a far-off country or a satellite, or a line whose queue
is always full. A station that is slow to answer for itself, while later ones are quick, is no fault.`,
	Judge: func(p *Pass) Finding {
		far, known := p.far()
		switch z := p.DelayZone(); {
		case p.LossZone() != zone.Unknown:
			return possible("packets are being lost, so that times say little")
		case z == zone.LocalSubnet:
			return possible("packets are held up on the segment already")
		case z == zone.Beyond:
			gw, ok := p.Burst(p.Gateway)
			if !ok {
				gw, _ = p.near()
			}
			limit := gw.Median + p.stepBlamed()
			good, first, seen := p.begins(func(b evidence.Burst) bool { return b.Received >= path.StepProbes && b.Median > limit })
			sentence := fmt.Sprintf("The way behind the gateway takes %s, of which the segment takes %s.", Millis(far.Median),
				Millis(gw.Median))
			standing := Supported
			if seen {
				standing = Confirmed
				a, _ := p.Burst(good)
				b, _ := p.Burst(first)
				sentence = fmt.Sprintf("%s: %s as far as the one, %s to the other, and so to the target.",
					p.where(good, first, "The way turns slow"), Millis(a.Median), Millis(b.Median))
			}
			return found(standing, sentence, counted(far), counted(gw)).
				next("Hand it to the provider with the station at which it begins.",
					"Look whether this machine's traffic takes a tunnel or another exit that it need not.")
		case p.IsOpen(evidence.LossProbes):
			return possible("times are still being measured")
		case !known:
			return possible("nobody beyond the gateway answered probes that could be timed")
		}
		return cleared("%s", counted(far))
	},
}

// MTUTooLarge: this machine sends larger packets than its segment carries.
var MTUTooLarge = &Fault{
	ID: "mtu-too-large", Zone: zone.Host, Scope: OfMachine, Matters: WhereSomethingPasses, Check: "link",
	Needs: []evidence.Kind{evidence.PacketSize}, OnSilence: true, OfQuality: true,
	Doc: `The port sends larger packets than the segment carries
The MTU of this machine's port is larger than the segment's: large packets vanish before the gateway, small ones pass. Pages begin to load
and hang. Set the MTU back to what the segment carries.`,
	Judge: func(p *Pass) Finding {
		s, known := p.sizing(p.Gateway)
		for _, a := range p.Addresses {
			if far, ok := p.sizing(a); ok && far.Passes > 0 && (far.Passes >= far.Full || known && far.Passes > s.Passes || far.Told) {
				return cleared("packets of %d octets pass the segment", max(far.Passes, s.Passes))
			}
		}
		switch {
		case p.IsOpen(evidence.PacketSize):
			return possible("packet sizes are still being tried")
		case !known:
			return possible("the gateway answered no probe of full size, nor a small one")
		case !vanish(s):
			return cleared("packets of %d octets reach the gateway", s.Passes)
		}
		return found(Confirmed,
			fmt.Sprintf("%s sends packets of up to %d octets, and the segment carries only %d: larger ones vanish before the gateway.",
				p.Interface, s.Full, s.Passes),
			fmt.Sprintf("to %v: %d octets pass, %d vanish", s.To, s.Passes, s.Lost)).
			next(fmt.Sprintf("Set the MTU of %s to %d.", p.Interface, s.Passes),
				"If large frames are meant to be used here, every switch port and the gateway must take them.")
	},
}

// MTUBlackHole: large packets vanish on the way.
var MTUBlackHole = &Fault{
	ID: "mtu-black-hole", Zone: zone.Beyond, Scope: OfEverybody, Matters: WhereSomethingPasses, Check: "size",
	Needs: []evidence.Kind{evidence.PacketSize}, OnSilence: true, OfQuality: true,
	Doc: `Large packets vanish on the way
Small packets reach the target, large ones disappear without a word: somewhere a link takes only smaller ones, and the message that should
say so (RFC 1191, RFC 8201) is not sent or is filtered. Connections open, and then nothing comes. A tunnel is usually behind it.`,
	Judge: func(p *Pass) Finding {
		if p.IsOpen(evidence.PacketSize) {
			return possible("packet sizes are still being tried")
		}
		gw, gwKnown := p.sizing(p.Gateway)
		for _, a := range p.Addresses {
			s, ok := p.sizing(a)
			if !ok {
				continue
			}
			switch {
			case s.Told:
				return cleared("a router says what it takes: %d octets", s.Passes)
			case !vanish(s):
				return cleared("packets of %d octets reach %v", s.Passes, a)
			case gwKnown && vanish(gw) && gw.Passes <= s.Passes:
				return cleared("large packets vanish before the gateway already")
			}
			f := found(Supported,
				fmt.Sprintf("Packets larger than %d octets vanish on the way to %v without a word; smaller ones pass.", s.Passes, a),
				fmt.Sprintf("to %v: %d octets pass, %d vanish", a, s.Passes, s.Lost))
			if gwKnown && gw.Passes >= gw.Full {
				f.Standing = Confirmed
				f.For = append(f.For, fmt.Sprintf("to the gateway %v: %d octets pass", gw.To, gw.Passes))
			}
			return f.next(fmt.Sprintf("Until it is mended, set the MTU of %s to %d.", p.Interface, s.Passes),
				"Have whoever runs the tunnel or the provider's line let ICMP \"too big\" through.")
		}
		return possible("the target answered no probe whose size could be told")
	},
}

// ExtraRouter is no fault: a further private router behind the gateway.
var ExtraRouter = &Fault{
	ID: "extra-router", Zone: zone.Beyond, Scope: OfPlace, Matters: ByReach, Check: "path", Needs: []evidence.Kind{evidence.PathTrace},
	Doc: `A further private router on the way
No fault: behind the gateway lies another router with private addresses. If both translate addresses, services offered from here are hard
to reach from outside; what is asked for from here works.`,
	Judge: func(p *Pass) Finding {
		for _, t := range p.offLinkTrails() {
			var stations []netip.Addr
			for _, st := range t.Stations {
				stations = append(stations, st.From)
			}
			var private []string
			public := false
			for i, segment := range path.Segments(stations, t.To, func(a netip.Addr) bool { return p.OnLink(a) || a == p.Gateway }) {
				public = public || segment == path.Provider || segment == path.Far || segment == path.Destination
				if segment == path.Private && !public {
					private = append(private, stations[i].String())
				}
			}
			if len(private) > 0 && public {
				return found(Confirmed,
					fmt.Sprintf(
						"Behind the gateway lies a further private router, %s: addresses may be translated %d times in a row. No fault.",
						strings.Join(private, ", "), len(private)+1))
			}
		}
		return cleared("no private router behind the gateway")
	},
}

// elsewhere finds who answered at a hop limit in another trace that had come the same way so far.
func (p *Pass) elsewhere(t evidence.Trail, hop int) (netip.Addr, bool) {
	before := stationAt(t, hop-1)
	for _, o := range p.Trails {
		if a := stationAt(o, hop); o.To != t.To && a.IsValid() && a != o.To && before.IsValid() && stationAt(o, hop-1) == before {
			return a, true
		}
	}
	return netip.Addr{}, false
}

func stationAt(t evidence.Trail, hop int) netip.Addr {
	for _, st := range t.Stations {
		if st.HopLimit == hop {
			return st.From
		}
	}
	return netip.Addr{}
}

// RateLimitedHop is no fault: a station that rations its answers.
var RateLimitedHop = &Fault{
	ID: "rate-limited-hop", Zone: zone.Beyond, Scope: OfPlace, Matters: ByReach, Check: "path",
	Needs: []evidence.Kind{evidence.LossProbes, evidence.PathTrace},
	Doc: `A station on the way rations its answers
No fault: one station answers some of what it is asked, and later ones everything. Routers answer for themselves when they have time.`,
	Judge: func(p *Pass) Finding {
		if p.LossZone() != zone.Unknown {
			return possible("packets of all sorts are being lost")
		}
		for _, t := range p.Trails {
			for _, quiet := range t.Quiet() {
				if a, ok := p.elsewhere(t, quiet.HopLimit); ok {
					return found(Confirmed,
						fmt.Sprintf(
							"%v answers some of what it is asked and not all, and later ones answer: it rations its answers. No fault.", a))
				}
			}
		}
		far, known := p.far()
		if !known || lossy(far) {
			return possible("what lies behind it does not answer everything")
		}
		for _, b := range p.Bursts {
			if b.To != far.To && lossy(b) {
				return found(Confirmed,
					fmt.Sprintf("%v answers only %d of %d, and %v behind it everything: it rations its answers. No fault.", b.To,
						b.Received, b.Sent, far.To))
			}
		}
		return cleared("nobody who was asked rations its answers")
	},
}
