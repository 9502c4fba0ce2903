package facts

import (
	"net/netip"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/path"
	"passepartout/internal/core/zone"
)

// Burst gives the small probes to an address; false if none have come to their end. Echo replies are rationed at many hosts (RFC 1812
// §4.3.2.8), and connections are not: where none of these was lost, nothing was.
func (f *Facts) Burst(a netip.Addr) (evidence.Burst, bool) {
	all, known := f.burstBy(a, func(m string) bool { return m != evidence.ByConnections })
	own, ok := f.burstBy(a, func(m string) bool { return m == evidence.ByConnections })
	switch {
	case !ok || own.Received == 0:
		return all, known
	case known && own.Received < own.Sent && !Lossy(own): // too few to tell by themselves
		own.Sent, own.Received = own.Sent+all.Sent, own.Received+all.Received
	}
	return own, true
}

// Doubtful reports that an address looks well, and that what stands in between or a ration of its answers keeps this machine from being
// sure: whether connections come through to it, or whether large packets do.
func (f *Facts) Doubtful(a netip.Addr) bool {
	_, _, rations := f.RationsEcho(a)
	_, sized := f.Sizing(a)
	return f.Relayed(a) || rations && !sized
}

func (f *Facts) burstBy(a netip.Addr, method func(string) bool) (evidence.Burst, bool) {
	for _, b := range f.Bursts {
		if b.To == a && a.IsValid() && method(b.Method) {
			return b, true
		}
	}
	return evidence.Burst{}, false
}

// RationsEcho reports that an address answers only some echo requests, and every connection.
func (f *Facts) RationsEcho(a netip.Addr) (echo, own evidence.Burst, yes bool) {
	echo, known := f.burstBy(a, func(m string) bool { return m == "icmp" })
	own, ok := f.burstBy(a, func(m string) bool { return m == evidence.ByConnections })
	return echo, own, known && ok && Short(echo) && own.Received == own.Sent
}

// Short reports whether too many answers are missing, or all of them of somebody who had answered before.
func Short(b evidence.Burst) bool { return path.Lossy(b.Sent-b.Received, b.Sent) }

// Lossy reports whether too many of the probes that an address answers were lost.
func Lossy(b evidence.Burst) bool { return b.Received > 0 && path.Lossy(b.Sent-b.Received, b.Sent) }

// Far is a burst to the target, or to a name server beyond the gateway where the target's is not known.
func (f *Facts) Far() (b evidence.Burst, ok bool) {
	for _, a := range f.Addresses {
		if b, ok = f.Burst(a); ok && b.Received > 0 {
			return b, true
		}
	}
	for _, r := range f.Resolvers {
		if b, ok = f.Burst(r.Address); ok && b.Received > 0 && !r.OnLink {
			return b, true
		}
	}
	return b, false
}

// Near is a burst to a neighbour other than a gateway.
func (f *Facts) Near() (b evidence.Burst, ok bool) {
	for _, b := range f.Bursts {
		other, _ := f.Endpoint.Gateway(f.Interface, b.To.Is6())
		if b.To != f.Gateway && b.To != other && f.OnLink(b.To) && b.Received > 0 {
			return b, true
		}
	}
	return b, false
}

// LossZone is where packets are lost: on the segment when gateway or neighbour lose and nobody farther away answers everything, beyond when
// only what is far away does. zone.Unknown while nothing is.
func (f *Facts) LossZone() zone.Zone { return f.lossZone.of(f.reckonLossZone) }

func (f *Facts) reckonLossZone() zone.Zone {
	gw, gwKnown := f.Burst(f.Gateway)
	far, farKnown := f.Far()
	near, nearKnown := f.Near()
	lossyGateway, lossyNear, lossyFar := gwKnown && Lossy(gw), nearKnown && Lossy(near), farKnown && Lossy(far)
	if lossyFar && far.Method == "icmp" && f.ByProxy() { // nothing that programs here send takes that way
		farKnown, lossyFar = false, false
	}
	if lossyFar && lossyGateway && losesMore(gw, far) { // it passes on more than it answers: its own answers keep to a ration
		if lossyNear {
			return zone.LocalSubnet
		}
		lossyGateway = false
	}
	switch {
	case farKnown && !lossyFar:
		return zone.Unknown // all the way there and back without loss: whoever loses on the way keeps to a ration
	// the gateway's echo replies alone may be rationed: somebody else must lose as well
	case lossyGateway && (lossyFar || lossyNear), lossyNear && (!gwKnown || gw.Received == 0):
		return zone.LocalSubnet
	case lossyFar && f.TargetOnLink():
		return zone.LocalSubnet
	case lossyFar && (gwKnown && gw.Received > 0 && !lossyGateway || nearKnown && !lossyNear):
		return zone.Beyond
	}
	return zone.Unknown
}

// LossUntold reports that the gateway's echo replies are missing, and that nobody else's answers could be counted: a ration, or a loss.
func (f *Facts) LossUntold() bool {
	gw, known := f.Burst(f.Gateway)
	_, far := f.Far()
	_, near := f.Near()
	return known && Lossy(gw) && !far && !near
}

// rationed is by how much more a station's own answers must be missing than those from behind it: a ration leaves little.
const rationed = 0.15

// losesMore reports whether a loses a much larger share than b, beyond chance.
func losesMore(a, b evidence.Burst) bool {
	most := 1 - path.WilsonLow(b.Received, b.Sent) // of b, at the upper end of its interval
	return path.WilsonLow(a.Sent-a.Received, a.Sent) > most+rationed
}

// nearAnswers is how many answers of a neighbour that rations them are enough to say how long one takes.
const nearAnswers = 3

// slow reports whether the usual time to far lies a step above that to near, with enough replies on both sides.
func (f *Facts) slow(near, far evidence.Burst) bool {
	enough := near.Received >= path.StepProbes || near.Received >= nearAnswers && 2*near.Received < near.Sent
	return enough && far.Received >= path.StepProbes && far.Median-near.Median > f.StepBlamed()+ownDelay(near, far)
}

// ownDelay is what of a step in delay this machine itself may have made: a probe waits for its turn when it is sent and when its answer is
// heard, and the one that it is compared with does so too.
func ownDelay(near, far evidence.Burst) time.Duration { return 4 * max(near.Late, far.Late) }

// DelayUntold is how long this machine itself kept its probes waiting, where the way would be slow but for that; 0 where it is not so.
func (f *Facts) DelayUntold() time.Duration {
	gw, known := f.nearest()
	far, farKnown := f.Far()
	if f.DelayZone() != zone.Unknown || !known {
		return 0
	}
	late := max(gw.Late, far.Late)
	gw.Late, far.Late = 0, 0
	if f.delayed(gw, far, farKnown) == zone.Unknown {
		return 0
	}
	return late
}

// nearest is the burst to the gateway, or to another neighbour where that one does not answer.
func (f *Facts) nearest() (evidence.Burst, bool) {
	gw, known := f.Burst(f.Gateway)
	if near, ok := f.Near(); ok && (!known || gw.Received == 0) {
		return near, true
	}
	return gw, known
}

// StepBlamed is from which step in delay on it is a fault: the one that the site sheet allows the target, shorter or longer than the usual.
func (f *Facts) StepBlamed() time.Duration {
	if allowed, ok := f.Sheet.Allowed(f.Target); ok {
		return allowed
	}
	return path.StepBlamed
}

// DelayZone is where the time is spent, if it is too much; zone.Unknown if it is not.
func (f *Facts) DelayZone() zone.Zone { return f.delayZone.of(f.reckonDelayZone) }

func (f *Facts) reckonDelayZone() zone.Zone {
	gw, known := f.nearest()
	if !known {
		return zone.Unknown
	}
	far, farKnown := f.Far()
	return f.delayed(gw, far, farKnown)
}

// delayed is where the time is spent, by the bursts to whoever is nearest and to what is far away, if anything is.
func (f *Facts) delayed(gw, far evidence.Burst, farKnown bool) zone.Zone {
	switch {
	case gw.Received >= path.StepProbes && gw.Median > path.StepBlamed+ownDelay(gw, gw):
		return zone.LocalSubnet
	case farKnown && f.slow(gw, far):
		return zone.Beyond
	}
	return zone.Unknown
}

// Sizing gives the search for the largest packet that reaches an address.
func (f *Facts) Sizing(a netip.Addr) (evidence.Sizing, bool) {
	for _, s := range f.Sizings {
		if s.To == a && a.IsValid() {
			return s, true
		}
	}
	return evidence.Sizing{}, false
}

// Vanish reports that large packets to an address disappear without a word.
func Vanish(s evidence.Sizing) bool {
	return s.Passes > 0 && s.Passes < s.Full && s.Lost > 0 && !s.Told
}

// Steady reports that the target itself has answered all probes in good time: nothing nearer by can lose or delay. Where a ration of echo
// replies was used up before, so that none came back, nothing has been counted.
func (f *Facts) Steady() bool {
	for _, a := range f.Addresses {
		if b, ok := f.Burst(a); !ok || b.Received == 0 || Lossy(b) || b.Median > f.StepBlamed() {
			return false
		}
	}
	return len(f.Addresses) > 0
}

// Roomy reports that packets of full size reach the target, or that somebody says what does.
func (f *Facts) Roomy() bool {
	for _, a := range f.Addresses {
		if s, ok := f.Sizing(a); !ok || s.Passes == 0 && !s.Told || Vanish(s) {
			return false
		}
	}
	return len(f.Addresses) > 0
}

// Begins finds the station after which something is worse than before it, up to the target: the last good one, and the first bad one.
func (f *Facts) Begins(bad func(evidence.Burst) bool) (good, first netip.Addr, seen bool) {
	for _, t := range f.Trails {
		on := false
		for _, a := range f.Addresses {
			on = on || a == t.To
		}
		if !on {
			continue
		}
		for _, st := range t.Stations {
			b, ok := f.Burst(st.From)
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
