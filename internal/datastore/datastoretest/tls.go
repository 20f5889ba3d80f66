package datastoretest

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"go.etcd.io/etcd/client/pkg/v3/transport"
	"go.etcd.io/etcd/server/v3/embed"
)

// Authority signs certificates for members and for who asks them.
type Authority struct {
	t    testing.TB
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
	File string // its certificate, as PEM
}

// NewAuthority makes one.
func NewAuthority(t testing.TB) *Authority {
	t.Helper()
	a := &Authority{t: t}
	template := &x509.Certificate{Subject: pkix.Name{CommonName: "authority of a test"}, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	a.File, _ = a.sign(template, "authority")
	return a
}

// Pair is a certificate of a name for both sides of a connection on this computer, and its key,
// in files.
func (a *Authority) Pair(name string) (cert, key string) {
	a.t.Helper()
	return a.sign(&x509.Certificate{Subject: pkix.Name{CommonName: name}, KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}, name)
}

// Client is what somebody of a name connects with.
func (a *Authority) Client(name string) *tls.Config {
	a.t.Helper()
	pair, err := tls.LoadX509KeyPair(a.Pair(name))
	if err != nil {
		a.t.Fatal(err)
	}
	roots := x509.NewCertPool()
	roots.AddCert(a.cert)
	return &tls.Config{Certificates: []tls.Certificate{pair}, RootCAs: roots}
}

// Serve has a member be asked only by those whose certificates the authority has signed.
func (a *Authority) Serve(cfg *embed.Config) {
	a.t.Helper()
	at := cfg.ListenClientUrls[0]
	at.Scheme = "https"
	host, _, err := net.SplitHostPort(at.Host)
	if err != nil {
		a.t.Fatal(err)
	}
	cert, key := a.sign(&x509.Certificate{Subject: pkix.Name{CommonName: "member"}, IPAddresses: []net.IP{net.ParseIP(host)}, KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}, "member")
	cfg.ListenClientUrls[0], cfg.AdvertiseClientUrls[0] = at, at
	cfg.ClientTLSInfo = transport.TLSInfo{CertFile: cert, KeyFile: key, TrustedCAFile: a.File, ClientCertAuth: true}
}

func (a *Authority) sign(template *x509.Certificate, name string) (cert, key string) {
	a.t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		a.t.Fatal(err)
	}
	serial, err := rand.Int(rand.Reader, big.NewInt(1<<62))
	if err != nil {
		a.t.Fatal(err)
	}
	template.SerialNumber, template.NotBefore, template.NotAfter = serial, time.Now().Add(-time.Hour), time.Now().Add(24*time.Hour)
	if a.cert == nil {
		a.cert, a.key = template, k
	}
	der, err := x509.CreateCertificate(rand.Reader, template, a.cert, k.Public(), a.key)
	if err != nil {
		a.t.Fatal(err)
	}
	if template.IsCA {
		if a.cert, err = x509.ParseCertificate(der); err != nil {
			a.t.Fatal(err)
		}
	}
	plain, err := x509.MarshalPKCS8PrivateKey(k)
	if err != nil {
		a.t.Fatal(err)
	}
	dir := a.t.TempDir()
	cert, key = filepath.Join(dir, name+".crt"), filepath.Join(dir, name+".key")
	if err := errors.Join(os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600),
		os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: plain}), 0o600)); err != nil {
		a.t.Fatal(err)
	}
	return cert, key
}
