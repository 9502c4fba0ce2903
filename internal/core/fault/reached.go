package fault

import (
	"fmt"
	"net/netip"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
)

// spared gives the reason why nothing that stands between this machine and the target can be the cause: the target itself has spoken, or
// its name led nowhere while name servers answered, so that it was never asked.
func spared(p *facts.Facts) (string, bool) {
	if why, is := unasked(p); is {
		return why, true
	}
	for _, a := range p.Addresses {
		spoke := false
		p.EachReply(func(_ netip.Addr, r evidence.Reply, _ int) { spoke = spoke || r.Came() && r.From == a })
		if spoke {
			return fmt.Sprintf("%v itself has answered", a), true
		}
	}
	return "", false
}

// unasked reports that the target could not be asked, since the name servers, which speak, have no address for it.
func unasked(p *facts.Facts) (string, bool) {
	if p.NameFailed() {
		for _, r := range p.Resolvers {
			if r.Speaks == facts.Yes {
				return "the target was not asked: its name leads nowhere", true
			}
		}
	}
	return "", false
}
