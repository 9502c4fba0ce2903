package change

import (
	"errors"
	"fmt"
	"slices"

	"passepartout/internal/core/wording"
)

// Plan is how a change is done, and undone. It holds for the settings that it was worked out from.
type Plan struct {
	From, To Settings
	Steps    []Step
	Warnings []Warning
}

// Step is one step of a plan, with what it alters.
type Step struct {
	Op
	Before, After string // what is so before it, and after; "" where there is nothing
}

// ErrStale is that of a plan whose settings are not what they were when it was worked out.
var ErrStale = errors.New("the settings have changed since this was worked out; look at it again")

// Work works a change out.
func Work(c Change, from Settings, known Known) (Plan, error) {
	to, err := c.To(from)
	if err != nil {
		return Plan{}, err
	}
	was, is := from.bench(), to.bench()
	for _, r := range from.Routes {
		if !is.has(r) && was.entries[r.entry()] > 1 {
			return Plan{}, fmt.Errorf("the route %v has several next hops, and could not be put back as it was: nothing is done", r)
		}
	}
	ops, err := Way(from, to)
	if err != nil {
		return Plan{}, fmt.Errorf("there is no way there: %w", err)
	}
	for i, o := range ops { // a way knows settings, and not how long they last
		if o.Do != AddAddress {
			continue
		}
		if s := c.Set; s != nil && o.Interface == s.Interface && o.Prefix == s.Address {
			ops[i].For = s.For
		}
		for _, s := range c.Steps {
			if s.Do == AddAddress && o.Interface == s.Interface && o.Prefix == s.Prefix {
				ops[i].For = s.For
			}
		}
	}
	if ByClient(c.Steps) {
		ops = c.Steps
	}
	if s := c.Set; s != nil && s.For > 0 && slices.Contains(from.Addresses, Address{s.Interface, s.Address}) &&
		!slices.ContainsFunc(ops, func(o Op) bool { return o.Do == AddAddress && o.Prefix == s.Address }) {
		ops = append(ops, Op{Do: KeepAddress, Interface: s.Interface, Prefix: s.Address, For: s.For})
	}
	if c.Lease() != nil { // its settings are not this side's choice: what is wrong with them is a fault of the server
		known.Home = nil
	}
	p, err := Along(from, ops)
	p.Warnings = slices.DeleteFunc(warnings(from, to, known), func(w Warning) bool { // who manages it does it himself
		return (Keeps(ops) || ByClient(ops)) && w.ID == ManagerUndoes
	})
	return p, err
}

// Along is the plan of steps that are known.
func Along(from Settings, ops []Op) (Plan, error) {
	p := Plan{From: from, To: from.Clone()}
	at := p.To.bench()
	for _, o := range ops {
		before, after := altered(&p.To, o)
		if err := at.apply(o); err != nil {
			return Plan{}, fmt.Errorf("%v: %w", o, err)
		}
		p.Steps = append(p.Steps, Step{o, before, after})
	}
	p.To.sort()
	return p, nil
}

// altered says what is so before and after a step.
func altered(s *Settings, o Op) (before, after string) {
	link, _ := s.Link(o.Interface)
	switch o.Do {
	case AddAddress:
		return "", o.Prefix.String()
	case RemoveAddress, ReleaseLease:
		return o.Prefix.String(), ""
	case KeepAddress:
		return o.Prefix.String(), fmt.Sprintf("%v for %s", o.Prefix, wording.Lasting(o.For))
	case AddRoute:
		return "", o.Route().String()
	case RemoveRoute:
		return o.Route().String(), ""
	case AddNeighbour:
		return "", fmt.Sprintf("%v at %v", o.Address, o.Hardware)
	case RemoveNeighbour:
		return fmt.Sprintf("%v at %v", o.Address, o.Hardware), ""
	case SwitchOn, SwitchOff:
		words := map[bool]string{true: "on", false: "off"}
		return words[link.Up], words[o.Do == SwitchOn]
	case SetMTU:
		return fmt.Sprint(link.MTU), fmt.Sprint(o.MTU)
	case AddRule:
		return "", o.Rule().String()
	case RemoveRule:
		return o.Rule().String(), ""
	case Store:
		kept, _ := s.stored(o.Interface)
		return kept.Part, o.Text
	case AddHost:
		return "", o.Host().String()
	case RemoveHost:
		return o.Host().String(), ""
	case SetSources:
		return s.Sources, o.Name
	case SetResolvers:
		return listed(s.Resolvers), listed(o.Resolvers)
	}
	return "", ""
}

// Ops are its steps, without what they alter.
func (p *Plan) Ops() (out []Op) {
	for _, s := range p.Steps {
		out = append(out, s.Op)
	}
	return out
}

// Fresh refuses a plan that was worked out from other settings than those of now.
func (p *Plan) Fresh(now Settings) error {
	if !p.From.Equal(&now) {
		return ErrStale
	}
	return nil
}
