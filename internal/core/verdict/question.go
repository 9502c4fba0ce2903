package verdict

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/zone"
)

// Question is a test that only a person can do: look at a switch, try another machine. Its answer is evidence like any other.
type Question struct {
	ID      string
	Text    string
	About   fault.ID // the one fault that it is about, where it is: put first while that is open, and not otherwise
	Answers []Choice
}

// Choice is one answer to choose from, and what follows from it.
type Choice struct {
	ID     string
	Text   string
	Clears []fault.ID // faults that it rules out
	Points []fault.ID // faults that it speaks for
}

// The faults of which a person can tell by trying something else.
var (
	onThisMachine = fault.Within(fault.OfMachine)
	onThisSocket  = fault.Within(fault.OfSocket)
	ofEverybody   = fault.Within(fault.OfEverybody)
)

// inZone lists the faults that usually lie in a zone.
func inZone(z zone.Zone) (out []fault.ID) {
	for _, f := range fault.Catalogue {
		if f.Zone == z {
			out = append(out, f.ID)
		}
	}
	return out
}

// Questions are all that can be asked of a person.
var Questions = []Question{
	{ID: "others-affected", Text: "Do other machines on this segment reach it?", Answers: []Choice{
		{ID: "they-do", Text: "yes, others reach it", Clears: ofEverybody},
		{ID: "none-does", Text: "no, others do not reach it either", Clears: inZone(zone.Host)},
	}},
	{ID: "machine-elsewhere", Text: "Plug this machine into a socket at which another one works. Does it work there?", Answers: []Choice{
		{ID: "works", Text: "yes, it works there", Clears: onThisMachine, Points: onThisSocket},
		{ID: "fails", Text: "no, it fails there too", Clears: append(inZone(zone.LocalSubnet), ofEverybody...)},
	}},
	{ID: "another-machine-here", Text: "Plug a machine that works elsewhere into this socket. Does it work here?", Answers: []Choice{
		{ID: "works", Text: "yes, it works here", Clears: append(fault.Within(fault.OfSocket, fault.NoCarrier), ofEverybody...)},
		{ID: "fails", Text: "no, it fails here too", Clears: onThisMachine},
	}},
	{ID: "address-for-here", About: fault.WrongNetwork.ID, Text: "Is this machine's address one of this place's network?",
		Answers: []Choice{
			{ID: "it-is", Text: "yes, it belongs to this place", Clears: []fault.ID{fault.WrongNetwork.ID},
				Points: []fault.ID{fault.SegmentIsolated.ID}},
			{ID: "another-place", Text: "no, it is another place's", Clears: []fault.ID{fault.SegmentIsolated.ID},
				Points: []fault.ID{fault.WrongNetwork.ID}},
		}},
	{ID: "switch-port", Text: "Ask whoever looks after the switch: is this socket's port in the right network, and let through?",
		Answers: []Choice{
			{ID: "right", Text: "yes, it is set right", Clears: []fault.ID{fault.SegmentIsolated.ID, fault.WrongSegment.ID}},
			{ID: "wrong", Text: "no: another network, or shut", Clears: []fault.ID{fault.WrongNetwork.ID},
				Points: []fault.ID{fault.SegmentIsolated.ID}},
		}},
	{ID: "tunnel-down", About: fault.TunnelHoldsRoute.ID, Text: "Take the VPN down. Is the target reached then?", Answers: []Choice{
		{ID: "reached", Text: "yes, without the VPN", Points: []fault.ID{fault.TunnelHoldsRoute.ID}, Clears: ofEverybody},
		{ID: "not-reached", Text: "no, not even then", Clears: []fault.ID{fault.TunnelHoldsRoute.ID}},
	}},
	{ID: "far-end-hears", Text: "Let somebody run passepartout answer at the far end. Does it show arrivals from here?", Answers: []Choice{
		{ID: "arrivals", Text: "yes, they arrive", Points: []fault.ID{fault.ReturnPathMissing.ID},
			Clears: []fault.ID{fault.DestinationSilent.ID, fault.PathStops.ID, fault.UplinkDown.ID, fault.GatewayDoesNotForward.ID,
				fault.RoutingLoop.ID}},
		{ID: "nothing", Text: "no, nothing arrives", Clears: []fault.ID{fault.ReturnPathMissing.ID}},
	}},
	{ID: "own-filter", Text: "Switch this machine's own packet filter off for a moment. Is the target reached then?", Answers: []Choice{
		{ID: "reached", Text: "yes, without the filter", Points: []fault.ID{fault.HostFirewall.ID}, Clears: ofEverybody},
		{ID: "not-reached", Text: "no, or there is none", Clears: []fault.ID{fault.HostFirewall.ID}},
	}},
}

// ParseSaid reads an answer as it is given on a command line: QUESTION=ANSWER.
func ParseSaid(text string) (evidence.Answer, error) {
	question, answer, ok := strings.Cut(text, "=")
	given := evidence.Answer{Question: question, Answer: answer}
	if _, _, known := lookup(given); ok && known {
		return given, nil
	}
	var ids []string
	for _, q := range Questions {
		if q.ID == question {
			for _, a := range q.Answers {
				ids = append(ids, q.ID+"="+a.ID)
			}
			return given, fmt.Errorf("--said %q: answer with %s", text, strings.Join(ids, " or "))
		}
		ids = append(ids, q.ID)
	}
	return given, fmt.Errorf("--said %q: the questions are %s; each is answered as QUESTION=ANSWER", text, strings.Join(ids, ", "))
}

func lookup(given evidence.Answer) (Question, Choice, bool) {
	for _, q := range Questions {
		if q.ID != given.Question {
			continue
		}
		for _, a := range q.Answers {
			if a.ID == given.Answer {
				return q, a, true
			}
		}
	}
	return Question{}, Choice{}, false
}

// hear lets what a person said count: it clears, and it speaks for. What the machine itself has confirmed stands against it, and the
// contradiction is shown.
func (r *Result) hear(p *facts.Facts) {
	for _, given := range p.Answers {
		q, a, ok := lookup(given)
		if !ok {
			continue
		}
		words := fmt.Sprintf("“%s” Answer: %s", q.Text, a.Text)
		for i := range r.Suspects {
			s := &r.Suspects[i]
			clears, points := slices.Contains(a.Clears, s.Fault.ID), slices.Contains(a.Points, s.Fault.ID)
			switch {
			case clears && s.Standing == fault.Confirmed:
				s.Against = append(s.Against, words+"; but it was confirmed")
			case clears:
				s.Standing, s.finding = fault.Cleared, fault.Finding{Standing: fault.Cleared}
				s.Against = append(s.Against, words)
			case points && s.Standing == fault.Possible && s.Fault.Relevant(p, s.Zone):
				s.Standing = fault.Supported
				s.For = append(s.For, words)
				s.finding = fault.Finding{Standing: fault.Supported, Sentence: s.Fault.Title() + ", by what was tried by hand.",
					Next: []string{s.Fault.Explanation()}}
			case points && s.Standing == fault.Supported:
				s.For = append(s.For, words)
			}
		}
	}
}

// mostQuestions is how many are put at once: the one that parts most first.
const mostQuestions = 2

// ask chooses the questions whose answers would part the suspects that are left in different zones. There is none while the verdict is
// certain, or more may come.
func (r *Result) ask(p *facts.Facts) {
	if r.Zone == zone.None || r.Confidence == Certain || len(p.Open) > 0 {
		return
	}
	var left []Suspect
	var follows []fault.ID // from what was found
	if cause, ok := r.Suspect(r.Fault); ok {
		follows = cause.Fault.Explains
	}
	for _, s := range r.Suspects {
		if s.Standing.Holds() && !s.finding.Aside || s.Standing == fault.Possible && s.Fault.Relevant(p, s.Zone) &&
			!slices.Contains(follows, s.Fault.ID) {
			left = append(left, s)
		}
	}
	type choice struct {
		q     Question
		parts int
	}
	var found []choice
	for _, q := range Questions {
		if slices.ContainsFunc(p.Answers, func(x evidence.Answer) bool { return x.Question == q.ID }) || q.About != "" &&
			!among(left, q.About) {
			continue
		}
		if n, _ := parts(q.Answers, left); n > 0 {
			found = append(found, choice{q, n})
		}
	}
	slices.SortStableFunc(found, func(a, b choice) int {
		return cmp.Or(cmp.Compare(min(len(b.q.About), 1), min(len(a.q.About), 1)), b.parts-a.parts)
	})
	for _, c := range found[:min(len(found), mostQuestions)] {
		q := Question{ID: c.q.ID, Text: c.q.Text}
		for _, a := range c.q.Answers { // of what an answer clears, what is still open matters
			shown := Choice{ID: a.ID, Text: a.Text}
			for _, s := range left {
				if slices.Contains(a.Clears, s.Fault.ID) && s.Standing != fault.Confirmed {
					shown.Clears = append(shown.Clears, s.Fault.ID)
				}
				if slices.Contains(a.Points, s.Fault.ID) {
					shown.Points = append(shown.Points, s.Fault.ID)
				}
			}
			q.Answers = append(q.Answers, shown)
		}
		r.Questions = append(r.Questions, q)
	}
}

func among(left []Suspect, id fault.ID) bool {
	return slices.ContainsFunc(left, func(s Suspect) bool { return s.Fault.ID == id })
}

// parts counts the pairs of suspects, in different zones and in one, that answers would part: one is cleared and the other is not.
func parts(answers []Choice, left []Suspect) (across, within int) {
	for i, a := range left {
		for _, b := range left[:i] {
			for _, reply := range answers {
				clearsA := slices.Contains(reply.Clears, a.Fault.ID) && a.Standing != fault.Confirmed
				clearsB := slices.Contains(reply.Clears, b.Fault.ID) && b.Standing != fault.Confirmed
				switch {
				case clearsA == clearsB:
				case a.Zone == b.Zone:
					within++
				default:
					across++
				}
			}
		}
	}
	return across, within
}
