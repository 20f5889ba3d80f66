package converge

import (
	"errors"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/trust"
	"verbund/internal/engine/keep"
	"verbund/internal/engine/vouch"
	"verbund/internal/store"
)

// That a restoration has begun is remembered with the keys that it needs before anything else is
// written down: cut off after it, nothing goes on in another minor than the backup is of.
func TestRestorationIntentFirst(t *testing.T) {
	s := newStage(t, time.Minute)
	if err := s.Store.Make(); err != nil {
		t.Fatal(err)
	}
	c, err := s.Topology()
	if err != nil {
		t.Fatal(err)
	}
	if err := vouch.Ensure(s.Session, c, time.Now()); err != nil {
		t.Fatal(err)
	}
	f := &keep.Found{Name: "x.backup.age"}
	f.Manifest.Kubernetes = "v1.36.3"
	r := &store.Restoring{ID: "r1", Backup: f.Name, Since: time.Now(), Kubernetes: f.Manifest.Kubernetes}
	old := trust.OldID(trust.SecretsKey)
	keys := &store.Trust{Keys: map[string]store.Secret{old: store.Secret("key of then")}}
	cut := errors.New("cut off")
	change := &Change{Text: "changed kubernetes", Write: func() error {
		is, err := s.Store.Restoring()
		if err != nil || is == nil || is.Backup != f.Name {
			t.Errorf("remembered is %+v, %v", is, err)
		}
		if kept, err := s.Store.Trust(); err != nil || string(kept.Keys[old]) != "key of then" {
			t.Errorf("kept are %d keys, %v", len(kept.Keys), err)
		}
		return cut
	}}
	if err := s.begin(f, r, keys, change, false); !errors.Is(err, cut) {
		t.Fatalf("it ended with %v", err)
	}
	// v1.37.2 is declared still.
	var m *Mistake
	if err := s.Converge("converge", "", nil); !errors.As(err, &m) || !strings.Contains(err.Error(), "which is of v1.36.3, and v1.37.2 is declared; verbund backup restore goes on") {
		t.Errorf("it went on with %v", err)
	}
	if len(s.asked) > 0 || len(s.computer.site.Machines()) > 0 {
		t.Errorf("asked was %q, machines %q", s.asked, s.computer.site.Machines())
	}
	r.Founded = true // what is left is converge's, in whatever is declared
	if err := s.Store.SaveRestoring(r, nil, nil); err != nil {
		t.Fatal(err)
	}
	if err := (&converging{Work: s.Work}).mayRestore(); err != nil {
		t.Error(err)
	}
	r.Founded, r.Kubernetes = false, "v1.37.1"
	if err := s.Store.SaveRestoring(r, nil, nil); err != nil {
		t.Fatal(err)
	}
	if err := (&converging{Work: s.Work}).mayRestore(); err != nil {
		t.Errorf("in the same minor: %v", err)
	}
}
