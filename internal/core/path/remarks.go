package path

import (
	"fmt"
	"math"
	"net/netip"
	"time"
)

// Remark is what matters at one place, in words. Ids are those of the catalogue where it has one.
type Remark struct {
	ID       string
	HopLimit int
	Harmless bool
	Words    string
}

// Enough to speak of loss: that many questions, and the lower bound of the 95 % Wilson interval above this share.
const (
	LossProbes = 20
	LossShare  = 0.03
)

// Lossy reports whether so many lost of so many sent are enough to speak of loss.
func Lossy(lost, sent int) bool { return sent >= LossProbes && WilsonLow(lost, sent) > LossShare }

// WilsonLow is the lower bound of the 95 % Wilson score interval for a share (Wilson 1927; NIST/SEMATECH handbook, 7.2.4.1).
func WilsonLow(hits, of int) float64 {
	if of == 0 {
		return 0
	}
	const z = 1.959964
	n, p := float64(of), float64(hits)/float64(of)
	return (p + z*z/(2*n) - z*math.Sqrt(p*(1-p)/n+z*z/(4*n*n))) / (1 + z*z/n)
}

// StepShown is the step in latency from which on it is pointed out; one is blamed from StepBlamed on.
const (
	StepShown  = 30 * time.Millisecond
	StepBlamed = 300 * time.Millisecond
	StepProbes = 10 // replies on each side
)

// Remarks explains the places that matter.
func Remarks(places []Place, reached bool) (out []Remark) {
	say := func(id string, hop int, harmless bool, format string, args ...any) {
		out = append(out, Remark{id, hop, harmless, fmt.Sprintf(format, args...)})
	}
	for i, p := range places {
		later := places[i+1:]
		switch {
		case p.State == Silent && p.Sent > 0:
			say("hop-silent", p.HopLimit, true, "keeps silent: harmless, later ones answer")
		case len(later) > 0 && Lossy(p.Sent-p.Received, p.Sent) && !lossStays(later):
			say("rate-limited-hop", p.HopLimit, true, "answers %d of %d, later ones all: it rations its own answers", p.Received, p.Sent)
		}
		if p.State == Refuses {
			say("refused", p.HopLimit, false, "says: %v", p.Said.Why)
		}
		if len(p.Voices) > 1 {
			say("branches", p.HopLimit, true, "%d stations share the load here", len(p.Voices))
		}
	}
	if hop, ok := LossBegins(places); ok {
		say("path-lossy", hop, false, "loss begins here and stays to the end")
	}
	if hop, step, ok := Step(places); ok && step >= StepShown {
		say("path-slow", hop, step < StepBlamed, "adds %s, and all behind it keep that", millis(step))
	}
	if a, hops := Repeats(places); len(hops) > 1 {
		say("routing-loop", hops[1], false, "%v again, as %d before: packets circle", a, hops[0])
	}
	if n := PrivateRouters(places); n > 0 {
		for _, p := range places {
			if p.Segment == Private {
				say("extra-router", p.HopLimit, true, "a further private router: addresses may be translated %d times in a row", n+1)
				break
			}
		}
	}
	if n := len(places); !reached && n > 0 && places[n-1].State != Refuses {
		say("path-ends", places[n-1].HopLimit, false, "the last that answers; nothing behind it does")
	}
	return out
}

// lossStays reports whether all later places that answer at all lose as well.
func lossStays(later []Place) bool {
	any := false
	for _, p := range later {
		if p.Received == 0 {
			continue
		}
		if any = true; !Lossy(p.Sent-p.Received, p.Sent) {
			return false
		}
	}
	return any
}

// LossBegins finds the first place at which loss begins that stays up to the last place. A place that alone loses is not it.
func LossBegins(places []Place) (hop int, ok bool) {
	for i, p := range places {
		if p.Received == 0 || !Lossy(p.Sent-p.Received, p.Sent) {
			continue
		}
		if i == len(places)-1 || lossStays(places[i+1:]) {
			return p.HopLimit, true
		}
	}
	return 0, false
}

// Step finds the largest step in usual latency that stays to the end.
func Step(places []Place) (hop int, step time.Duration, ok bool) {
	before := time.Duration(0)
	for i, p := range places {
		m, answers := p.Median()
		if !answers {
			continue
		}
		least := m // of this and all later ones: a router that is slow to answer for itself is no step
		for _, later := range places[i+1:] {
			if lm, ok := later.Median(); ok {
				least = min(least, lm)
			}
		}
		if least-before > step {
			hop, step, ok = p.HopLimit, least-before, true
		}
		before = max(before, least)
	}
	return hop, step, ok
}

// Repeats finds an address that answers for two hop limits with another one between them.
func Repeats(places []Place) (a netip.Addr, hops []int) {
	for i, p := range places {
		from := p.From()
		if !from.IsValid() || p.State == DestinationState {
			continue
		}
		for _, q := range places[i+1:] {
			if q.From() == from && q.HopLimit > p.HopLimit+1 && q.State == Answers {
				return from, []int{p.HopLimit, q.HopLimit}
			}
		}
	}
	return netip.Addr{}, nil
}

func millis(d time.Duration) string { return fmt.Sprintf("%.0f ms", d.Seconds()*1000) }

// Pair is one hop limit of two traces side by side.
type Pair struct {
	HopLimit int
	A, B     *Place // nil beyond the end of that trace
	Differ   bool   // other stations answer
}

// Compare lays two traces side by side. Where one is silent nothing is known to differ.
func Compare(a, b []Place) (out []Pair) {
	for i := range max(len(a), len(b)) {
		p := Pair{HopLimit: i + 1}
		if i < len(a) {
			p.A = &a[i]
		}
		if i < len(b) {
			p.B = &b[i]
		}
		switch {
		case p.A == nil || p.B == nil:
			p.Differ = true
		case p.A.From().IsValid() && p.B.From().IsValid():
			p.Differ = p.A.From() != p.B.From()
		}
		out = append(out, p)
	}
	return out
}
