package scenario

import (
	"context"
	"io"
	"log"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"time"
)

// Dial opens a connection from a node.
type Dial func(ctx context.Context, to netip.AddrPort) (net.Conn, error)

// Serve passes web requests on, or refuses them, on a listener until that is closed: the same proxy on every ground (RFC 9110 §3.7,
// §9.3.6). It knows the names of the node's hosts.
func (p *Proxy) Serve(l net.Listener, hosts map[string]netip.Addr, dial Dial) error {
	open := func(ctx context.Context, _, to string) (net.Conn, error) {
		host, port, err := net.SplitHostPort(to)
		if err != nil {
			return nil, err
		}
		addr, known := hosts[strings.ToLower(host)]
		if !known {
			return nil, &net.DNSError{Err: "no such name here", Name: host, IsNotFound: true}
		}
		number, err := net.DefaultResolver.LookupPort(ctx, "tcp", port)
		if err != nil {
			return nil, err
		}
		return dial(ctx, netip.AddrPortFrom(addr, uint16(number)))
	}
	forward := &http.Transport{Proxy: nil, DialContext: open, DisableKeepAlives: true}
	handler := func(w http.ResponseWriter, r *http.Request) {
		switch {
		case p.Refuses != 0:
			http.Error(w, "refused by the proxy", p.Refuses)
		case r.Method == http.MethodConnect:
			p.tunnel(w, r, open)
		default:
			r.RequestURI = ""
			answer, err := forward.RoundTrip(r)
			if err != nil {
				http.Error(w, err.Error(), http.StatusBadGateway)
				return
			}
			defer answer.Body.Close()
			for name, values := range answer.Header {
				w.Header()[name] = values
			}
			w.WriteHeader(answer.StatusCode)
			_, _ = io.Copy(w, answer.Body)
		}
	}
	server := &http.Server{ErrorLog: log.New(io.Discard, "", 0), ReadHeaderTimeout: 5 * time.Second, Handler: http.HandlerFunc(handler)}
	return server.Serve(l)
}

// tunnel joins the asker's connection with one to the service (RFC 9110 §9.3.6).
func (p *Proxy) tunnel(w http.ResponseWriter, r *http.Request, open func(context.Context, string, string) (net.Conn, error)) {
	far, err := open(r.Context(), "tcp", r.Host)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	defer far.Close()
	near, early, err := http.NewResponseController(w).Hijack()
	if err != nil {
		return
	}
	defer near.Close()
	_, _ = io.WriteString(near, "HTTP/1.1 200 Connection established\r\n\r\n")
	join(near, early, far)
}

// join passes on what comes from either side, until one of them ends.
func join(near io.Writer, from io.Reader, far io.ReadWriter) {
	done := make(chan struct{}, 2)
	for to, from := range map[io.Writer]io.Reader{far: from, near: far} {
		go func() {
			_, _ = io.Copy(to, from)
			done <- struct{}{}
		}()
	}
	<-done
}

// Serve accepts connections on a listener until that is closed, and passes each on.
func (r Relay) Serve(l net.Listener, dial Dial) error {
	return each(l, func(near net.Conn) {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		far, err := dial(ctx, r.To)
		if err != nil {
			return
		}
		defer far.Close()
		join(near, near, far)
	})
}
