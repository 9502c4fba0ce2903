package ticket

import (
	"cmp"
	"regexp"
	"slices"
	"strings"

	"passepartout/internal/core/fault"
	"passepartout/internal/core/state"
	"passepartout/internal/core/verdict"
)

// Pair is a value of two cases. An empty one is not there in its case.
type Pair struct {
	Name        string
	Left, Right string
	Parts       bool // the two are not the same, but for times
}

// Matter is what two cases have to say of one thing.
type Matter struct {
	Title string
	Pairs []Pair
}

// Beside lays two cases side by side, in the order in which one asks: what was found, check by check, the settings, the names, the way, and
// the suspects that do not stand alike.
func Beside(left, right *state.State) (out []Matter) {
	setLeft, l := left.Shown()
	setRight, r := right.Shown()
	a, b := Of(left, About{}), Of(right, About{})
	add := func(title string, pairs []Pair) {
		if len(pairs) > 0 {
			out = append(out, Matter{title, pairs})
		}
	}
	add(said, paired(verdictRows(left, setLeft, l), verdictRows(right, setRight, r), "stands"))
	add("Checks", checkPairs(l, r))
	for _, title := range []string{machine, names, way} {
		add(title, paired(a.rows(title), b.rows(title), "date and time", "complaint", "written by"))
	}
	add("Suspects", suspectPairs(l, r))
	return out
}

func (t Ticket) rows(title string) []Row {
	i := slices.IndexFunc(t.Sections, func(s Section) bool { return s.Title == title })
	if i < 0 {
		return nil
	}
	return t.Sections[i].Rows
}

// paired puts rows of one name together in their order; what is left out is of no interest beside another case.
func paired(left, right []Row, leftOut ...string) (out []Pair) {
	a, order := byName(left)
	b, more := byName(right)
	for _, name := range more {
		if !slices.Contains(order, name) {
			order = append(order, name)
		}
	}
	for _, name := range order {
		if slices.Contains(leftOut, name) {
			continue
		}
		for i := range max(len(a[name]), len(b[name])) {
			p := Pair{Name: name, Left: at(a[name], i), Right: at(b[name], i)}
			if i > 0 {
				p.Name = ""
			}
			p.Parts = timeless(p.Left) != timeless(p.Right)
			if p.Left != "" || p.Right != "" {
				out = append(out, p)
			}
		}
	}
	return out
}

func at(values []string, i int) string {
	if i < len(values) {
		return values[i]
	}
	return ""
}

func byName(rows []Row) (values map[string][]string, order []string) {
	values = map[string][]string{}
	name := ""
	for _, r := range rows {
		if name = cmp.Or(r.Name, name); r.Name != "" && values[name] == nil {
			order = append(order, name)
		}
		values[name] = append(values[name], r.Value)
	}
	return values, order
}

// untold is what two cases never share: how long something took, and when it was.
var untold = regexp.MustCompile(`\d{4}-\d{2}-\d{2} \d{2}:\d{2}:\d{2}( [+-]\d{2}:\d{2})?( [A-Z]+)?|\b\d+(\.\d+)? ?(ns|µs|ms|s|min|h)\b`)

func timeless(s string) string { return untold.ReplaceAllString(s, "") }

func checkPairs(l, r verdict.Result) (out []Pair) {
	of := func(list []verdict.Check, id string) (text string) {
		if i := slices.IndexFunc(list, func(c verdict.Check) bool { return c.ID == id }); i >= 0 {
			text = list[i].State.String() + ": " + list[i].Fact
		}
		return text
	}
	seen := map[string]bool{}
	for _, c := range slices.Concat(l.Checks, r.Checks) {
		if seen[c.ID] {
			continue
		}
		seen[c.ID] = true
		p := Pair{Name: c.Label, Left: of(l.Checks, c.ID), Right: of(r.Checks, c.ID)}
		p.Parts = timeless(p.Left) != timeless(p.Right)
		out = append(out, p)
	}
	return out
}

// suspectPairs are the suspects that stand otherwise in one case than in the other.
func suspectPairs(l, r verdict.Result) (out []Pair) {
	for _, f := range fault.Catalogue {
		a, known := l.Suspect(f.ID)
		b, too := r.Suspect(f.ID)
		if known && too && a.Standing != b.Standing && max(a.Standing, b.Standing) >= fault.Supported {
			out = append(out, Pair{string(f.ID), standing(a), standing(b), true})
		}
	}
	return out
}

func standing(s verdict.Suspect) string {
	words := s.Standing.String()
	why := s.For
	if s.Standing == fault.Cleared {
		why = s.Against
	}
	if len(why) > 0 {
		words += ": " + strings.Join(why[:1], "")
	}
	return words
}
