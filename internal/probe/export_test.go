package probe

import (
	"github.com/miekg/dns"

	"passepartout/internal/core/evidence"
)

// ReadAnswer takes an answer from bytes, as Lookup does.
func ReadAnswer(b []byte) (evidence.Lookup, bool) {
	m := new(dns.Msg)
	if m.Unpack(b) != nil {
		return evidence.Lookup{}, false
	}
	var out evidence.Lookup
	read(&out, m)
	return out, true
}

// EchoPayload is what an echo request of that size, number and flow carries.
var EchoPayload = echoPayload
