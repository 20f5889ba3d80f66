package vouch

import (
	"crypto/ecdsa"
	"crypto/x509"
	"testing"
	"time"

	"verbund/internal/core/trust"
	"verbund/internal/engine/sessiontest"
)

// Trust is made once, completed when the cluster grows, and renewed where a
// name is missing; nothing else is made anew.
func TestEnsureTrust(t *testing.T) {
	s := sessiontest.Session(t)
	c := sessiontest.Cluster(t, 1)
	if err := Ensure(s, c, time.Now()); err != nil {
		t.Fatal(err)
	}
	first, err := s.Trust()
	if err != nil {
		t.Fatal(err)
	}
	grown := sessiontest.Cluster(t, 2)
	if err := Ensure(s, grown, time.Now()); err != nil {
		t.Fatal(err)
	}
	second, err := s.Trust()
	if err != nil {
		t.Fatal(err)
	}
	// Two for the new worker.
	if len(second.Certs) != len(first.Certs)+2 {
		t.Errorf("%d certificates, then %d", len(first.Certs), len(second.Certs))
	}
	for id, cert := range first.Certs {
		// The balancer moved by one address: its name is what is verified, and no
		// certificate has to know.
		if string(second.Certs[id]) != string(cert) {
			t.Errorf("%s was made anew", id)
		}
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(second.Certs[string(trust.Cluster)])
	cert, err := trust.DecodeCert(second.Certs["tidewatch-control-1/api-server"])
	if err != nil {
		t.Fatal(err)
	}
	if _, err := cert.Verify(x509.VerifyOptions{Roots: pool, DNSName: "api.tidewatch.test"}); err != nil {
		t.Error(err)
	}
	for id := range second.Certs {
		k, err := trust.DecodeKey(second.Keys[id])
		if err != nil {
			t.Fatalf("%s: %v", id, err)
		}
		cert, err := trust.DecodeCert(second.Certs[id])
		if err != nil || !cert.PublicKey.(*ecdsa.PublicKey).Equal(k.Public()) {
			t.Errorf("%s: key and certificate do not belong together: %v", id, err)
		}
	}
}
