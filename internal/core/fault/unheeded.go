package fault

import (
	"fmt"

	"passepartout/internal/core/evidence"
)

// ResolversUnheeded: more name servers are set than programs ask.
var ResolversUnheeded = &Fault{
	ID: "resolvers-unheeded", Zone: Host, Scope: OfMachine, Matters: ByReach, Check: "resolvers", Needs: []evidence.Kind{evidence.Settings},
	Doc: `More name servers are set than are asked
The resolver library asks the first three name servers of its file and passes over the rest. Whoever counts on the fourth counts on nothing:
while the first three are down, names fail although a server that works stands in the file. Move the one that matters to the front.`,
	Judge: func(p *Pass) Finding {
		if p.Endpoint == nil {
			return possible("the machine's settings have not been read")
		}
		const heeded = 3
		if n := len(p.Resolvers); n > heeded {
			return found(Supported, fmt.Sprintf("%d name servers are set, and only the first %d are asked.", n, heeded),
				fmt.Sprintf("%v is never asked", p.Resolvers[heeded].Address)).aside(true).
				next("Keep three name servers, and move the one that matters to the front.")
		}
		return cleared("no more name servers are set than are asked")
	},
}
