package vouch

import (
	"bytes"
	"crypto/x509"
	"testing"
	"time"

	"verbund/internal/core/trust"
	"verbund/internal/engine/session"
	"verbund/internal/engine/sessiontest"
	"verbund/internal/store"
)

// held is what is kept of an authority.
func held(t *testing.T, s *session.Session) *store.Trust {
	t.Helper()
	tr, err := s.Store.Trust() // what was saved, not what the session thinks
	if err != nil {
		t.Fatal(err)
	}
	return tr
}

// An authority is replaced in three passes: both are trusted and the old one signs; both are
// trusted and the new one signs; the old one is gone. Each is saved with what it changes, the
// old key goes as soon as it signs no more, and what proves the end stays until then.
func TestReplacementPasses(t *testing.T) {
	s, c := sessiontest.Session(t), sessiontest.Cluster(t, 1)
	now := time.Now()
	if err := Ensure(s, c, now); err != nil {
		t.Fatal(err)
	}
	id := string(trust.Cluster)
	first := held(t, s)
	old, oldKey := first.Certs[id], first.Keys[id]
	next := func(want trust.Pass) *store.Trust {
		t.Helper()
		r, err := NextPass(s, c, id, false, now)
		if err != nil || r.Pass != want || !r.Done.IsZero() {
			t.Fatalf("pass %v, done %s, %v", r.Pass, r.Done, err)
		}
		if _, err := PassDone(s, id, r, now); err != nil {
			t.Fatal(err)
		}
		if under := sessiontest.Known(t, s).Replacements; under[id].Pass != want || under[id].Done.IsZero() {
			t.Fatalf("kept is %+v", under[id])
		}
		return held(t, s)
	}
	both := next(trust.Both)
	coming := both.Certs[trust.NextID(id)]
	if !bytes.Equal(both.Certs[id], old) || !bytes.Equal(both.Keys[id], oldKey) || coming == nil || both.Keys[trust.NextID(id)] == nil {
		t.Error("in the first pass the old one signs, and the next one is kept beside it")
	}
	if due, err := Due(s, c, both, now); err != nil || len(due) > 0 {
		t.Errorf("nothing is signed anew yet: %v, %v", due, err)
	}
	reissue := next(trust.Reissue)
	if !bytes.Equal(reissue.Certs[id], coming) || !bytes.Equal(reissue.Certs[trust.OldID(id)], old) || reissue.Keys[trust.OldID(id)] != nil || reissue.Certs[trust.NextID(id)] != nil {
		t.Error("in the second pass the new one signs, the old one is trusted, and its key is gone")
	}
	for what, k := range reissue.Keys {
		if bytes.Equal(k, oldKey) {
			t.Errorf("the old key is kept as %s", what)
		}
	}
	proof, err := trust.DecodeCert(reissue.Certs[ProofOf(id)])
	if err != nil {
		t.Fatal(err)
	}
	ca, err := trust.DecodeCert(old)
	if err != nil || proof.CheckSignatureFrom(ca) != nil || len(proof.Subject.Organization) > 0 {
		t.Errorf("the proof is signed by the old one, and of nobody: %v, %v", proof.Subject, err)
	}
	due, err := Due(s, c, reissue, now)
	if err != nil || due["tidewatch-control-1/scheduler"] == "" || due["tidewatch-control-1/datastore-peer"] != "" {
		t.Errorf("what it signed is signed anew, and nothing else: %v, %v", due, err)
	}
	if err := Ensure(s, c, now); err != nil {
		t.Fatal(err)
	}
	anew := held(t, s)
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(anew.Certs[id])
	cert, err := trust.DecodeCert(anew.Certs["tidewatch-control-1/scheduler"])
	if err != nil {
		t.Fatal(err)
	}
	if _, err := cert.Verify(x509.VerifyOptions{Roots: pool, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny}}); err != nil {
		t.Error(err)
	}
	if was := anew.Certs[trust.WasID("tidewatch-control-1/scheduler")]; !bytes.Equal(was, first.Certs["tidewatch-control-1/scheduler"]) {
		t.Error("the pair before is not kept until the new one has shown that it works")
	}
	dropped := next(trust.Drop)
	if dropped.Certs[trust.OldID(id)] != nil || dropped.Certs[ProofOf(id)] == nil {
		t.Error("in the third pass the old one is gone, and what proves it stays")
	}
	if _, err := NextPass(s, c, id, false, now); err == nil {
		t.Error("there is no fourth pass")
	}
	if err := Replaced(s, id); err != nil {
		t.Fatal(err)
	}
	over := held(t, s)
	under := sessiontest.Known(t, s).Replacements
	if len(under) > 0 || over.Certs[ProofOf(id)] != nil || over.Keys[ProofOf(id)] != nil {
		t.Errorf("something of it is kept: %v", under)
	}
	if bad := s.Store.(*store.Store).Check(); len(bad) > 0 {
		t.Errorf("what is kept does not fit together: %v", bad)
	}
}

// With now the old one is distrusted in the first pass, and nothing is kept of it but the
// proof; the key of tokens proves itself.
func TestReplacedNow(t *testing.T) {
	s, c := sessiontest.Session(t), sessiontest.Cluster(t, 1)
	now := time.Now()
	if err := Ensure(s, c, now); err != nil {
		t.Fatal(err)
	}
	first := held(t, s)
	for _, id := range []string{string(trust.Datastore), trust.ServiceAccountKey} {
		r, err := NextPass(s, c, id, true, now)
		if err != nil || r.Pass != trust.Drop || !r.Now {
			t.Fatalf("%s: %+v, %v", id, r, err)
		}
		after := held(t, s)
		if bytes.Equal(after.Keys[id], first.Keys[id]) || after.Keys[id] == nil || after.Certs[trust.OldID(id)] != nil || after.Keys[trust.OldID(id)] != nil || after.Keys[ProofOf(id)] == nil {
			t.Errorf("%s: the old one is still kept, or nothing proves its end", id)
		}
	}
}
