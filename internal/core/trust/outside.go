package trust

import (
	"bytes"
	"crypto"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"github.com/youmark/pkcs8"
)

// ErrEncrypted says that a private key is encrypted, and needs its passphrase.
var ErrEncrypted = errors.New("the private key is encrypted")

// ReadKey reads a private key that somebody else made: PKCS #8, plain or
// encrypted, or the older forms of RSA and EC keys.
func ReadKey(b, passphrase []byte) (crypto.Signer, error) {
	for rest := b; ; {
		var p *pem.Block
		if p, rest = pem.Decode(rest); p == nil {
			return nil, errors.New("there is no PEM private key in it")
		}
		var k any
		var err error
		switch p.Type {
		case "PRIVATE KEY":
			k, err = x509.ParsePKCS8PrivateKey(p.Bytes)
		case "ENCRYPTED PRIVATE KEY":
			if len(passphrase) == 0 {
				return nil, ErrEncrypted
			}
			if k, err = pkcs8.ParsePKCS8PrivateKey(p.Bytes, passphrase); err != nil {
				err = errors.New("its passphrase is another one, or it is damaged")
			}
		case "EC PRIVATE KEY", "RSA PRIVATE KEY":
			if strings.Contains(p.Headers["Proc-Type"], "ENCRYPTED") {
				return nil, errors.New("it is encrypted in a form that is not safe any more; write it as PKCS #8: openssl pkcs8 -topk8")
			}
			if k, err = x509.ParseECPrivateKey(p.Bytes); p.Type == "RSA PRIVATE KEY" {
				k, err = x509.ParsePKCS1PrivateKey(p.Bytes)
			}
		default:
			continue
		}
		if err != nil {
			return nil, err
		}
		s, ok := k.(crypto.Signer)
		if !ok {
			return nil, fmt.Errorf("a %T cannot sign", k)
		}
		return s, nil
	}
}

// CheckAuthority says why a certificate cannot be an authority of a cluster
// whose certificates live so long; key is its key, or nil when that is outside.
func CheckAuthority(cert *x509.Certificate, key crypto.Signer, leaf time.Duration, now time.Time) error {
	switch {
	case !cert.IsCA || !cert.BasicConstraintsValid:
		return fmt.Errorf("%s is no authority: its basic constraints do not say CA", cert.Subject)
	case cert.KeyUsage&x509.KeyUsageCertSign == 0:
		return fmt.Errorf("%s may not sign certificates: its key usage lacks keyCertSign", cert.Subject)
	case now.After(cert.NotAfter):
		return fmt.Errorf("%s ended on %s", cert.Subject, cert.NotAfter.Format(time.DateOnly))
	case now.Before(cert.NotBefore):
		return fmt.Errorf("%s does not begin before %s", cert.Subject, cert.NotBefore.Format(time.DateOnly))
	case cert.NotAfter.Sub(now) <= leaf:
		return fmt.Errorf("%s ends on %s, before certificates of %d days that it would sign", cert.Subject, cert.NotAfter.Format(time.DateOnly), leaf/(24*time.Hour))
	}
	if key == nil {
		return nil
	}
	if !samePublic(cert.PublicKey, key.Public()) {
		return fmt.Errorf("the key is not that of %s", cert.Subject)
	}
	return nil
}

func samePublic(a, b crypto.PublicKey) bool {
	x, err := x509.MarshalPKIXPublicKey(a)
	y, yerr := x509.MarshalPKIXPublicKey(b)
	return err == nil && yerr == nil && bytes.Equal(x, y)
}

var (
	oidKeyUsage         = asn1.ObjectIdentifier{2, 5, 29, 15}
	oidExtendedKeyUsage = asn1.ObjectIdentifier{2, 5, 29, 37}
	oidServerAuth       = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 3, 1}
	oidClientAuth       = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 3, 2}
)

// SigningRequest writes the PKCS #10 request of a certificate, with the names
// and usages that it needs as requested extensions, so that whoever signs can
// copy them.
func SigningRequest(r Request, key crypto.Signer) ([]byte, error) {
	t := &x509.CertificateRequest{Subject: pkix.Name{CommonName: r.CommonName, Organization: r.Organisations}, DNSNames: r.DNS}
	for _, ip := range r.IPs {
		t.IPAddresses = append(t.IPAddresses, net.IP(ip.AsSlice()))
	}
	var usages []asn1.ObjectIdentifier
	if r.Server {
		usages = append(usages, oidServerAuth)
	}
	if r.Client {
		usages = append(usages, oidClientAuth)
	}
	eku, err := asn1.Marshal(usages)
	if err != nil {
		return nil, err
	}
	bits := asn1.BitString{Bytes: []byte{0x80}, BitLength: 1} // digitalSignature
	if strings.HasPrefix(AlgorithmOf(key.Public()), "rsa") {
		bits = asn1.BitString{Bytes: []byte{0xa0}, BitLength: 3} // and keyEncipherment
	}
	ku, err := asn1.Marshal(bits)
	if err != nil {
		return nil, err
	}
	t.ExtraExtensions = []pkix.Extension{{Id: oidKeyUsage, Critical: true, Value: ku}, {Id: oidExtendedKeyUsage, Value: eku}}
	der, err := x509.CreateCertificateRequest(nil, t, key)
	if err != nil {
		return nil, fmt.Errorf("writing the request of %s: %w", r.ID, err)
	}
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der}), nil
}

// CheckAnswer says everything that is wrong with a certificate that somebody
// outside has signed for a request.
func CheckAnswer(cert *x509.Certificate, r Request, public crypto.PublicKey, ca *x509.Certificate, now time.Time) []string {
	var out []string
	add := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	if !samePublic(cert.PublicKey, public) {
		add("its key is not the one of the request")
	}
	out = append(out, Wrong(cert, r, ca)...)
	if cert.KeyUsage != 0 && cert.KeyUsage&x509.KeyUsageDigitalSignature == 0 {
		add("its key usage lacks digitalSignature")
	}
	if cert.IsCA {
		add("it is an authority itself")
	}
	switch {
	case now.After(cert.NotAfter):
		add("it ended on %s", cert.NotAfter.Format(time.DateOnly))
	case now.Before(cert.NotBefore):
		add("it does not begin before %s", cert.NotBefore.Format(time.DateTime))
	case cert.NotAfter.Sub(now) <= r.Renew:
		add("it ends on %s, and would be due to be renewed at once", cert.NotAfter.Format(time.DateOnly))
	case cert.NotAfter.After(ca.NotAfter):
		add("it ends after its authority")
	case cert.NotAfter.Sub(now) > r.Life+24*time.Hour:
		add("it lives until %s, longer than the %d days that are declared", cert.NotAfter.Format(time.DateOnly), r.Life/(24*time.Hour))
	}
	return out
}

// CheckAccess says everything that is wrong with a certificate that somebody
// outside has signed for a person, whose name and groups it says itself. most is
// how long it may live: hours, since it cannot be called back.
func CheckAccess(cert *x509.Certificate, public crypto.PublicKey, ca *x509.Certificate, most time.Duration, now time.Time) []string {
	out := CheckAnswer(cert, Access(cert.Subject.CommonName, cert.Subject.Organization, most), public, ca, now)
	if left := cert.NotAfter.Sub(now); left > most {
		out = append(out, fmt.Sprintf("it lives for %d more hours, and access is for %d at most", left/time.Hour, most/time.Hour))
	}
	if cert.Subject.CommonName == "" {
		out = append(out, "it names nobody")
	}
	for _, n := range append([]string{cert.Subject.CommonName}, cert.Subject.Organization...) {
		if strings.HasPrefix(n, "system:") {
			out = append(out, fmt.Sprintf("%s is Kubernetes' own and is not given to people", n))
		}
	}
	return out
}

func usageWord(u x509.ExtKeyUsage) string {
	switch u {
	case x509.ExtKeyUsageServerAuth:
		return "servers"
	case x509.ExtKeyUsageClientAuth:
		return "clients"
	case x509.ExtKeyUsageAny:
		return "anything"
	}
	return fmt.Sprintf("usage %d", u)
}
