package plan

import "slices"

// steps is the plan: everything that can be asked. Their order is the order in which they are begun when several make sense at once.
var steps = slices.Concat(hostSteps, segmentSteps, dhcpSteps, nameSteps, targetSteps, pathSteps, handoffSteps, webSteps, qualitySteps)
