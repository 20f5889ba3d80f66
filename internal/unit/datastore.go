package unit

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
)

// Pool reads the certificates of a file of the machine.
func Pool(m Machine, file string) (*x509.CertPool, error) {
	b, err := m.ReadFile(file)
	if err != nil {
		return nil, err
	}
	p := x509.NewCertPool()
	if !p.AppendCertsFromPEM(b) {
		return nil, fmt.Errorf("%s: there is no certificate in it", file)
	}
	return p, nil
}

// Datastore is how a client of the datastore shows who it is, by files of the machine.
func Datastore(m Machine, authority, certificate, key string) (*tls.Config, error) {
	roots, err := Pool(m, authority)
	if err != nil {
		return nil, err
	}
	// The pair is read anew for every connection: it may have been renewed.
	pair := func(*tls.CertificateRequestInfo) (*tls.Certificate, error) {
		cert, cerr := m.ReadFile(certificate)
		k, kerr := m.ReadFile(key)
		if err := errors.Join(cerr, kerr); err != nil {
			return nil, err
		}
		p, err := tls.X509KeyPair(cert, k)
		return &p, err
	}
	if _, err := pair(nil); err != nil {
		return nil, err
	}
	return &tls.Config{RootCAs: roots, GetClientCertificate: pair}, nil
}
