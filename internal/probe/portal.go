package probe

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/netip"
	"strings"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/target"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/machine"
)

// portalAnswer is what a captive portal's interface says (RFC 8908 §5). Captive is required there: a text without it is no such answer.
type portalAnswer struct {
	Captive *bool  `json:"captive"`
	Page    string `json:"user-portal-url"`
}

// AskPortal asks the interface of a captive portal whether this machine must log in (RFC 8908 §4).
func AskPortal(ctx context.Context, m machine.Machine, e *endpoint.Endpoint, url string) evidence.Portal {
	out := evidence.Portal{URL: wiretext.Clean(url)}
	w, body := fetch(ctx, m, e, url, http.Header{"Accept": {"application/captive+json"}}, mostPortal)
	out.Reply = w.Reply
	if w.Outcome == evidence.Answered {
		readPortal(body, &out)
	}
	return out
}

// leadsHere says why a web address that the network names is not asked for: whoever is on the network can name one, and what answers on
// this machine itself, or to nobody but it, would do as told.
func leadsHere(e *endpoint.Endpoint) func(netip.Addr) string {
	return func(a netip.Addr) string {
		a = a.Unmap()
		switch {
		case e.Owns(a):
			return fmt.Sprintf("the network names an address that leads to this machine itself, %v: not asked", a)
		case a.IsLinkLocalUnicast(), a.IsUnspecified(), a.IsMulticast():
			return fmt.Sprintf("the network names an address that is no server's, %v: not asked", a)
		}
		return ""
	}
}

// fetch asks for a web address that the network names, without the query in it, and reads up to most octets of what it gives.
func fetch(ctx context.Context, m machine.Machine, e *endpoint.Endpoint, url string, header http.Header, most int64) (evidence.Web,
	[]byte) {
	fail := func(reason string) (evidence.Web, []byte) {
		return evidence.Web{Reply: evidence.Reply{Outcome: evidence.LocalError, Reason: reason}}, nil
	}
	url, _, _ = strings.Cut(url, "?") // a query could be an order
	t, err := target.Parse(url)
	if err != nil || t.URL == "" {
		return fail("what the network names is no http address")
	}
	addrs, _, err := Resolve(ctx, m, e, t, evidence.Families{})
	if err != nil || len(addrs) == 0 {
		return fail("its name leads nowhere")
	}
	w, body, _ := webRequest{target: t, to: netip.AddrPortFrom(addrs[0], t.Port), header: header, most: most,
		refuses: leadsHere(e)}.send(ctx, m)
	return w, body
}

// mostPortal is how much of an answer is read, in octets: a few hundred are usual.
const mostPortal = 16 << 10

// readPortal takes in what the interface says; a text that is not what RFC 8908 §5 asks for says nothing.
func readPortal(body []byte, out *evidence.Portal) {
	var a portalAnswer
	if json.Unmarshal(body, &a) != nil || a.Captive == nil {
		return
	}
	out.Captive, out.Page = evidence.CaptiveNo, wiretext.Clean(a.Page)
	if *a.Captive {
		out.Captive = evidence.CaptiveYes
	}
}
