package look

import (
	"context"
	"crypto"
	"crypto/tls"
	"crypto/x509"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/golang-jwt/jwt/v5"

	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/engine/vouch"
	"verbund/internal/engine/vouchtest"
)

// Only a server that refuses proves anything: one that is gone does not.
func TestComeIn(t *testing.T) {
	cas := vouchtest.Authorities(t)
	made := func(a trust.Authority) *tls.Certificate {
		k, err := vouch.NewKey("ecdsa-p256")
		if err != nil {
			t.Fatal(err)
		}
		c, err := trust.Sign(trust.Request{ID: "x", CommonName: "x", Client: true, Life: time.Hour}, k.Public(), cas[a].Cert, cas[a].Key, time.Now(), vouch.Serial())
		if err != nil {
			t.Fatal(err)
		}
		return &tls.Certificate{Certificate: [][]byte{c.Raw}, PrivateKey: k}
	}
	status := http.StatusForbidden
	srv := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(status) }))
	pool := x509.NewCertPool()
	pool.AddCert(cas[trust.Cluster].Cert)
	srv.TLS = &tls.Config{ClientCAs: pool, ClientAuth: tls.RequireAndVerifyClientCert}
	srv.StartTLS()
	addr := srv.Listener.Addr().String()
	ctx := context.Background()
	if how, err := ComeIn(ctx, addr, AtAPI, made(trust.Datastore), nil); err != nil || !strings.Contains(how, "tls") {
		t.Errorf("another authority's: %q, %v", how, err)
	}
	if how, err := ComeIn(ctx, addr, AtAPI, made(trust.Cluster), nil); err != nil || how != "" {
		t.Errorf("one without rights counts as refused: %q, %v", how, err)
	}
	status = http.StatusUnauthorized
	if how, err := ComeIn(ctx, addr, AtAPI, made(trust.Cluster), nil); err != nil || how == "" {
		t.Errorf("unauthorized counts as let in: %v", err)
	}
	srv.Close()
	if how, err := ComeIn(ctx, addr, AtAPI, made(trust.Datastore), nil); err == nil {
		t.Errorf("nobody is there, and that counts as %q", how)
	}
	mute, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer mute.Close()
	short, cancel := context.WithTimeout(ctx, 100*time.Millisecond)
	defer cancel()
	if how, err := ComeIn(short, mute.Addr().String(), AtAPI, made(trust.Datastore), nil); err == nil {
		t.Errorf("nobody answers, and that counts as %q", how)
	}
}

// A token of the old key proves something only where one of the new key, which
// says the same, is taken.
func TestProveToken(t *testing.T) {
	keys := map[string]crypto.Signer{}
	for name, algorithm := range map[string]string{"new": "ecdsa-p256", "old": "ecdsa-p384", "older": "rsa-2048"} {
		k, err := vouch.NewKey(algorithm)
		if err != nil {
			t.Fatal(err)
		}
		keys[name] = k
	}
	const account = "system:serviceaccount:kube-system:default"
	genuine, err := jwt.NewWithClaims(jwt.SigningMethodES256, jwt.RegisteredClaims{Subject: account, ExpiresAt: jwt.NewNumericDate(time.Now().Add(time.Minute))}).SignedString(keys["new"])
	if err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.83.7.3:6443")
	if err != nil {
		t.Fatal(err)
	}
	var takes []crypto.PublicKey
	srv := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		token := strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")
		for _, k := range takes {
			c := jwt.RegisteredClaims{}
			if _, err := jwt.ParseWithClaims(token, &c, func(*jwt.Token) (any, error) { return k, nil }); err == nil && c.Subject == account {
				w.WriteHeader(http.StatusForbidden)
				return
			}
		}
		w.WriteHeader(http.StatusUnauthorized)
	}))
	srv.Listener.Close()
	srv.Listener = l
	srv.StartTLS()
	m := topology.Machine{Name: "tidewatch-control-1", Address: netip.MustParseAddr("127.83.7.3")}
	prove := func(old string, taken ...string) Proved {
		takes = nil
		for _, k := range taken {
			takes = append(takes, keys[k].Public())
		}
		forged, err := signedBy(keys[old], genuine)
		if err != nil {
			t.Fatal(err)
		}
		return proveToken(t.Context(), m, genuine, forged)
	}
	for _, old := range []string{"old", "older"} {
		if p := prove(old, "new"); !p.Holds || p.Found != "401 unauthorized" {
			t.Errorf("%s is taken no more: %+v", old, p)
		}
		if p := prove(old, "new", old); p.Holds {
			t.Errorf("%s is still taken: %+v", old, p)
		}
	}
	if p := prove("old"); p.Holds {
		t.Errorf("a server that takes nothing proves nothing: %+v", p)
	}
	srv.Close()
	if p := prove("old", "new"); p.Holds {
		t.Errorf("nobody is there: %+v", p)
	}
}
