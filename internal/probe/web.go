package probe

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/target"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/machine"
)

// AskWeb sends one request for the target's URL to one address of it, follows no redirect, and reads no more than the head. Any status is
// an answer. When no secure connection comes about, it asks once more without looking at the certificate, only to learn what the service
// shows and what time it has.
func AskWeb(ctx context.Context, m machine.Machine, t target.Target, to netip.Addr, iface string) evidence.Web {
	q := webRequest{target: t, to: netip.AddrPortFrom(to, t.Port), iface: iface}
	out, _, err := q.send(ctx, m)
	if err == nil || !t.TLS || out.Outcome != evidence.Malformed {
		return out
	}
	var shown *x509.Certificate
	if out.Spoke != "" {
		return out
	}
	out.Flaw, shown = flawOf(err, time.Now())
	if out.Flaw == evidence.NoSecureConnection {
		return out
	}
	if shown != nil {
		out.Shown = certificateOf(shown)
	}
	q.unverified = true
	again, _, _ := q.send(ctx, m)
	out.Date, out.At = again.Date, again.At
	return out
}

// flawOf tells why the other side's certificate was refused, and gives it.
func flawOf(err error, now time.Time) (evidence.TLSFlaw, *x509.Certificate) {
	var shown *x509.Certificate
	var refused *tls.CertificateVerificationError
	if !errors.As(err, &refused) {
		return evidence.NoSecureConnection, nil
	}
	if len(refused.UnverifiedCertificates) > 0 {
		shown = refused.UnverifiedCertificates[0]
	}
	var invalid x509.CertificateInvalidError
	var another x509.HostnameError
	switch {
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired && invalid.Cert != nil && now.Before(invalid.Cert.NotBefore):
		return evidence.CertificateNotYetValid, shown
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		return evidence.CertificateExpired, shown
	case errors.As(err, &another):
		return evidence.CertificateOfAnother, shown
	}
	return evidence.CertificateUntrusted, shown
}

func certificateOf(c *x509.Certificate) evidence.Certificate {
	out := evidence.Certificate{Issuer: wiretext.Clean(c.Issuer.String()), NotBefore: c.NotBefore, NotAfter: c.NotAfter}
	for _, name := range c.DNSNames {
		if len(out.Names) < 8 {
			out.Names = append(out.Names, wiretext.Clean(name))
		}
	}
	if len(out.Names) == 0 {
		out.Names = []string{wiretext.Clean(c.Subject.String())}
	}
	return out
}

// webRequest is one request, and whom it is sent to.
type webRequest struct {
	target     target.Target
	to         netip.AddrPort // the service's address, or the proxy's
	proxy      *url.URL       // set: to is a proxy's, which is asked to pass the request on
	iface      string
	header     http.Header
	unverified bool // whatever certificate is shown
	// why a request that the network has named is not sent to an address; "" if it is. nil: whoever is asked was named by this machine's user
	refuses func(netip.Addr) string
	most    int64
}

// send sends the request and reads up to most octets of the answer's body. With ctx it ends, whatever the other side does: an upgraded
// connection is nobody's to read (RFC 9110 §15.2.2).
func (q webRequest) send(ctx context.Context, m machine.Machine) (out evidence.Web, body []byte, err error) {
	out = evidence.Web{URL: q.target.URL, To: q.to}
	if q.proxy != nil {
		out.Via = wiretext.Clean(q.proxy.Host)
	}
	reply := evidence.Reply{}
	var said opening
	var conn net.Conn
	defer func() {
		if conn != nil {
			conn.Close()
		}
	}()
	transport := &http.Transport{
		DisableKeepAlives: true,
		Proxy:             http.ProxyURL(q.proxy),
		TLSClientConfig: &tls.Config{RootCAs: m.Roots(), ServerName: q.target.Host(), MinVersion: tls.VersionTLS12,
			InsecureSkipVerify: q.unverified},
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			if q.refuses != nil {
				if why := q.refuses(q.to.Addr()); why != "" {
					reply = evidence.Reply{Outcome: evidence.LocalError, Reason: why}
					return nil, errors.New(why)
				}
			}
			opened, r := m.Connect(ctx, machine.ConnectConfig{To: q.to, Interface: q.iface})
			if reply = r; r.Outcome != evidence.Answered {
				return nil, errors.New(r.Outcome.String())
			}
			conn = opened
			return &overheard{Conn: opened, said: &said}, nil
		},
		OnProxyConnectResponse: func(_ context.Context, _ *url.URL, _ *http.Request, r *http.Response) error {
			out.Status = r.StatusCode // replaced when the service itself answers
			return nil
		},
		MaxResponseHeaderBytes: 64 << 10,
	}
	defer transport.CloseIdleConnections()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, q.target.URL, nil)
	if err != nil {
		out.Reply = evidence.Reply{Outcome: evidence.LocalError, Reason: "the URL cannot be asked for"}
		return out, nil, err
	}
	for name, values := range q.header {
		req.Header[name] = values
	}
	began := time.Now()
	resp, err := transport.RoundTrip(req)
	if err != nil {
		switch {
		case ctx.Err() != nil:
			out.Reply = evidence.Reply{Outcome: evidence.Silent, Waited: time.Since(began)}
		case reply.Outcome != evidence.Answered: // nobody was there to be asked
			out.Reply = reply
		default:
			out.Reply = evidence.Reply{Outcome: evidence.Malformed, From: q.to.Addr(), RTT: time.Since(began),
				Reason: wiretext.Clean(err.Error())}
			if q.proxy == nil {
				out.Spoke = said.other(q.target.TLS)
			}
		}
		return out, nil, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusSwitchingProtocols {
		body, _ = io.ReadAll(io.LimitReader(resp.Body, max(q.most, 1<<10)))
	}
	out.Status, out.Location = resp.StatusCode, wiretext.Clean(resp.Header.Get("Location"))
	out.Relay = wiretext.Clean(resp.Header.Get("Via"))
	out.Reply = evidence.Reply{Outcome: evidence.Answered, From: q.to.Addr(), RTT: time.Since(began)}
	out.At = time.Now()
	if date, err := http.ParseTime(resp.Header.Get("Date")); err == nil {
		out.Date = date
	}
	return out, body, nil
}
