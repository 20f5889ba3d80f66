package act

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"filippo.io/age"

	"verbund/internal/core/coretest"
	"verbund/internal/core/declare"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/engine/look"
	"verbund/internal/engine/sessiontest"
	"verbund/internal/engine/vouch"
	"verbund/internal/store"
)

func TestBackupsOpenAgain(t *testing.T) {
	st, err := store.Open(t.TempDir(), "tidewatch", &store.Keys{Dir: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	dir := st.BackupDir()
	if err := os.MkdirAll(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	// One from before lay there in plain: it is taken over, and closed.
	plain, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, vouch.IdentityFile), []byte(plain.String()+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	id, err := vouch.BackupIdentity(st)
	if err != nil || id.String() != plain.String() {
		t.Fatalf("the identity from before was not taken over: %v", err)
	}
	if _, err := os.Stat(filepath.Join(dir, vouch.IdentityFile)); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("the identity still lies there in plain: %v", err)
	}
	again, err := vouch.BackupIdentity(st)
	if err != nil || again.String() != id.String() {
		t.Errorf("the identity came back as another: %v", err)
	}
}

// A machine that was there once, and is to be got anew, gets pairs that nobody had.
func TestForgetLost(t *testing.T) {
	c, err := coretest.Cluster("v1.37.2", 1, 2, topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	s := sessiontest.Session(t)
	s.Decl = &declare.Declaration{Name: "tidewatch"}
	if err := vouch.Ensure(s, c, time.Now()); err != nil {
		t.Fatal(err)
	}
	before, err := s.Store.Trust()
	if err != nil {
		t.Fatal(err)
	}
	known := map[string]store.Machine{"tidewatch-control-1": {Hardware: "1"}, "tidewatch-gauges-1": {Hardware: "2"}, "tidewatch-gauges-2": {}}
	there := map[string]plan.MachineSeen{"tidewatch-control-1": {Exists: true}}
	r := &Run{Session: s, Cluster: c, View: &look.View{Seen: plan.Observed{Machines: there}}}
	if err := r.forgetLost(known); err != nil {
		t.Fatal(err)
	}
	if err := vouch.Ensure(s, c, time.Now()); err != nil {
		t.Fatal(err)
	}
	after, err := s.Store.Trust()
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	for id, k := range before.Keys {
		m, _, of := strings.Cut(id, "/")
		lost := of && m == "tidewatch-gauges-1"
		if n += map[bool]int{true: 1}[lost]; (string(k) != string(after.Keys[id])) != lost {
			t.Errorf("the key %s is another one: %v, wanted %v", id, !lost, lost)
		}
	}
	if asked, err := s.Store.Asked(); n == 0 || err != nil || len(asked) > 0 {
		t.Errorf("%d pairs of the lost machine; asked for are still %v, %v", n, asked, err)
	}
	// What is given back leaves nothing behind, nor what it had before.
	if err := s.Store.SaveTrust(&store.Trust{Keys: map[string]store.Secret{vouch.Was("tidewatch-gauges-1/proxy"): store.Secret("x")}}); err != nil {
		t.Fatal(err)
	}
	if err := s.Store.ForgetMachine("tidewatch-gauges-1"); err != nil {
		t.Fatal(err)
	}
	left, err := s.Store.Trust()
	if err != nil {
		t.Fatal(err)
	}
	for id := range left.Keys {
		if strings.Contains(id, "tidewatch-gauges-1/") {
			t.Errorf("%s is left of a machine that was given back", id)
		}
	}
}
