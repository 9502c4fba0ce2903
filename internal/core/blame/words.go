package blame

import (
	"passepartout/internal/core/zone"
	"strings"
)

// Evidence says in one line on what an attribution rests.
func (o Outage) Evidence() string {
	nearer := join(o.Fine)
	switch {
	case o.Cause != "":
		return o.Cause
	case o.Zone == zone.Host:
		return "this machine did not send, or its own loopback did not answer"
	case nearer == "":
		return join(o.Failing) + " did not answer"
	}
	return nearer + " answered throughout; " + join(o.Failing) + " did not"
}

func join(names []string) string {
	switch n := len(names); n {
	case 0:
		return ""
	case 1:
		return names[0]
	default:
		return strings.Join(names[:n-1], ", ") + " and " + names[n-1]
	}
}
