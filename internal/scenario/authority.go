package scenario

import (
	"cmp"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"math/big"
	"net"
	"net/http"
	"sync"
	"time"
)

// Serve answers web requests on a listener until that is closed: the same service on every ground.
func (spec Web) Serve(l net.Listener, host string, a *Authority) error {
	if spec.Says != "" {
		return greet(l, spec.Says)
	}
	if spec.TLS {
		l = tls.NewListener(l, a.ConfigFor(host, spec.Cert))
	}
	server := &http.Server{ErrorLog: log.New(io.Discard, "", 0), ReadHeaderTimeout: 5 * time.Second,
		Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			spec.answer(w, host, a.now())
		})}
	return server.Serve(l)
}

// greet says the same to everybody who connects, waits for a word in return, and ends the connection.
func greet(l net.Listener, words string) error {
	return each(l, func(conn net.Conn) {
		_ = conn.SetDeadline(time.Now().Add(2 * time.Second))
		if _, err := io.WriteString(conn, words+"\r\n"); err == nil {
			_, _ = conn.Read(make([]byte, 512))
		}
	})
}

// each serves every connection that a listener accepts, beside the others, and closes it; until the listener is closed.
func each(l net.Listener, serve func(net.Conn)) error {
	for {
		conn, err := l.Accept()
		if err != nil {
			return err
		}
		go func() {
			defer conn.Close()
			serve(conn)
		}()
	}
}

func (spec Web) answer(w http.ResponseWriter, host string, now time.Time) {
	time.Sleep(time.Duration(spec.Slow))
	w.Header().Set("Date", now.UTC().Format(http.TimeFormat))
	if spec.Location != "" {
		w.Header().Set("Location", spec.Location)
	}
	if spec.Captive != nil {
		w.Header().Set("Content-Type", "application/captive+json")
		fmt.Fprintf(w, `{"captive": %v, "user-portal-url": "https://%s/log-in"}`, *spec.Captive, host)
		return
	}
	w.WriteHeader(cmp.Or(spec.Status, http.StatusOK))
	fmt.Fprintln(w, cmp.Or(spec.Body, host+": in service"))
}

// Authority signs the certificates of the site's services. Keys are made at the first use: most runs need none.
type Authority struct {
	ahead time.Duration // of the site's clocks before the endpoint's
	key   func() (*ecdsa.PrivateKey, *x509.Certificate)
	pool  func() *x509.CertPool
}

// Pool is what trusts the authority and nobody else.
func (a *Authority) Pool() *x509.CertPool { return a.pool() }

// PEM is the authority's certificate as a file holds it.
func (a *Authority) PEM() []byte {
	_, cert := a.key()
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: cert.Raw})
}

// now is the time by the site's clocks.
func (a *Authority) now() time.Time { return time.Now().Add(a.ahead) }

// NewAuthority makes an authority for a site whose endpoint's clock is so far ahead of all others: it is the others that are set back, on
// every ground.
func NewAuthority(clock time.Duration) *Authority {
	a := &Authority{ahead: -clock}
	a.key = sync.OnceValues(func() (*ecdsa.PrivateKey, *x509.Certificate) {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			panic(err) // the system has no randomness
		}
		template := certificate("North Pier test authority", a.now())
		template.IsCA, template.BasicConstraintsValid, template.KeyUsage = true, true, x509.KeyUsageCertSign
		der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
		if err != nil {
			panic(err) // our own template
		}
		cert, _ := x509.ParseCertificate(der)
		return key, cert
	})
	a.pool = sync.OnceValue(func() *x509.CertPool {
		_, cert := a.key()
		pool := x509.NewCertPool()
		pool.AddCert(cert)
		return pool
	})
	return a
}

func certificate(name string, now time.Time) *x509.Certificate {
	return &x509.Certificate{SerialNumber: big.NewInt(now.UnixNano()), Subject: pkix.Name{CommonName: name}, NotBefore: now.Add(-time.Hour),
		NotAfter: now.Add(24 * time.Hour)}
}

// ConfigFor gives the server side of TLS for a host, with a certificate that the authority signed, and what is wrong with it.
func (a *Authority) ConfigFor(host, wrong string) *tls.Config {
	issue := sync.OnceValue(func() *tls.Certificate {
		ca, parent := a.key()
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			panic(err)
		}
		template := certificate(host, a.now())
		template.DNSNames = []string{host}
		switch wrong {
		case "expired":
			template = certificate(host, a.now().Add(-90*24*time.Hour))
			template.DNSNames = []string{host}
		case "another":
			template.DNSNames = []string{"intranet.kittiwake.example"}
		case "untrusted":
			ca, parent = NewAuthority(-a.ahead).key()
		}
		der, err := x509.CreateCertificate(rand.Reader, template, parent, &key.PublicKey, ca)
		if err != nil {
			panic(err)
		}
		return &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
	})
	return &tls.Config{GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return issue(), nil }}
}
