package act

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime"

	"verbund/internal/core/memory"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/versions"
	"verbund/internal/datastore"
	"verbund/internal/engine/enginetest"
	"verbund/internal/engine/sessiontest"
	"verbund/internal/machine/protocol"
)

// The quorum guard refuses while another member is ill, and says what ails it from its own
// machine; who is ill themselves is not in their own way.
func TestOthersWell(t *testing.T) {
	w := enginetest.New(t, 1)
	r := at(t, w)
	first, second := w.Members.Has[0].Name, w.Members.Has[1].Name
	ask := func(name string) error {
		ctx, cancel := context.WithTimeout(t.Context(), guardPatience/20)
		defer cancel()
		return r.guarded(ctx, plan.Step{Machine: name, Guards: []plan.Guard{plan.OthersWell}}, w.Cluster.Machines[0])
	}
	if err := ask(first); err != nil {
		t.Errorf("all are well: %v", err)
	}
	w.Members.Has[1].Healthy = false
	sick := w.Machines[second]
	sick.States["containerd.service"], sick.States["etcd.service"], sick.Journals["etcd.service"] = "failed", "failed", []string{"no space left on device"}
	err := ask(first)
	var se *StepError
	if !errors.As(err, &se) || !strings.Contains(err.Error(), second) || se.Unit != "etcd.service on "+second || !slices.Contains(se.Log, "no space left on device") || se.Todo == "" {
		t.Errorf("another one is ill: %+v", err)
	}
	if err := ask(second); err != nil {
		t.Errorf("the ill one itself: %v", err)
	}
	w.Members.Has[1].Healthy = true
	w.Members.Trouble = datastore.ErrNoQuorum
	if err := ask(first); !errors.Is(err, datastore.ErrNoQuorum) {
		t.Errorf("nobody can be asked: %v", err)
	}
	// Who is ill was learnt before nobody answered any more, and says more.
	w.Members.Trouble, w.Members.Has[1].Healthy = nil, false
	asked := 0
	sick.Fail = nil
	w.Members.Asked = func() {
		if asked++; asked > 1 {
			w.Members.Trouble = datastore.ErrNoQuorum
		}
	}
	if err := ask(first); err == nil || !strings.Contains(err.Error(), second) || asked < 2 {
		t.Errorf("one is ill, and then nobody answers: %v after %d", err, asked)
	}
}

// A second learner does not join while one is still joining.
func TestNobodyJoins(t *testing.T) {
	w := enginetest.New(t, 1)
	r := at(t, w)
	step := plan.Step{Machine: w.Members.Has[0].Name, Guards: []plan.Guard{plan.OneJoins}}
	if err := r.guarded(t.Context(), step, w.Cluster.Machines[0]); err != nil {
		t.Errorf("nobody joins: %v", err)
	}
	w.Members.Has[2].Learner = true
	if err := r.guarded(t.Context(), step, w.Cluster.Machines[0]); err == nil || !strings.Contains(err.Error(), "while "+w.Members.Has[2].Name+" is still joining") {
		t.Errorf("another one joins: %v", err)
	}
	step.Machine = w.Members.Has[2].Name
	if err := r.guarded(t.Context(), step, w.Cluster.Machines[2]); err != nil {
		t.Errorf("the one that joins: %v", err)
	}
	// Any other trouble says nothing about who joins.
	w.Members.Trouble = errors.New("a certificate that nobody trusts")
	if err := r.guarded(t.Context(), step, w.Cluster.Machines[0]); err == nil || !strings.Contains(err.Error(), "nobody trusts") {
		t.Errorf("asked in vain: %v", err)
	}
	m, fm := w.Of(versions.Control)
	fm.Done()
	if err := r.joinMember(t.Context(), m); err == nil || !strings.Contains(err.Error(), "nobody trusts") || len(fm.Done()) > 0 {
		t.Errorf("it joined all the same: %v", err)
	}
	// One that has lost its quorum may lack just this member.
	w.Members.Trouble = datastore.ErrNoQuorum
	step.Machine = w.Members.Has[0].Name
	if err := r.guarded(t.Context(), step, w.Cluster.Machines[0]); err != nil {
		t.Errorf("nobody can be asked: %v", err)
	}
}

// The datastore is not founded over data of another one, but over what an interrupted
// founding left.
func TestDataIsOurs(t *testing.T) {
	w := enginetest.New(t, 1)
	r := at(t, w)
	step := plan.Step{Guards: []plan.Guard{plan.OwnData}}
	if err := r.guarded(t.Context(), step, w.Cluster.Machines[0]); err != nil {
		t.Errorf("no data anywhere: %v", err)
	}
	third := w.Members.Has[2].Name
	log := nodeconf.DatastoreLog + "/0.wal"
	w.Machines[third].Files[log] = protocol.File{Path: log}
	if err := r.guarded(t.Context(), step, w.Cluster.Machines[0]); err == nil || !strings.Contains(err.Error(), "on "+third+" lies a datastore") {
		t.Errorf("data of another one: %v", err)
	}
	sessiontest.Remember(t, w.Session, func(st *memory.State) { st.Founders = []string{third} })
	if err := r.guarded(t.Context(), step, w.Cluster.Machines[0]); err != nil {
		t.Errorf("data of a founding that was cut off: %v", err)
	}
	w.HangUp(third)
	delete(w.Machines, third)
	if err := r.guarded(t.Context(), step, w.Cluster.Machines[0]); err == nil {
		t.Error("a machine that does not answer was taken for empty")
	}
}

// A node is not emptied of what would be lost with it.
func TestCanBeEmptied(t *testing.T) {
	node := "tidewatch-gauges-1"
	pod := func(name string, owner bool) runtime.Object {
		p := &corev1.Pod{ObjectMeta: metav1.ObjectMeta{Name: name, Namespace: "apps"}, Spec: corev1.PodSpec{NodeName: node}}
		if owner {
			yes := true
			p.OwnerReferences = []metav1.OwnerReference{{Kind: "ReplicaSet", Name: "x", Controller: &yes}}
		}
		return p
	}
	for _, x := range []struct {
		what    string
		objects []runtime.Object
		refused string
	}{
		{"nothing runs there", nil, ""},
		{"a pod that somebody makes anew", []runtime.Object{pod("ebb", true)}, ""},
		{"a pod that nobody does", []runtime.Object{pod("ebb", true), pod("alone", false)}, "apps/alone"},
	} {
		w := enginetest.New(t, 1, x.objects...)
		err := at(t, w).guarded(t.Context(), plan.Step{Machine: node, Guards: []plan.Guard{plan.Emptied}}, w.Cluster.Of(versions.Worker)[0])
		if (err != nil) != (x.refused != "") || err != nil && !strings.Contains(err.Error(), x.refused) {
			t.Errorf("%s: %v", x.what, err)
		}
	}
}

// Taking a member out takes out that one; with the datastore away nothing is forgotten.
func TestRemoveMember(t *testing.T) {
	w := enginetest.New(t, 1)
	r := at(t, w)
	name := w.Members.Has[1].Name
	sessiontest.Remember(t, w.Session, func(st *memory.State) { st.Joins(name, []string{name}) })
	w.Members.Trouble = datastore.ErrNoQuorum
	if err := r.removeMember(t.Context(), name); !errors.Is(err, datastore.ErrNoQuorum) {
		t.Errorf("it ended with %v", err)
	}
	if ms := sessiontest.Known(t, w.Session).Members; ms[name] == nil {
		t.Errorf("it is forgotten: %v", ms)
	}
	w.Members.Trouble = nil
	if err := r.removeMember(t.Context(), name); err != nil {
		t.Fatal(err)
	}
	for _, m := range w.Members.Has {
		if m.Name == name {
			t.Errorf("it is a member still: %+v", m)
		}
	}
	if len(w.Members.Has) != 2 {
		t.Errorf("%d members are left", len(w.Members.Has))
	}
	if ms := sessiontest.Known(t, w.Session).Members; ms[name] != nil {
		t.Errorf("it is remembered: %v", ms)
	}
	// Again: it is so already.
	if err := r.removeMember(t.Context(), name); err != nil {
		t.Error(err)
	}
}

// A member that is born learns with whom before it is added, so that a run that is cut off
// between the two can go on.
func TestBornWithMembers(t *testing.T) {
	w := enginetest.New(t, 1)
	r := at(t, w)
	m := w.Cluster.Machines[2]
	w.Members.Has = w.Members.Has[:2]
	cut := errors.New("cut off")
	w.Machines[m.Name].Fail = func(what string) error {
		if strings.HasPrefix(what, "start ") {
			return cut
		}
		return nil
	}
	if err := r.joinMember(t.Context(), m); !errors.Is(err, cut) {
		t.Fatalf("it ended with %v", err)
	}
	ms := sessiontest.Known(t, w.Session).Members
	want := []string{w.Members.Has[0].Name, w.Members.Has[1].Name, m.Name}
	if !slices.Equal(ms[m.Name], want) {
		t.Errorf("it was born with %v, wanted %v", ms[m.Name], want)
	}
	if n := len(w.Members.Has); n != 3 || !w.Members.Has[2].Learner {
		t.Errorf("members are %+v", w.Members.Has)
	}
	if len(w.Machines[m.Name].Files) == 0 {
		t.Error("it was added before its machine knew of it")
	}
}

// One that is a member already is started, and not added again.
func TestJoinAgain(t *testing.T) {
	w := enginetest.New(t, 1)
	r := at(t, w)
	m := w.Cluster.Machines[2]
	w.Members.Has[2].Learner = true
	if err := r.joinMember(t.Context(), m); err != nil {
		t.Fatal(err)
	}
	if len(w.Members.Has) != 3 || w.Members.Has[2].Learner || w.Machines[m.Name].States["etcd.service"] != "active" {
		t.Errorf("members are %+v, etcd is %s", w.Members.Has, w.Machines[m.Name].States["etcd.service"])
	}
	// Where nobody can be asked, it may be what the quorum lacks: it is started all the same.
	w.Machines[m.Name].States["etcd.service"] = "inactive"
	w.Members.Trouble = datastore.ErrNoQuorum
	ctx, cancel := context.WithTimeout(t.Context(), guardPatience/20)
	defer cancel()
	if err := r.joinMember(ctx, m); err == nil {
		t.Error("a datastore that does not answer is taken for well")
	}
	if s := w.Machines[m.Name].States["etcd.service"]; s != "active" || len(w.Members.Has) != 3 {
		t.Errorf("etcd is %s, and there are %d members", s, len(w.Members.Has))
	}
}

// Founding starts every member, and is remembered only when all are well.
func TestFound(t *testing.T) {
	w := enginetest.New(t, 1)
	r := at(t, w)
	third := w.Cluster.Machines[2].Name
	w.Machines[third].Fail = func(string) error { return errors.New("no room") }
	err := r.found(t.Context(), plan.Step{Kind: plan.Found})
	var se *StepError
	if !errors.As(err, &se) || se.Machine != third || !strings.Contains(err.Error(), "no room") {
		t.Errorf("it ended with %v", err)
	}
	if f := sessiontest.Known(t, w.Session).Facts; f != nil {
		t.Errorf("it is remembered as founded: %+v", f)
	}
	w.Machines[third].Fail = nil
	if err := r.found(t.Context(), plan.Step{Kind: plan.Found}); err != nil {
		t.Fatal(err)
	}
	if f := sessiontest.Known(t, w.Session).Facts; f == nil || f.Founded.IsZero() {
		t.Errorf("remembered is %+v", f)
	}
	for _, m := range w.Cluster.With(versions.Member) {
		if s := w.Machines[m.Name].States["etcd.service"]; s != "active" {
			t.Errorf("etcd of %s is %s", m.Name, s)
		}
	}
}

// A member that moved is told to the others; the only one cannot be.
func TestMoveMember(t *testing.T) {
	w := enginetest.New(t, 1)
	r := at(t, w)
	m := w.Cluster.Machines[0]
	r.View.Seen.Members = map[string]plan.MemberSeen{m.Name: {ID: 1, Peer: "https://127.9.9.9:2380"}}
	w.Members.Has[0].Peer = "https://127.9.9.9:2380"
	if err := r.move(t.Context(), m); err != nil {
		t.Fatal(err)
	}
	if p := w.Members.Has[0].Peer; p != nodeconf.Peer(m) {
		t.Errorf("it is at %s", p)
	}
	// Nobody is told of a worker, and the only member has nobody to be told by.
	worker, _ := w.Of(versions.Worker)
	w.Members.Trouble = datastore.ErrNoQuorum
	if err := r.move(t.Context(), worker); err != nil {
		t.Errorf("a worker: %v", err)
	}
	w.Members.Trouble = nil
	all := r.Cluster
	alone := *all
	alone.Machines = append(all.Machines[:1:1], worker)
	r.Cluster = &alone
	if err := r.move(t.Context(), m); err == nil || !strings.Contains(err.Error(), "the only member") {
		t.Errorf("the only member: %v", err)
	}
	r.Cluster = all
	// A run without the others' word, since it knows of no such member.
	r.View.Seen.Members = nil
	w.Members.Trouble = datastore.ErrNoQuorum
	if err := r.move(t.Context(), m); err != nil {
		t.Errorf("nothing was to be told: %v", err)
	}
}

// An API server ends before the member beside it is taken out; one on a machine that is not
// reached, or of a datastore apart, is left alone.
func TestLeave(t *testing.T) {
	for _, x := range []struct {
		what    string
		reached bool
		unit    string
		apart   bool
		stops   bool
	}{
		{"beside it", true, "active", false, true},
		{"not reached", false, "active", false, false},
		{"it does not run", true, "failed", false, false},
		{"apart", true, "active", true, false},
	} {
		w := enginetest.New(t, 1)
		r := at(t, w)
		m, fm := w.Cluster.Machines[1], w.Machines[w.Cluster.Machines[1].Name]
		c := *w.Cluster
		c.Apart = x.apart
		r.Cluster = &c
		for _, u := range nodeconf.Units(m) {
			fm.States[u] = "active"
		}
		r.View.Seen.Machines = map[string]plan.MachineSeen{m.Name: {Reached: x.reached, Units: map[string]string{nodeconf.UnitAPIServer: x.unit}}}
		if err := r.leave(t.Context(), plan.Step{Kind: plan.Leave, Machine: m.Name}); err != nil {
			t.Errorf("%s: %v", x.what, err)
		}
		done := fm.Done()
		if stopped := len(done) > 0 && done[len(done)-1] == "stop "+nodeconf.UnitAPIServer; stopped != x.stops || !x.stops && len(done) > 0 {
			t.Errorf("%s: done is %q", x.what, done)
		}
		if len(w.Members.Has) != 2 {
			t.Errorf("%s: %d members are left", x.what, len(w.Members.Has))
		}
	}
}

// What of a well cluster may change is remembered; of one that was not founded, nothing is.
func TestKeepFacts(t *testing.T) {
	w := enginetest.New(t, 1)
	r := at(t, w)
	if err := r.keepFacts(); err != nil {
		t.Fatal(err)
	}
	if f := sessiontest.Known(t, w.Session).Facts; f != nil {
		t.Errorf("nothing was founded: %+v", f)
	}
	was := plan.FactsOf(w.Cluster)
	was.Founded, was.Answers = time.Date(2026, 5, 1, 0, 0, 0, 0, time.UTC), "existing"
	sessiontest.Remember(t, w.Session, func(st *memory.State) { st.Founded(was) })
	if err := r.keepFacts(); err != nil {
		t.Fatal(err)
	}
	if f := sessiontest.Known(t, w.Session).Facts; !f.Founded.Equal(was.Founded) || f.Answers != w.Cluster.Endpoint.Answers() {
		t.Errorf("remembered is %+v", f)
	}
}
