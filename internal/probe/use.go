package probe

import (
	"context"
	"errors"
	"net/netip"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/target"
	"passepartout/internal/machine"
	"passepartout/internal/nap"
)

// UseQuestion is one trial of a target.
type UseQuestion struct {
	Target   target.Target
	Families evidence.Families
	Request  bool          // send the request of a URL as well, and not only open its connection
	Patience time.Duration // for each step; 0: as long as a lost first packet may take
}

// Use is how a target fares when a program here wants to use it. Step is where it failed, What became of it there: the same words for the
// same failure.
type Use struct {
	Works bool
	Step  string
	What  string
	Took  time.Duration
}

// The steps of a trial.
const (
	StepName       = "name"
	StepConnection = "connection"
	StepRequest    = "request"
)

// usePatience: a lost first packet of a connection is sent again after a second (RFC 6298 §2).
const usePatience = 1600 * time.Millisecond

// usePorts are asked when the target names none: any answer of its own shows that it is there.
var usePorts = []uint16{443, 80}

// TryUse tries the target once, as programs on the machine do: by the hosts file and the name servers, then by a connection to the first
// address that accepts one, or by way of the proxy that is set, then, if it is a URL, by a request.
func TryUse(ctx context.Context, m machine.Machine, e *endpoint.Endpoint, q UseQuestion) (u Use) {
	began := time.Now()
	defer func() { u.Took = time.Since(began) }()
	t := q.Target
	if proxy, _ := e.ProxyFor(t.URL); t.URL != "" && proxy != nil {
		if !q.Request {
			return Use{Works: true} // what stands behind the proxy shows only when it is asked
		}
		return useOf(AskWebVia(ctx, m, e, t, proxy, false))
	}
	if q.Patience == 0 {
		q.Patience = usePatience
	}
	ask, cancel := nap.Within(ctx, q.Patience)
	addrs, _, err := Resolve(ask, m, e, t, q.Families)
	cancel()
	if err != nil {
		u = Use{Step: StepName, What: "no name server is set"}
		if why := (*Unresolved)(nil); errors.As(err, &why) {
			u.What = why.Why()
		}
		return u
	}
	u = Use{Step: StepConnection, What: "no answer"}
	const most = 3 // addresses that are tried, one after the other
	for _, a := range addrs[:min(len(addrs), most)] {
		if u = useAddress(ctx, m, q, a); u.Works || ctx.Err() != nil {
			return u
		}
	}
	return u
}

func useAddress(ctx context.Context, m machine.Machine, q UseQuestion, a netip.Addr) Use {
	ports := usePorts
	if q.Target.Port != 0 {
		ports = []uint16{q.Target.Port}
	}
	out := Use{Step: StepConnection}
	for _, port := range ports {
		ask, cancel := nap.Within(ctx, q.Patience)
		r := AskConnect(ask, m, machine.ConnectConfig{To: netip.AddrPortFrom(a, port)})
		cancel()
		if r.Outcome == evidence.Answered || r.Outcome == evidence.Refused && q.Target.Port == 0 {
			out.Works = true
			break
		}
		out.What = replyWords(r)
	}
	if !out.Works || q.Target.URL == "" || !q.Request {
		return out
	}
	return useOf(AskWeb(ctx, m, q.Target, a, ""))
}

func useOf(w evidence.Web) Use {
	switch {
	case w.Flaw != evidence.NoFlaw:
		return Use{Step: StepRequest, What: w.Flaw.String()}
	case w.Outcome != evidence.Answered:
		return Use{Step: StepRequest, What: replyWords(w.Reply)}
	}
	return Use{Works: true}
}

func replyWords(r evidence.Reply) string {
	switch r.Outcome {
	case evidence.Silent:
		return "no answer"
	case evidence.LocalError:
		return "not sent"
	}
	return r.Outcome.String()
}
