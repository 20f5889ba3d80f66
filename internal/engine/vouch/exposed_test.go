package vouch

import (
	"strings"
	"testing"
	"time"

	"verbund/internal/core/trust"
	"verbund/internal/engine/session"
	"verbund/internal/engine/sessiontest"
	"verbund/internal/store"
)

// Whoever has opened a store is known to have had each of its keys; what is not there is not named.
func TestExposed(t *testing.T) {
	s := sessiontest.Session(t)
	if err := Ensure(s, sessiontest.Cluster(t, 1), time.Now()); err != nil {
		t.Fatal(err)
	}
	tr, err := s.Store.Trust()
	if err != nil {
		t.Fatal(err)
	}
	tr.Keys[session.Login] = store.Secret("x")
	var ids []string
	for _, e := range Exposed(tr) {
		ids = append(ids, e.ID)
		if e.What == "" || e.ID == session.Login != (e.Command == "") || strings.HasSuffix(e.Command, "--now") != (strings.Contains(e.Command, "replace") && e.ID != trust.SecretsKey) {
			t.Errorf("%+v", e)
		}
	}
	if want := strings.Join(trust.Replaceable, " ") + " certificates tool/login"; strings.Join(ids, " ") != want {
		t.Errorf("it names %q, not %q", ids, want)
	}
	outside := &store.Trust{Keys: map[string]store.Secret{trust.SecretsKey: store.Secret("x")}}
	if es := Exposed(outside); len(es) != 1 || es[0].ID != trust.SecretsKey {
		t.Errorf("where the authorities' keys are elsewhere: %+v", es)
	}
}
