package apiserver

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"sync"
	"time"

	"verbund/internal/sim/host"
)

// lookAgain is how long a file that was read is taken for unchanged.
const lookAgain = 200 * time.Millisecond

// Pair is a certificate with its key on a machine's disk. Both are read again
// when they have changed, as real components do: a new pair needs no restart.
type Pair struct {
	h         *host.Host
	cert, key string
	mu        sync.Mutex
	read      time.Time
	certPEM   []byte
	current   *tls.Certificate
}

// ReadPair reads a pair, and refuses one that is not valid now.
func ReadPair(h *host.Host, cert, key string) (*Pair, error) {
	p := &Pair{h: h, cert: cert, key: key}
	_, err := p.get()
	return p, err
}

// get is the pair as it lies there now. One that cannot be used is not taken
// up: the one before it stays.
func (p *Pair) get() (*tls.Certificate, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.current != nil && time.Since(p.read) < lookAgain {
		return p.current, nil
	}
	p.read = time.Now()
	c, err := p.h.ReadFile(p.cert)
	if err == nil && p.current != nil && bytes.Equal(c, p.certPEM) {
		return p.current, nil
	}
	k, kerr := p.h.ReadFile(p.key)
	if err == nil {
		err = kerr
	}
	var pair tls.Certificate
	if err == nil {
		if pair, err = tls.X509KeyPair(c, k); err != nil {
			err = fmt.Errorf("%s with %s: %w", p.cert, p.key, err)
		} else if now := time.Now(); now.After(pair.Leaf.NotAfter) || now.Before(pair.Leaf.NotBefore) {
			err = fmt.Errorf("%s is valid from %s to %s, not now", p.cert, pair.Leaf.NotBefore.Format(time.RFC3339), pair.Leaf.NotAfter.Format(time.RFC3339))
		}
	}
	if err != nil {
		if p.current == nil {
			return nil, err
		}
		return p.current, nil
	}
	p.certPEM, p.current = c, &pair
	return p.current, nil
}

// Server is for tls.Config.GetCertificate.
func (p *Pair) Server(*tls.ClientHelloInfo) (*tls.Certificate, error) { return p.get() }

// Client is for tls.Config.GetClientCertificate.
func (p *Pair) Client(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return p.get() }

// Trusted is a bundle of authorities on a machine's disk.
type Trusted struct {
	h    *host.Host
	file string
	mu   sync.Mutex
	read time.Time
	text []byte
	pool *x509.CertPool
}

// ReadTrusted reads a bundle.
func ReadTrusted(h *host.Host, file string) (*Trusted, error) {
	t := &Trusted{h: h, file: file}
	return t, t.look()
}

func (t *Trusted) look() error {
	b, err := t.h.ReadFile(t.file)
	t.read = time.Now()
	if err != nil || bytes.Equal(b, t.text) {
		return err
	}
	p := x509.NewCertPool()
	if !p.AppendCertsFromPEM(b) {
		return fmt.Errorf("%s holds no certificate", t.file)
	}
	t.text, t.pool = b, p
	return nil
}

// Pool is the bundle as it was read last: for what is verified by what a
// component reads only when it starts.
func (t *Trusted) Pool() *x509.CertPool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.pool
}

// Now is the bundle as it lies there now; one that cannot be read is not taken
// up.
func (t *Trusted) Now() *x509.CertPool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if time.Since(t.read) >= lookAgain {
		t.look()
	}
	return t.pool
}
