package probe

import (
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"net/http"
	"net/netip"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/target"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/machine"
)

// AskWeb sends one request for the target's URL to one address of it, follows no redirect, and reads no more than the head. Any status is an answer.
func AskWeb(ctx context.Context, m machine.Machine, t target.Target, to netip.Addr, iface string) evidence.Web {
	addr := netip.AddrPortFrom(to, t.Port)
	out := evidence.Web{URL: t.URL, To: addr}
	transport := &http.Transport{
		DisableKeepAlives: true,
		Proxy:             nil, // the path itself is judged, not a proxy's
		TLSClientConfig:   &tls.Config{RootCAs: m.Roots(), ServerName: t.Host(), MinVersion: tls.VersionTLS12},
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			conn, r := m.Connect(ctx, machine.ConnectConfig{To: addr, Interface: iface})
			if r.Outcome != evidence.Answered {
				return nil, errors.New(r.Outcome.String())
			}
			return conn, nil
		},
		MaxResponseHeaderBytes: 64 << 10,
	}
	defer transport.CloseIdleConnections()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, t.URL, nil)
	if err != nil {
		out.Reply = evidence.Reply{Outcome: evidence.LocalError, Reason: "the URL cannot be asked for"}
		return out
	}
	began := time.Now()
	resp, err := transport.RoundTrip(req)
	if err != nil {
		if ctx.Err() != nil {
			out.Reply = evidence.Reply{Outcome: evidence.Silent, Waited: time.Since(began)}
			return out
		}
		out.Reply = evidence.Reply{Outcome: evidence.Nonsense, From: to, RTT: time.Since(began), Reason: wiretext.Clean(err.Error())}
		return out
	}
	defer resp.Body.Close()
	_, _ = io.CopyN(io.Discard, resp.Body, 1<<10)
	out.Status, out.Location = resp.StatusCode, wiretext.Clean(resp.Header.Get("Location"))
	out.Reply = evidence.Reply{Outcome: evidence.Answered, From: to, RTT: time.Since(began)}
	return out
}
