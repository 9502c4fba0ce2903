package fault_test

import (
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

var waybackCases = []testCase{
	{name: "what is sent arrives, and nothing comes back", change: arrived(0, true, 5), zone: zone.Beyond, fault: "return-path-missing",
		confidence: verdict.Certain, says: "203.0.113.80", next: "route back"},
}
