package fault

import (
	"fmt"
	"net/netip"
	"strings"

	"passepartout/internal/core/change"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/path"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

var qualityFaults = []*Fault{MTUTooLarge, SegmentLossy, PathLossy, PathSlow, MTUBlackHole}

// InOrder reports whether the target is not only reached but can be used: full-size packets come through, loss and delay stay under the
// thresholds.
func InOrder(p *facts.Facts) facts.Answer {
	usable := p.Usable()
	if usable != facts.Yes {
		return usable
	}
	if p.LossZone() != zone.Unknown || p.DelayZone() != zone.Unknown {
		return facts.No
	}
	if AddressConflict.Judge(p).Standing == Confirmed { // connections come and go with whoever spoke last
		return facts.No
	}
	if MTUTooLarge.Judge(p).Standing.Holds() || MTUBlackHole.Judge(p).Standing.Holds() || ServiceSlow.Judge(p).Standing.Holds() {
		return facts.No
	}
	if p.IsOpen(evidence.LossProbes) && !p.Steady() || p.IsOpen(evidence.PacketSize) && !p.Roomy() {
		return facts.Unknown
	}
	return facts.Yes
}

func counted(b evidence.Burst) string {
	words := fmt.Sprintf("%d of %d probes to %v came back", b.Received, b.Sent, b.To)
	if b.Received > 0 {
		words += ", half within " + wording.Millis(b.Median)
	}
	return words
}

// SegmentLossy: packets are lost, or kept waiting, between here and the gateway.
var SegmentLossy = &Fault{
	ID: "segment-lossy", Zone: zone.LocalSubnet, Place: 110, Scope: OfSocket, Matters: WhereSomethingPasses, Check: "gateway",
	Needs: []evidence.Kind{evidence.LossProbes}, OfQuality: true, Explains: []ID{"service-slow"},
	Doc: `Packets are lost on the segment
Some of what is sent to the gateway does not come back, or comes back late, and what lies behind it fares no better: a bad cable or plug,
a socket or switch port with errors, a crowded radio cell, a loop between switches. It is taken for a slow provider. Change the cable,
then the socket; on radio, go nearer to the access point.`,
	Judge: func(p *facts.Facts) Finding {
		gw, known := p.Burst(p.Gateway)
		near, nearKnown := p.Near()
		far, farKnown := p.Far()
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
				fmt.Sprintf("Packets are lost on %s already: of %d to %v only %d came back.", segmentName(p), gw.Sent, gw.To, gw.Received),
				counted(gw))
			if farKnown && facts.Lossy(far) && far.Method != "icmp" ||
				nearKnown && near.To != gw.To && facts.Lossy(near) && near.Method != "icmp" { // echo replies alone may be rationed
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
				fmt.Sprintf("Packets are held up on %s already: half of those to %v take more than %s.", segmentName(p), gw.To,
					wording.Millis(gw.Median)), counted(gw)).
				next("See what else uses the segment now: a copy of large files, a loop between switches, a crowded radio cell.")
		}
		return cleared("%s", counted(gw))
	},
}

func whereBegins(p *facts.Facts, good, first netip.Addr, what string) string {
	return fmt.Sprintf("%s after %v and before %v", what, good, first)
}

// PathLossy: packets are lost on the way, behind the gateway.
var PathLossy = &Fault{
	ID: "path-lossy", Zone: zone.Beyond, Place: 30, Scope: OfEverybody, Matters: WhereSomethingPasses, Check: "loss",
	Needs: []evidence.Kind{evidence.LossProbes, evidence.PathTrace}, OnSilence: true, OfQuality: true, Explains: []ID{"service-slow"},
	Doc: `Packets are lost on the way
The segment and the gateway are clean, and behind them packets are lost all the way to the target: a crowded or damaged line of the
provider or farther on. Loss at a single station while later ones answer everything is no fault: routers ration their answers. Hand the
station at which it begins to the provider, with times.`,
	Judge: func(p *facts.Facts) Finding {
		far, known := p.Far()
		switch z := p.LossZone(); {
		case z == zone.LocalSubnet:
			return possible("packets are lost on the segment already")
		case z == zone.Beyond:
			gw, _ := p.Burst(p.Gateway)
			sentence := fmt.Sprintf("Packets are lost behind the gateway: of %d to %v only %d came back.", far.Sent, far.To, far.Received)
			good, first, seen := p.Begins(facts.Lossy)
			standing := Supported
			if seen {
				// of echo replies alone it may be a ration
				if far.Method != "icmp" {
					standing = Confirmed
				}
				sentence = fmt.Sprintf("%s: of %d to %v only %d came back.", whereBegins(p, good, first, "Packets are lost"), far.Sent,
					far.To,
					far.Received)
			}
			f := found(standing, sentence, counted(far))
			if gw.Received > 0 {
				f.For = append(f.For, counted(gw))
			}
			return f.next(
				"Hand it to the provider with the station at which it begins, and times: view 6, reach, and its export show them.",
				"Try at another hour: a crowded line is worse when all work.")
		case p.IsOpen(evidence.LossProbes) && !p.Steady(): // the target that has answered all shows more than what is still open
			return possible("loss is still being measured")
		case !known:
			return possible("nobody beyond the gateway answered probes that could be counted")
		}
		return cleared("%s", counted(far))
	},
}

// PathSlow: the time is spent on the way, behind the gateway.
var PathSlow = &Fault{
	ID: "path-slow", Zone: zone.Beyond, Place: 40, Scope: OfEverybody, Matters: WhereSomethingPasses, Check: "loss",
	Needs: []evidence.Kind{evidence.LossProbes, evidence.PathTrace}, OfQuality: true, Explains: []ID{"service-slow"},
	Doc: `The way is slow
From one station on, all answers take far longer, up to the target: a detour over a far-off country or a satellite, or a line whose queue
is always full. A station that is slow to answer for itself, while later ones are quick, is no fault.`,
	Judge: func(p *facts.Facts) Finding {
		far, known := p.Far()
		switch z := p.DelayZone(); {
		case p.LossZone() != zone.Unknown:
			return possible("packets are being lost, so that times say little")
		case z == zone.LocalSubnet:
			return possible("packets are held up on the segment already")
		case z == zone.Beyond:
			gw, ok := p.Burst(p.Gateway)
			if !ok {
				gw, _ = p.Near()
			}
			limit := gw.Median + p.StepBlamed()
			good, first, seen := p.Begins(func(b evidence.Burst) bool { return b.Received >= path.StepProbes && b.Median > limit })
			sentence := fmt.Sprintf("The way behind the gateway takes %s, of which the segment takes %s.", wording.Millis(far.Median),
				wording.Millis(gw.Median))
			standing := Supported
			if seen {
				standing = Confirmed
				a, _ := p.Burst(good)
				b, _ := p.Burst(first)
				sentence = fmt.Sprintf("%s: %s as far as the one, %s to the other, and so to the target.",
					whereBegins(p, good, first, "The way turns slow"), wording.Millis(a.Median), wording.Millis(b.Median))
			}
			return found(standing, sentence, counted(far), counted(gw)).
				next("Hand it to the provider with the station at which it begins.",
					"Look whether this machine's traffic takes a tunnel or another exit that it need not.")
		case p.IsOpen(evidence.LossProbes):
			return possible("times are still being measured")
		case p.DelayUntold() > 0:
			return possible("this machine itself kept its probes waiting while it timed the way, usually %s and more than once each",
				wording.Millis(p.DelayUntold()))
		case !known:
			return possible("nobody beyond the gateway answered probes that could be timed")
		}
		return cleared("%s", counted(far))
	},
}

// MTUTooLarge: this machine sends larger packets than its segment carries.
var MTUTooLarge = &Fault{
	ID: "mtu-too-large", Zone: zone.Host, Place: 230, Scope: OfMachine, Matters: WhereSomethingPasses, Check: "link",
	Needs: []evidence.Kind{evidence.PacketSize}, OnSilence: true, OfQuality: true, Explains: []ID{"service-slow"},
	Doc: `This machine sends larger packets than the segment carries
The MTU of this machine's port is larger than the segment's: large packets vanish before the gateway, small ones pass. Pages begin to load
and hang. Set the MTU back to what the segment carries.`,
	Judge: func(p *facts.Facts) Finding {
		s, known := p.Sizing(p.Gateway)
		for _, a := range p.Addresses {
			if far, ok := p.Sizing(a); ok && far.Passes > 0 && (far.Passes >= far.Full || known && far.Passes > s.Passes || far.Told) {
				return cleared("packets of %d octets pass the segment", max(far.Passes, s.Passes))
			}
		}
		switch {
		case p.IsOpen(evidence.PacketSize):
			return possible("packet sizes are still being tried")
		case !known:
			if far, ok := jumbo(p); ok {
				return found(Supported,
					fmt.Sprintf("%s sends packets of up to %d octets, and what leaves the segment carries only %d.", p.Interface, far.Full,
						far.Passes), fmt.Sprintf("to %v: %d octets pass, %d vanish", far.To, far.Passes, far.Lost)).
					next(fmt.Sprintf("Set the MTU of %s to %d.", p.Interface, usualMTU)).setsMTU(p, usualMTU)
			}
			return possible("the gateway answered no probe of full size, nor a small one")
		case !facts.Vanish(s):
			return cleared("packets of %d octets reach the gateway", s.Passes)
		}
		return found(Confirmed,
			fmt.Sprintf("%s sends packets of up to %d octets, and the segment carries only %d: larger ones vanish before the gateway.",
				p.Interface, s.Full, s.Passes),
			fmt.Sprintf("to %v: %d octets pass, %d vanish", s.To, s.Passes, s.Lost)).
			next(fmt.Sprintf("Set the MTU of %s to %d.", p.Interface, s.Passes),
				"If large frames are meant to be used here, every switch port and the gateway must take them.").setsMTU(p, s.Passes)
	},
}

// setsMTU offers to have the interface send no larger packets.
func (f Finding) setsMTU(p *facts.Facts, octets int) Finding {
	return f.mends(fmt.Sprintf("Set the MTU of %s to %d octets", p.Interface, octets), "what came through", change.Change{
		Steps: []change.Op{{Do: change.SetMTU, Interface: p.Interface, MTU: octets}}})
}

// usualMTU is Ethernet's (RFC 894).
const usualMTU = 1500

// jumbo is a search to the target that ended at what Ethernet usually carries, or less, though this machine sends more: where the gateway
// does not say what the segment takes, that is the first to be looked at.
func jumbo(p *facts.Facts) (evidence.Sizing, bool) {
	for _, a := range p.Addresses {
		if s, ok := p.Sizing(a); ok && facts.Vanish(s) && s.Full > usualMTU && s.Passes <= usualMTU {
			return s, true
		}
	}
	return evidence.Sizing{}, false
}

// MTUBlackHole: large packets vanish on the way.
var MTUBlackHole = &Fault{
	ID: "mtu-black-hole", Zone: zone.Beyond, Place: 190, Scope: OfEverybody, Matters: WhereSomethingPasses, Check: "size",
	Needs: []evidence.Kind{evidence.PacketSize}, OnSilence: true, OfQuality: true, Explains: []ID{"service-slow"},
	Doc: `Large packets vanish on the way
Small packets reach the target, large ones disappear without a word: somewhere a link takes only smaller ones, and the message that should
say so (RFC 1191, RFC 8201) is not sent or is filtered. Connections open, and then nothing comes. A tunnel is usually behind it.`,
	Judge: func(p *facts.Facts) Finding {
		if p.IsOpen(evidence.PacketSize) {
			return possible("packet sizes are still being tried")
		}
		gw, gwKnown := p.Sizing(p.Gateway)
		if _, is := jumbo(p); is && !gwKnown {
			return cleared("this machine sends larger packets than Ethernet carries where it is not set otherwise")
		}
		for _, a := range p.Addresses {
			s, ok := p.Sizing(a)
			if !ok {
				continue
			}
			switch {
			case s.Told:
				return cleared("a router says what it takes: %d octets", s.Passes)
			case !facts.Vanish(s):
				return cleared("packets of %d octets reach %v", s.Passes, a)
			case gwKnown && facts.Vanish(gw) && gw.Passes <= s.Passes:
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
				"Have whoever runs the tunnel or the provider's line let ICMP \"too big\" through.").setsMTU(p, s.Passes)
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
	Judge: func(p *facts.Facts) Finding {
		for _, t := range p.OffLinkTrails() {
			var stations []netip.Addr
			for _, st := range t.Stations {
				stations = append(stations, st.From)
			}
			var private []string
			public := false
			for i, segment := range path.Segments(stations, t.To, p.NextDoor) {
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
func elsewhere(p *facts.Facts, t evidence.Trail, hop int) (netip.Addr, bool) {
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
	Judge: func(p *facts.Facts) Finding {
		if p.LossZone() != zone.Unknown {
			return possible("packets of all sorts are being lost")
		}
		for _, t := range p.Trails {
			for _, quiet := range t.Quiet() {
				if a, ok := elsewhere(p, t, quiet.HopLimit); ok {
					return found(Confirmed,
						fmt.Sprintf(
							"%v answers some of what it is asked and not all, and later ones answer: it rations its answers. No fault.", a))
				}
			}
		}
		for _, a := range p.Addresses {
			if echo, own, rations := p.RationsEcho(a); rations {
				return found(Confirmed,
					fmt.Sprintf("%v answers only %d of %d echo requests, and all of %d connections: it rations its answers. No fault.", a,
						echo.Received, echo.Sent, own.Sent))
			}
		}
		far, known := p.Far()
		if !known || facts.Lossy(far) {
			return possible("what lies behind it does not answer everything")
		}
		for _, b := range p.Bursts {
			if b.To != far.To && facts.Lossy(b) {
				return found(Confirmed,
					fmt.Sprintf("%v answers only %d of %d, and %v behind it everything: it rations its answers. No fault.", b.To,
						b.Received, b.Sent, far.To))
			}
		}
		return cleared("nobody who was asked rations its answers")
	},
}
