package converge

import (
	"crypto/tls"
	"errors"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/memory"
	"verbund/internal/core/plan"
	"verbund/internal/core/trust"
	"verbund/internal/engine/keep"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/engine/sessiontest"
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
	r := &memory.Restoring{ID: "r1", Backup: f.Name, Since: time.Now(), Kubernetes: f.Manifest.Kubernetes}
	old := trust.OldID(trust.SecretsKey)
	keys := &store.Trust{Keys: map[string]store.Secret{old: store.Secret("key of then")}}
	cut := errors.New("cut off")
	change := &Change{Text: "changed kubernetes", Write: func() error {
		if is := sessiontest.Known(t, s.Session).Restoring; is == nil || is.Backup != f.Name {
			t.Errorf("remembered is %+v", is)
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
	sessiontest.Remember(t, s.Session, func(st *memory.State) { st.Restoring = r })
	if err := (&converging{Work: s.Work}).mayRestore(); err != nil {
		t.Error(err)
	}
	r.Founded, r.Kubernetes = false, "v1.37.1"
	sessiontest.Remember(t, s.Session, func(st *memory.State) { st.Restoring = r })
	if err := (&converging{Work: s.Work}).mayRestore(); err != nil {
		t.Errorf("in the same minor: %v", err)
	}
}

// What a restoration loses is backed up before, as long as it can be asked: where that fails,
// nothing is written down.
func TestRestorationBacksUpFirst(t *testing.T) {
	s := newStage(t, time.Minute)
	if err := s.Store.Make(); err != nil {
		t.Fatal(err)
	}
	s.By = session.Reach{Datastore: func([]string, *tls.Config) session.Datastore { return &sessiontest.Datastore{} }} // which has no snapshot
	f := &keep.Found{Name: "x.backup.age"}
	r := &memory.Restoring{ID: "r1", Backup: f.Name, Since: time.Now()}
	change := &Change{Text: "changed kubernetes", Write: func() error { t.Error("it was written down"); return nil }}
	if err := s.begin(f, r, &store.Trust{}, change, true); err == nil || !strings.Contains(err.Error(), "could not be backed up first, so nothing was changed") {
		t.Errorf("it ended with %v", err)
	}
	if is := sessiontest.Known(t, s.Session).Restoring; is != nil {
		t.Errorf("remembered is %+v", is)
	}
}

// What cannot be undone is asked about, also when it shows only in a later round; what was agreed
// to is not asked about twice, and an upgrade that follows a repair is.
func TestFinalStepsAreAsked(t *testing.T) {
	s := newStage(t, time.Minute)
	c, err := s.Topology()
	if err != nil {
		t.Fatal(err)
	}
	x, v := &converging{Work: s.Work, command: "converge"}, &look.View{Cluster: c}
	gives := func(names ...string) task {
		p := &plan.Plan{}
		for _, n := range names {
			p.Steps = append(p.Steps, plan.Step{ID: "release/" + n, Kind: plan.Release, Machine: n, Final: true, Text: "give it back"})
		}
		return task{Plan: p}
	}
	for i, step := range []struct {
		t     task
		asked int // so far
	}{{gives("a"), 1}, {gives("a"), 1}, {gives(), 1}, {gives("a", "b"), 2}, {gives("b"), 2}, {gives("c"), 3}} {
		if err := x.agreed(step.t, v); err != nil || len(s.asked) != step.asked {
			t.Errorf("round %d: asked %d times, %v", i, len(s.asked), err)
		}
	}
	up := task{Plan: &plan.Plan{From: "v1.36.3", To: "v1.37.2", Steps: []plan.Step{{ID: "backup", Kind: plan.Backup}}}}
	if err := x.agreed(up, v); err != nil || len(s.asked) != 4 {
		t.Errorf("an upgrade after a repair: asked %d times, %v", len(s.asked), err)
	}
	s.person.no = func(string) bool { return true }
	if err := x.agreed(gives("d"), v); !errors.Is(err, errNo) {
		t.Errorf("a no: %v", err)
	}
	// What endangers the datastore wants the cluster's name.
	s.person.no = nil
	danger := gives("e")
	danger.Endangers = []string{"the datastore keeps 1 of 2 members"}
	if err := x.agreed(danger, v); err != nil || !strings.HasPrefix(s.asked[len(s.asked)-1], "by name: ") {
		t.Errorf("what endangers: %q, %v", s.asked[len(s.asked)-1], err)
	}
}
