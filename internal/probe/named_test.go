package probe_test

import (
	"bufio"
	"context"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/target"
	"passepartout/internal/machine"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/probe"
)

// led is a machine all of whose connections lead to one server of the test, and are noted.
type led struct {
	machine.Machine
	to    net.Addr
	asked []netip.AddrPort
}

func (l *led) Connect(_ context.Context, c machine.ConnectConfig) (net.Conn, evidence.Reply) {
	l.asked = append(l.asked, c.To)
	conn, err := net.Dial("tcp", l.to.String())
	if err != nil {
		return nil, evidence.Reply{Outcome: evidence.Refused}
	}
	return conn, evidence.Reply{Outcome: evidence.Answered, From: c.To.Addr()}
}

// serve answers every connection so, and gives what was asked first; gone is closed when the other side has closed the connection.
func serve(t *testing.T, answer string) (l net.Listener, requests chan *http.Request, gone chan struct{}) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	requests, gone = make(chan *http.Request, 1), make(chan struct{})
	go func() {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		defer conn.Close()
		r := bufio.NewReader(conn)
		q, err := http.ReadRequest(r)
		if err != nil {
			return
		}
		requests <- q
		_, _ = conn.Write([]byte(answer))
		_, _ = r.ReadByte()
		close(gone)
	}()
	return l, requests, gone
}

// A server that switches protocols and then keeps silent holds nobody up, and no connection stays open.
func TestSwitchingProtocolsHoldsNobodyUp(t *testing.T) {
	l, _, gone := serve(t, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: anything\r\n\r\n")
	m := &led{Machine: at(t, "healthy", simulated.Options{}), to: l.Addr()}
	want, err := target.Parse("http://bookings.kittiwake.example/")
	require.NoError(t, err)
	began := time.Now()
	w := probe.AskWeb(within(t, 5*time.Second), m, want, bookings, "")
	assert.Equal(t, http.StatusSwitchingProtocols, w.Status)
	assert.Less(t, time.Since(began), 3*time.Second)
	select {
	case <-gone:
	case <-time.After(3 * time.Second):
		t.Fatal("the connection is still open")
	}
}

// What a network names may be an order to this machine: nothing is asked here, and no query is passed on.
func TestWhatTheNetworkNamesIsNotAskedHere(t *testing.T) {
	l, requests, _ := serve(t, "HTTP/1.1 200 OK\r\nContent-Length: 18\r\nConnection: close\r\n\r\n{\"captive\": false}")
	m := &led{Machine: at(t, "healthy", simulated.Options{}), to: l.Addr()}
	e, err := m.Read(t.Context())
	require.NoError(t, err)
	e.Hosts = append(e.Hosts, endpoint.HostsLine{Address: netip.MustParseAddr("127.0.0.1"), Names: []string{"helper.kittiwake.example"}})
	for _, named := range []string{"http://127.0.0.1:8123/admin?reboot=1", "http://[::1]:8123/", "http://172.27.40.23/", "http://0.0.0.0/",
		"http://169.254.169.254/latest", "http://[fe80::1]/", "http://helper.kittiwake.example/", "http://[::ffff:127.0.0.1]/"} {
		p := probe.AskPortal(within(t, 3*time.Second), m, e, named)
		assert.Equal(t, evidence.LocalError, p.Outcome, named)
		assert.NotEmpty(t, p.Reason, named)
		s := probe.FetchProxyScript(within(t, 3*time.Second), m, e, named)
		assert.Equal(t, evidence.LocalError, s.Outcome, named)
		proxy, err := url.Parse(named)
		require.NoError(t, err)
		want, err := target.Parse("http://bookings.kittiwake.example/")
		require.NoError(t, err)
		assert.Equal(t, evidence.LocalError, probe.AskWebVia(within(t, 3*time.Second), m, e, want, proxy, true).Outcome, named)
	}
	assert.Empty(t, m.asked, "nobody was asked")
	p := probe.AskPortal(within(t, 3*time.Second), m, e, "http://172.27.40.70/api?order=restart#now")
	assert.Equal(t, evidence.CaptiveNo, p.Captive, p.Reason)
	q := <-requests
	assert.Equal(t, "/api", q.RequestURI, "without the query")
	assert.Equal(t, http.MethodGet, q.Method)
}
