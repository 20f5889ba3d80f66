package act

import (
	"crypto/tls"
	"crypto/x509"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/nodeconf"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
	"verbund/internal/engine/sessiontest"
	"verbund/internal/engine/vouch"
	"verbund/internal/engine/vouchtest"
	"verbund/internal/store"
)

// A client's new pair is shown to those that will see it: one that is refused
// counts, one that nobody answers does not.
func TestTaken(t *testing.T) {
	s, c := sessiontest.Session(t), sessiontest.Cluster(t, 1)
	if err := vouch.Ensure(s, c, time.Now()); err != nil {
		t.Fatal(err)
	}
	kept, err := s.Trust()
	if err != nil {
		t.Fatal(err)
	}
	api := c.With(versions.API)[0]
	var q trust.Request
	for _, x := range trust.Requests(c, api) {
		if x.Name == "scheduler" {
			q = x
		}
	}
	r := &Run{Session: s, Cluster: c}
	if err := r.taken(t.Context(), q, kept); err != nil {
		t.Errorf("nobody is there: %v", err)
	}
	l, err := net.Listen("tcp", netip.AddrPortFrom(api.Address, nodeconf.APIPort).String())
	if err != nil {
		t.Fatal(err)
	}
	srv := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(http.StatusForbidden) }))
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(kept.Certs[string(trust.Cluster)])
	srv.TLS = &tls.Config{ClientCAs: pool, ClientAuth: tls.RequireAndVerifyClientCert}
	srv.Listener.Close()
	srv.Listener = l
	srv.StartTLS()
	defer srv.Close()
	if err := r.taken(t.Context(), q, kept); err != nil {
		t.Errorf("the right pair: %v", err)
	}
	wrong := &store.Trust{Keys: map[string]store.Secret{}, Certs: map[string][]byte{}}
	if err := vouch.Issue([]trust.Request{q}, map[trust.Authority]*vouch.Authority{q.Authority: vouchtest.Authorities(t)[trust.Cluster]}, time.Now(), wrong); err != nil {
		t.Fatal(err)
	}
	if err := r.taken(t.Context(), q, wrong); err == nil || !strings.Contains(err.Error(), api.Name) || !strings.Contains(err.Error(), "refuses the new certificate of scheduler") {
		t.Errorf("a pair of another authority: %v", err)
	}
}
