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
	read(&out, m, dns.ClassINET)
	return out, true
}

// ReadPortal takes what a captive portal's interface says from bytes, as AskPortal does.
func ReadPortal(b []byte) (out evidence.Portal) {
	readPortal(b, &out)
	return out
}

// ReadScript reads a file of automatic proxy configuration, as FetchProxyScript does.
var ReadScript = readScript

// EchoPayload is what an echo request of that size, number and flow carries.
var EchoPayload = echoPayload
