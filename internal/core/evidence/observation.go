package evidence

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"

	"passepartout/internal/core/endpoint"
)

// Observation is one piece of evidence as a log has it. What there is to be known of a sort of observation (its name in a log, the kinds of
// evidence it brings, where it belongs in a Set, in which order two of it stand) stands in one row of the table of sorts.
type Observation interface{ observation() }

// What is observed of a machine and of others is of a type of its own where a Set holds it in another form.
type (
	// Route is the system's own answer to "how would you reach this?".
	Route endpoint.RouteAnswer
	// OwnEcho is an echo of the loopback address.
	OwnEcho Echo
	// ElsewhereLookup is a look-up at a server that is not set here.
	ElsewhereLookup Lookup
	// Sweep is how far the segment has been gone through.
	Sweep struct {
		Asked int // addresses that were asked to their end
		Done  bool
	}
	// Change is a change of this machine's settings while the questions were under way, in words.
	Change string
)

func (Route) observation()           {}
func (OwnEcho) observation()         {}
func (ElsewhereLookup) observation() {}
func (Sweep) observation()           {}
func (Change) observation()          {}
func (Neighbour) observation()       {}
func (Heard) observation()           {}
func (Arrival) observation()         {}
func (Discovery) observation()       {}
func (Conflict) observation()        {}
func (Lookup) observation()          {}
func (InterfaceCount) observation()  {}
func (Echo) observation()            {}
func (Connect) observation()         {}
func (Web) observation()             {}
func (ShortConnect) observation()    {}
func (Portal) observation()          {}
func (ProxyScript) observation()     {}
func (FarEnd) observation()          {}
func (Answer) observation()          {}
func (OtherWay) observation()        {}
func (Hop) observation()             {}
func (Burst) observation()           {}
func (Sizing) observation()          {}
func (Handoff) observation()         {}
func (Advertisement) observation()   {}
func (Information) observation()     {}
func (Chosen) observation()          {}
func (Named) observation()           {}
func (Withheld) observation()        {}

// sort is all that is known of one sort of observation.
type sort struct {
	name   string
	kinds  []Kind // of evidence that it brings; none: it is no answer to a question
	shape  reflect.Type
	take   func(*Set, Observation)
	order  func(*Set) // puts a Set's own copy of the list in order; nil: there is but one
	decode func([]byte) (Observation, error)
}

// sortOf makes the row of a sort that a Set keeps in a list of its own type.
func sortOf[T Observation](name string, list func(*Set) *[]T, by func(a, b T) int, kinds ...Kind) *sort {
	return sortAs(name, list, func(o T) T { return o }, by, kinds...)
}

// sortAs makes the row of a sort that a Set keeps as values of another type.
func sortAs[T Observation, V any](name string, list func(*Set) *[]V, as func(T) V, by func(a, b V) int, kinds ...Kind) *sort {
	s := sortTaken(name, func(set *Set, o T) { l := list(set); *l = append(*l, as(o)) }, kinds...)
	s.order = func(set *Set) {
		l := list(set)
		*l = slices.Clone(*l)
		slices.SortStableFunc(*l, by)
	}
	return s
}

// sortTaken makes the row of a sort that a Set takes in by some other way than a list.
func sortTaken[T Observation](name string, take func(*Set, T), kinds ...Kind) *sort {
	return &sort{name: name, kinds: kinds, shape: reflect.TypeFor[T](), take: func(set *Set, o Observation) { take(set, o.(T)) },
		decode: func(raw []byte) (Observation, error) {
			var o T
			err := json.Unmarshal(raw, &o)
			return o, err
		}}
}

// byShape and byName find a sort.
var byShape, byName = index(sorts)

func index(all []*sort) (map[reflect.Type]*sort, map[string]*sort) {
	shapes, names := map[reflect.Type]*sort{}, map[string]*sort{}
	for _, s := range all {
		shapes[s.shape], names[s.name] = s, s
	}
	return shapes, names
}

// Take adds an observation. Sets that were handed out before are not touched: lists only ever grow.
func (s *Set) Take(o Observation) { sortFor(o).take(s, o) }

// Brings are the kinds of evidence that an observation is of.
func Brings(o Observation) []Kind { return sortFor(o).kinds }

// sortFor panics on an observation without a row in the table, which is a mistake of ours; a test goes over all of them.
func sortFor(o Observation) *sort {
	s := byShape[reflect.TypeOf(o)]
	if s == nil {
		panic(fmt.Sprintf("%T has no row in the table of sorts", o))
	}
	return s
}

// SortName is what a log calls an observation of that sort.
func SortName(o Observation) string { return sortFor(o).name }

// SortNames lists the names of all sorts, in the order of the table.
func SortNames() []string {
	out := make([]string, len(sorts))
	for i, s := range sorts {
		out[i] = s.name
	}
	return out
}

// Decode reads an observation of the named sort from a log.
func Decode(name string, raw []byte) (Observation, error) {
	s := byName[name]
	if s == nil {
		return nil, fmt.Errorf("no observation is called %q", clip(name))
	}
	o, err := s.decode(raw)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return o, nil
}

// Ordered is a copy whose lists are in an order of their own, so that nothing can depend on the order of arrival.
func (s *Set) Ordered() *Set {
	out := *s
	for _, x := range sorts {
		if x.order != nil {
			x.order(&out)
		}
	}
	return &out
}

func clip(s string) string {
	if len(s) > 40 {
		return s[:37] + "..."
	}
	return s
}
