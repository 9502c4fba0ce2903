// Package verdict turns evidence into checks, suspects and one verdict. It is pure: the same evidence, in whatever order it came,
// gives the same verdict.
package verdict

import (
	"fmt"
	"slices"
	"strings"

	"passepartout/internal/core/change"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/zone"
)

// Confidence says how sure the verdict is.
type Confidence string

// The degrees of confidence, as the contract defines them.
const (
	Certain Confidence = "certain"
	Likely  Confidence = "likely"
	Maybe   Confidence = "possible"
)

// Result is everything that follows from the evidence.
type Result struct {
	Zone       zone.Zone
	Fault      fault.ID
	Confidence Confidence
	Sentence   string
	Also       []Other
	Candidates []fault.ID
	Next       []string
	Mends      []change.Proposal // what of that can be done on this machine, from here
	Questions  []Question        // what only a person can find out, and what each answer would clear

	Checks   []Check
	Suspects []Suspect
	Remarks  []Remark // what looks wrong and is not
	Withheld []evidence.Withheld
	awaited  []evidence.Kind // by remarks
	Settled  bool            // what may still come cannot change the verdict
}

// Other is a further, independent fault.
type Other struct {
	Zone     zone.Zone
	Fault    fault.ID
	Sentence string
}

// Suspect is a fault of the catalogue and how it stands.
type Suspect struct {
	Fault    *fault.Fault
	Zone     zone.Zone
	Standing fault.Standing
	For      []string
	Against  []string

	finding fault.Finding
	rank    int
}

// Remark is a look-alike that was seen and is no fault.
type Remark struct {
	Fault    *fault.Fault
	Sentence string
}

// Judge judges a set of evidence by the whole catalogue.
func Judge(s *evidence.Set) Result { return Of(facts.New(s)) }

// Of judges by the whole catalogue what is known already.
func Of(p *facts.Facts) Result { return judge(fault.Catalogue, p) }

// JudgeBy judges by a catalogue of the caller's.
func JudgeBy(catalogue []*fault.Fault, s *evidence.Set) Result { return judge(catalogue, facts.New(s)) }

func judge(catalogue []*fault.Fault, p *facts.Facts) Result {
	r := Result{Also: []Other{}, Candidates: []fault.ID{}, Next: []string{}, Withheld: slices.Clone(p.Seen.Withheld)}
	for i, f := range catalogue {
		finding := f.Judge(p)
		z := f.Zone
		if finding.Zone != zone.Unknown {
			z = finding.Zone
		}
		if lossAt := p.LossZone(); lossAt != zone.Unknown && lossAt <= z && f.OnSilence && finding.Standing.Holds() && f != fault.PathLossy {
			finding = fault.Finding{Standing: fault.Possible, For: finding.For,
				Against: []string{"packets of all sorts are being lost, so that silence proves nothing"}}
		}
		if at := p.TargetZone(); f.Scope&fault.OfTarget != 0 && at != zone.Unknown {
			z = min(z, at)
		}
		r.Suspects = append(r.Suspects,
			Suspect{Fault: f, Zone: z, Standing: finding.Standing, For: finding.For, Against: finding.Against, finding: finding,
				rank: int(z)*1000 + i})
	}
	r.hear(p)
	r.fold()
	for _, f := range fault.Remarks {
		finding := f.Judge(p)
		if finding.Standing.Holds() {
			r.Remarks = append(r.Remarks, Remark{f, finding.Sentence})
		}
		if finding.Awaits != 0 {
			r.awaited = append(r.awaited, finding.Awaits)
		}
	}
	usable := fault.InOrder(p)
	holding := holding(r.Suspects)
	reached := p.Usable() == facts.Yes
	inTheWay := slices.DeleteFunc(slices.Clone(holding),
		func(s Suspect) bool { return s.finding.Aside || usable == facts.Yes || reached && !s.Fault.OfQuality })
	switch {
	case usable == facts.Yes:
		r.healthy(p, holding)
	case len(inTheWay) > 0:
		r.faulty(inTheWay, holding)
	default:
		r.open(p)
	}
	if p.Changed != "" && r.Zone != zone.None {
		r.changed(p.Changed)
	}
	r.Checks = checks(p, r.Suspects, usable)
	r.Settled = r.settled(p, usable, inTheWay)
	r.ask(p)
	return r
}

// fold puts what follows from a fault that was found under it: it is no further fault, and no other explanation either.
func (r *Result) fold() {
	for _, cause := range holding(r.Suspects) {
		if now, _ := r.Suspect(cause.Fault.ID); cause.finding.Aside || !now.Standing.Holds() {
			continue // true and not in the way, or folded itself
		}
		for i := range r.Suspects {
			s := &r.Suspects[i]
			if s.Standing.Holds() && s.Fault != cause.Fault && slices.Contains(cause.Fault.Explains, s.Fault.ID) {
				s.Standing, s.finding.Standing = fault.Possible, fault.Possible
				s.Against = append(s.Against, "it follows from this: "+fault.TitleOf(cause.Fault.ID))
			}
		}
	}
}

// holding gives the suspects that are supported or confirmed, the nearest to the host first.
func holding(all []Suspect) (out []Suspect) {
	for _, s := range all {
		if s.Standing.Holds() {
			out = append(out, s)
		}
	}
	slices.SortStableFunc(out, func(a, b Suspect) int { return a.rank - b.rank })
	return out
}

func (r *Result) healthy(p *facts.Facts, holding []Suspect) {
	r.Zone, r.Confidence = zone.None, Certain
	if len(p.Withheld) > 0 || slices.ContainsFunc(p.Addresses, p.Doubtful) || p.LossUntold() {
		r.Confidence = Likely
	}
	switch {
	case p.Target.IsZero():
		beyond, _ := p.AnswersBeyond()
		r.Sentence = fmt.Sprintf(
			"This machine, its segment and its name service are in order, and %v answers past the gateway; no target was given.", beyond)
	case p.Target.URL != "":
		r.Sentence = fmt.Sprintf("%s answers requests.", p.Target.Host())
	case p.Target.Port != 0:
		r.Sentence = fmt.Sprintf("%s accepts connections on port %d.", p.Target.Host(), p.Target.Port)
	default:
		r.Sentence = fmt.Sprintf("%s answers.", p.Target.Host())
	}
	if slices.ContainsFunc(p.Addresses, p.Relayed) {
		r.Sentence += " Somebody nearer takes them; whether they come through to it could not be seen."
	}
	r.also(holding)
	if len(holding) > 0 {
		r.advise(holding[0].finding)
	}
}

func (r *Result) faulty(inTheWay, holding []Suspect) {
	chosen := inTheWay[0]
	f := chosen.finding
	r.Zone, r.Fault, r.Sentence = chosen.Zone, chosen.Fault.ID, f.Sentence
	r.advise(f)
	r.Confidence = Likely
	if f.Standing == fault.Confirmed && !slices.ContainsFunc(inTheWay, func(s Suspect) bool { return s.Zone != chosen.Zone }) {
		r.Confidence = Certain
	}
	r.also(slices.DeleteFunc(holding, func(s Suspect) bool { return s.Fault == chosen.Fault }))
}

// advise says what to do.
func (r *Result) advise(f fault.Finding) {
	r.Next = append(r.Next, f.Next...)
	r.Mends = append(r.Mends, f.Mends...)
}

// changed withdraws a verdict that rests on evidence from before and after a change.
func (r *Result) changed(what string) {
	if r.Fault != "" {
		r.Candidates = []fault.ID{r.Fault}
	}
	r.Zone, r.Fault, r.Confidence, r.Also = zone.Undetermined, "", Maybe, []Other{}
	r.Sentence = fmt.Sprintf("The network changed while it was being asked: %s. What was seen before and after does not fit together.",
		what)
	r.Next, r.Mends = []string{"Run the same tests again, now that it is quiet."}, nil
}

func (r *Result) also(others []Suspect) {
	for _, s := range others {
		r.Also = append(r.Also, Other{s.Zone, s.Fault.ID, s.finding.Sentence})
	}
}

// open is for a broken target without a supported suspect: the zone alone where the evidence shows it, else undetermined.
func (r *Result) open(p *facts.Facts) {
	r.Zone, r.Confidence = zone.Undetermined, Maybe
	var left []Suspect
	for _, s := range r.Suspects {
		if s.Standing == fault.Possible && s.Fault.Relevant(p, s.Zone) {
			left = append(left, s)
			r.Candidates = append(r.Candidates, s.Fault.ID)
		}
	}
	one := len(left) > 0 && !slices.ContainsFunc(left, func(s Suspect) bool { return s.Zone != left[0].Zone })
	missing := r.missing(p)
	switch {
	case one:
		r.Zone = left[0].Zone
		r.Sentence = fmt.Sprintf("The fault lies %s; which one of several it is, the evidence does not tell.", place(left[0].Zone))
		r.Next = append(r.Next, "Compare with a second target out there: passepartout check ANOTHER-NAME.")
	case p.TargetZone() == zone.Host && len(p.Open) == 0:
		one, r.Zone = true, zone.Host
		r.Sentence = fmt.Sprintf("%s is this machine itself: what does not answer lies here.", p.Target.Host())
		r.Next = append(r.Next, "See on this machine whether the service runs, and at which address and port it listens.")
	case missing != "":
		r.Sentence = "The evidence does not single out a zone: " + missing + "."
	default:
		r.Sentence = "The evidence does not single out a zone."
	}
	if len(p.Open) > 0 {
		r.Sentence = "Not yet known."
	}
	if !one {
		for _, w := range r.Withheld {
			if w.Mend != "" && !slices.Contains(r.Next, "Allow it and run again: "+w.Mend) {
				r.Next = append(r.Next, "Allow it and run again: "+w.Mend)
			}
		}
		if len(r.Next) == 0 {
			r.Next = append(r.Next, "Try the same from a second machine on the same segment: if it works there, it is this machine.")
		}
	}
}

func place(z zone.Zone) string {
	switch z {
	case zone.Host:
		return "in this machine"
	case zone.LocalSubnet:
		return "in the local subnet"
	}
	return "beyond the gateway"
}

func (r *Result) missing(p *facts.Facts) string {
	var parts []string
	_, ready := p.Ready()
	for _, w := range p.Withheld {
		switch {
		case w.Kind == evidence.DHCPOffer:
			parts = append(parts, "whether a DHCP server answers could not be asked, which "+w.Why)
		case w.Kind == evidence.SegmentFrames && ready:
			parts = append(parts, "what arrives at the interface could not be watched, which "+w.Why)
		}
	}
	return strings.Join(parts, "; ")
}

// settled decides whether the run may end: nothing that is still under way could put another fault in place of the one found, or
// break a target that was found to work.
func (r *Result) settled(p *facts.Facts, usable facts.Answer, inTheWay []Suspect) bool {
	if len(p.Open) == 0 {
		return true
	}
	if p.IsOpen(r.awaited...) {
		return false // what is told of what looks wrong and is not
	}
	if slices.ContainsFunc(r.Suspects,
		func(s Suspect) bool { return s.finding.Aside && s.finding.Awaits != 0 && p.IsOpen(s.finding.Awaits) }) {
		return false // what is told beside the verdict is still being asked
	}
	if usable == facts.Yes && p.ByProxy() { // how the direct way fares is nothing to the programs here
		return !p.IsOpen(evidence.Settings, evidence.Loopback, evidence.AddressConflict, evidence.SegmentFrames)
	}
	if usable == facts.Yes {
		return !p.IsOpen(evidence.Settings, evidence.Loopback, evidence.RouteLookup, evidence.NameLookup, evidence.ServiceConnect,
			evidence.WebAnswer, evidence.TargetEcho, evidence.AddressConflict, evidence.SegmentFrames)
	}
	if len(inTheWay) == 0 {
		return false
	}
	chosen := inTheWay[0]
	if chosen.Fault.OnSilence && p.IsOpen(evidence.LossProbes) {
		return false // what keeps silent may have been lost
	}
	for _, s := range r.Suspects {
		if s.finding.Awaits != 0 && p.IsOpen(s.finding.Awaits) {
			return false
		}
		nearer := s.rank < chosen.rank
		if nearer && s.Standing == fault.Possible && p.IsOpen(s.Fault.Needs...) {
			return false
		}
		// A finding that is not yet confirmed may still be, or be cleared.
		if s.rank == chosen.rank && s.Standing != fault.Confirmed && p.IsOpen(s.Fault.Needs...) {
			return false
		}
	}
	return true
}

// Suspect finds a suspect by its id.
func (r *Result) Suspect(id fault.ID) (Suspect, bool) {
	for _, s := range r.Suspects {
		if s.Fault.ID == id {
			return s, true
		}
	}
	return Suspect{}, false
}
