package endpoint

import "slices"

// Difference says in words what changed in a machine's settings between two readings; "" for nothing that matters.
func Difference(was, is *Endpoint) string {
	for _, old := range was.Interfaces {
		now, ok := is.Interface(old.Name)
		switch {
		case !ok:
			return old.Name + " has gone"
		case old.Up != now.Up || old.Carrier != now.Carrier:
			return old.Name + " changed its state"
		case !slices.EqualFunc(old.Addresses, now.Addresses, func(a, b Address) bool { return a.Prefix == b.Prefix }):
			return "the addresses of " + old.Name + " changed"
		}
	}
	if len(is.Interfaces) > len(was.Interfaces) {
		return "a network port has come"
	}
	if !slices.Equal(was.Routes, is.Routes) {
		return "the routes changed"
	}
	if !slices.Equal(was.Resolvers, is.Resolvers) {
		return "the name servers changed"
	}
	return ""
}
