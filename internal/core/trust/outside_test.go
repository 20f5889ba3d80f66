package trust_test

import (
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"math/big"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/youmark/pkcs8"

	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
)

// Keys that somebody else made are read in the usual forms.
func TestReadKey(t *testing.T) {
	k := key(t)
	plain, err := trust.EncodeKey(k)
	if err != nil {
		t.Fatal(err)
	}
	der, err := pkcs8.MarshalPrivateKey(k, []byte("ebb and flow"), nil)
	if err != nil {
		t.Fatal(err)
	}
	closed := pem.EncodeToMemory(&pem.Block{Type: "ENCRYPTED PRIVATE KEY", Bytes: der})
	ec, err := x509.MarshalECPrivateKey(k)
	if err != nil {
		t.Fatal(err)
	}
	old := pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: ec})
	params := pem.EncodeToMemory(&pem.Block{Type: "EC PARAMETERS", Bytes: []byte{6, 8}})
	for name, b := range map[string][]byte{"PKCS #8": plain, "encrypted PKCS #8": closed, "EC": append(params, old...)} {
		got, err := trust.ReadKey(b, []byte("ebb and flow"))
		if err != nil || !k.Equal(got) {
			t.Errorf("%s: %v, %v", name, got, err)
		}
	}
	if _, err := trust.ReadKey(closed, nil); !errors.Is(err, trust.ErrEncrypted) {
		t.Errorf("without a passphrase: %v", err)
	}
	if _, err := trust.ReadKey(closed, []byte("flood")); err == nil || !strings.Contains(err.Error(), "passphrase is another one") {
		t.Errorf("with a wrong passphrase: %v", err)
	}
	unsafe := pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Headers: map[string]string{"Proc-Type": "4,ENCRYPTED"}, Bytes: ec})
	for _, b := range [][]byte{nil, []byte("junk"), unsafe} {
		if _, err := trust.ReadKey(b, nil); err == nil {
			t.Errorf("%q is taken for a key", b)
		}
	}
}

// What cannot be an authority is refused, with the reason.
func TestCheckAuthority(t *testing.T) {
	k := key(t)
	make := func(change func(*x509.Certificate)) *x509.Certificate {
		c := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: now.Add(-time.Hour), NotAfter: now.Add(2000 * 24 * time.Hour), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
		if change != nil {
			change(c)
		}
		der, err := x509.CreateCertificate(rand.Reader, c, c, k.Public(), k)
		if err != nil {
			t.Fatal(err)
		}
		out, err := x509.ParseCertificate(der)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	year := 365 * 24 * time.Hour
	for want, c := range map[string]*x509.Certificate{
		"":                   make(nil),
		"do not say CA":      make(func(c *x509.Certificate) { c.IsCA = false }),
		"lacks keyCertSign":  make(func(c *x509.Certificate) { c.KeyUsage = x509.KeyUsageDigitalSignature }),
		"ended on":           make(func(c *x509.Certificate) { c.NotAfter = now.Add(-time.Minute) }),
		"does not begin":     make(func(c *x509.Certificate) { c.NotBefore = now.Add(time.Hour) }),
		"before certificate": make(func(c *x509.Certificate) { c.NotAfter = now.Add(year) }),
	} {
		if err := trust.CheckAuthority(c, k, year, now); (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", want, err)
		}
	}
	if err := trust.CheckAuthority(make(nil), key(t), year, now); err == nil || !strings.Contains(err.Error(), "not that of") {
		t.Errorf("another key: %v", err)
	}
	if err := trust.CheckAuthority(make(nil), nil, year, now); err != nil {
		t.Errorf("without its key: %v", err)
	}
}

// An answer from outside has to be right in everything; all that is wrong is
// said.
func TestCheckAnswer(t *testing.T) {
	c, cas := cluster(t), authorities(t)
	r := trust.Requests(c, c.Of(versions.Control)[0])[0]
	k := key(t)
	b, err := trust.SigningRequest(r, k)
	if err != nil {
		t.Fatal(err)
	}
	p, _ := pem.Decode(b)
	q, err := x509.ParseCertificateRequest(p.Bytes)
	if err != nil || q.CheckSignature() != nil || !slices.Equal(q.DNSNames, r.DNS) || q.Subject.CommonName != r.CommonName || len(q.Extensions) != 3 {
		t.Fatalf("the request %+v, %v", q, err)
	}
	ca := cas[r.Authority]
	sign := func(r trust.Request, public *ecdsa.PrivateKey, by authority) *x509.Certificate {
		cert, err := trust.Sign(r, public.Public(), by.cert, by.key, now, big.NewInt(9))
		if err != nil {
			t.Fatal(err)
		}
		return cert
	}
	long, both, short, less := r, r, r, r
	long.Life *= 3
	both.Client = true
	short.Life = 20 * 24 * time.Hour
	less.DNS = r.DNS[1:]
	for _, x := range []struct {
		want string
		cert *x509.Certificate
	}{
		{"", sign(r, k, ca)},
		{"its key is not the one of the request", sign(r, key(t), ca)},
		{"another authority signed it", sign(r, k, cas[trust.Datastore])},
		{"it lives until", sign(long, k, ca)},
		{"it is also for clients", sign(both, k, ca)},
		{"would be due to be renewed at once", sign(short, k, ca)},
		{"it lacks the name " + r.DNS[0], sign(less, k, ca)},
		{"it is an authority itself", ca.cert},
	} {
		got := strings.Join(trust.CheckAnswer(x.cert, r, k.Public(), ca.cert, now), "; ")
		if x.want == "" && got != "" || !strings.Contains(got, x.want) {
			t.Errorf("%q, wanted %q", got, x.want)
		}
	}
	client := r
	client.Server, client.Client = false, true
	if got := strings.Join(trust.CheckAnswer(sign(client, k, ca), r, k.Public(), ca.cert, now), "; "); !strings.Contains(got, "it is not for servers") {
		t.Errorf("a client's certificate for a server: %q", got)
	}
}

// What is signed outside for a person gives access for hours, to that person,
// and to nobody of Kubernetes' own.
func TestCheckAccess(t *testing.T) {
	ca, k := authorities(t)[trust.Cluster], key(t)
	sign := func(person, group string, life time.Duration, change func(*trust.Request)) *x509.Certificate {
		r := trust.Access(person, []string{group}, life)
		if change != nil {
			change(&r)
		}
		cert, err := trust.Sign(r, k.Public(), ca.cert, ca.key, now, big.NewInt(9))
		if err != nil {
			t.Fatal(err)
		}
		return cert
	}
	for _, x := range []struct {
		want string
		cert *x509.Certificate
	}{
		{"", sign("mara", "readers", 8*time.Hour, nil)},
		{"", sign("mara", "readers", 24*time.Hour, nil)},
		{"it lives for 30 more hours, and access is for 24 at most", sign("mara", "readers", 30*time.Hour+time.Minute, nil)},
		{"system:masters is Kubernetes' own", sign("mara", "system:masters", time.Hour, nil)},
		{"system:node:a is Kubernetes' own", sign("system:node:a", "readers", time.Hour, nil)},
		{"it names nobody", sign("", "readers", time.Hour, nil)},
		{"it is also for servers", sign("mara", "readers", time.Hour, func(r *trust.Request) { r.Server = true })},
	} {
		got := strings.Join(trust.CheckAccess(x.cert, k.Public(), ca.cert, 24*time.Hour, now), "; ")
		if x.want == "" && got != "" || !strings.Contains(got, x.want) {
			t.Errorf("%q, wanted %q", got, x.want)
		}
	}
	if got := trust.CheckAccess(sign("mara", "readers", time.Hour, nil), key(t).Public(), ca.cert, 24*time.Hour, now); len(got) == 0 {
		t.Error("somebody else's key gives access")
	}
}

// While something is replaced, both are trusted, the one that signs first.
func TestBundle(t *testing.T) {
	certs := map[string][]byte{"x": []byte("now\n")}
	if got := string(trust.Bundle(certs, "x")); got != "now\n" {
		t.Errorf("alone: %q", got)
	}
	certs[trust.NextID("x")] = []byte("next\n")
	if got := string(trust.Bundle(certs, "x")); got != "now\nnext\n" {
		t.Errorf("first pass: %q", got)
	}
	delete(certs, trust.NextID("x"))
	certs["x"], certs[trust.OldID("x")] = []byte("next\n"), []byte("now\n")
	if got := string(trust.Bundle(certs, "x")); got != "next\nnow\n" {
		t.Errorf("second pass: %q", got)
	}
	if err := trust.CheckReplaceable("front-proxy-authority"); err != nil {
		t.Error(err)
	}
	if err := trust.CheckReplaceable("proxy"); err == nil {
		t.Error("a certificate can be replaced as an authority")
	}
}

// Every algorithm makes certificates; a declared one that differs is noticed.
func TestAlgorithms(t *testing.T) {
	k := key(t)
	if a := trust.AlgorithmOf(k.Public()); a != "ecdsa-p256" {
		t.Errorf("P-256 is called %s", a)
	}
	c, cas := cluster(t), authorities(t)
	r := trust.Requests(c, c.Machines[0])[0]
	cert, err := trust.Sign(r, k.Public(), cas[r.Authority].cert, cas[r.Authority].key, now, big.NewInt(3))
	if err != nil {
		t.Fatal(err)
	}
	r.Algorithm = "ed25519"
	if why := trust.Stale(cert, r, cas[r.Authority].cert, now); !strings.Contains(why, "ecdsa-p256, and ed25519 is declared") {
		t.Errorf("another algorithm: %q", why)
	}
	text := string(trust.SecretsConfig([][]byte{make([]byte, 32), {1}}))
	if !strings.Contains(text, trust.SecretsKeyName(make([]byte, 32))) || strings.Index(text, trust.SecretsKeyName([]byte{1})) < strings.Index(text, trust.SecretsKeyName(make([]byte, 32))) || !strings.HasSuffix(text, "- identity: {}\n") {
		t.Errorf("the configuration:\n%s", text)
	}
}
