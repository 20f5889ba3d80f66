package act

import (
	"context"
	"errors"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	appsv1 "k8s.io/api/apps/v1"
	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime"

	"verbund/internal/core/memory"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/engine/enginetest"
	"verbund/internal/engine/look"
	"verbund/internal/engine/sessiontest"
	"verbund/internal/kube"
	"verbund/internal/site"
	"verbund/internal/store"
)

func release(name string, needs ...string) plan.Step {
	return plan.Step{ID: "release/" + name, Kind: plan.Release, Machine: name, Text: "release", Needs: needs}
}

// run is a run whose site asks before it gives a machine back.
func run(t *testing.T, giving func(context.Context, string) error) (*Run, *[]store.Entry) {
	t.Helper()
	s := sessiontest.Session(t)
	s.Site = &sessiontest.Site{Giving: giving}
	var mu sync.Mutex
	var told []store.Entry
	r, err := Begin(s, &look.View{Cluster: sessiontest.Cluster(t, 1)}, "test", 0, func(e store.Entry) {
		mu.Lock()
		defer mu.Unlock()
		told = append(told, e)
	})
	if err != nil {
		t.Fatal(err)
	}
	return r, &told
}

// Steps wait for what they need, and run beside each other otherwise.
func TestStepsInOrder(t *testing.T) {
	var mu sync.Mutex
	var order []string
	both := make(chan struct{})
	waiting := 0
	r, told := run(t, func(_ context.Context, m string) error {
		mu.Lock()
		order = append(order, m)
		if m == "a" || m == "b" {
			if waiting++; waiting == 2 {
				close(both)
			}
		}
		mu.Unlock()
		if m == "a" || m == "b" {
			// Neither ends before the other has begun.
			select {
			case <-both:
			case <-time.After(10 * time.Second):
				return errors.New("two at a time did not come")
			}
		}
		return nil
	})
	bg := context.Background()
	if err := r.Steps(bg, bg, []plan.Step{release("a"), release("b"), release("c", "release/a", "release/b"), release("d", "release/c")}); err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(order[2:], " "); got != "c d" {
		t.Errorf("order %v", order)
	}
	if err := r.End(nil); err != nil {
		t.Fatal(err)
	}
	es, _, err := r.Store.Entries()
	if err != nil || len(es) != len(*told) || len(es) != 10 || es[0].Kind != store.RunBegan || es[9].Outcome != "done" {
		t.Errorf("%d entries, %d told, %v", len(es), len(*told), err)
	}
}

// The first failure lets nothing more begin, and what runs is finished.
func TestStepsStopAtFailure(t *testing.T) {
	var mu sync.Mutex
	var asked []string
	r, told := run(t, func(_ context.Context, m string) error {
		mu.Lock()
		defer mu.Unlock()
		asked = append(asked, m)
		if m == "a" {
			return sessiontest.Refusal(409)
		}
		return nil
	})
	bg := context.Background()
	err := r.Steps(bg, bg, []plan.Step{release("a"), release("b", "release/a"), release("c", "release/b")})
	var se *StepError
	if !errors.As(err, &se) || se.Machine != "a" || !strings.Contains(err.Error(), "the site will not") {
		t.Fatalf("error is %v", err)
	}
	if !slices.Equal(asked, []string{"a"}) {
		t.Errorf("asked %v", asked)
	}
	last := (*told)[len(*told)-1]
	if last.Kind != store.StepFailed || last.Step != "release/a" || last.Todo == "" {
		t.Errorf("the journal ends with %+v", last)
	}
}

// An interrupt finishes what runs and begins nothing else.
func TestStepsInterrupted(t *testing.T) {
	soft, stop := context.WithCancel(context.Background())
	defer stop()
	var mu sync.Mutex
	asked := 0
	r, _ := run(t, func(context.Context, string) error {
		mu.Lock()
		defer mu.Unlock()
		asked++
		stop()
		return nil
	})
	err := r.Steps(soft, context.Background(), []plan.Step{release("a"), release("b", "release/a")})
	if !errors.Is(err, ErrInterrupted) || asked != 1 {
		t.Errorf("%v after %d", err, asked)
	}
	if err := r.End(err); err != nil {
		t.Fatal(err)
	}
	es, _, _ := r.Store.Entries()
	if o := es[len(es)-1].Outcome; o != "interrupted" {
		t.Errorf("outcome %q", o)
	}
}

// A site that ends underway ends the run, with what to do.
func TestStepsWithoutASite(t *testing.T) {
	var r *Run
	r, _ = run(t, func(ctx context.Context, _ string) error {
		// Whoever asked waits on, and whoever asks from now on finds nobody.
		r.Site.(*sessiontest.Site).Fail(site.ErrNotRunning)
		<-ctx.Done()
		return ctx.Err()
	})
	bg := context.Background()
	done := make(chan error, 1)
	go func() { done <- r.Steps(bg, bg, []plan.Step{release("a")}) }()
	select {
	case err := <-done:
		var se *StepError
		if !errors.As(err, &se) || !strings.Contains(err.Error(), "the site") || se.Todo == "" {
			t.Errorf("error is %v", err)
		}
	case <-time.After(20 * time.Second):
		t.Fatal("the run does not end")
	}
}

// A node is ready when its proxy has installed the services, and not before.
func TestProxyWell(t *testing.T) {
	m := topology.Machine{Name: "tidewatch-gauges-1", Address: netip.MustParseAddr("127.83.7.4")}
	r := &Run{}
	ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	if err := r.proxyWell(ctx, m); err == nil || !strings.Contains(err.Error(), "refused") {
		t.Errorf("nobody is there: %v", err)
	}
	l, err := net.Listen("tcp", netip.AddrPortFrom(m.Address, nodeconf.ProxyHealthPort).String())
	if err != nil {
		t.Fatal(err)
	}
	var asked atomic.Int32
	srv := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if asked.Add(1) < 3 {
			http.Error(w, "no services installed yet", http.StatusServiceUnavailable)
		}
	}))
	srv.Listener.Close()
	srv.Listener = l
	srv.Start()
	defer srv.Close()
	if err := r.proxyWell(t.Context(), m); err != nil || asked.Load() != 3 {
		t.Errorf("after %d questions: %v", asked.Load(), err)
	}
}

// A step waits for its machine; what wakes one, or is done to a dead one, does not; what
// is on every node waits for all.
func TestWaitsFor(t *testing.T) {
	c := &topology.Cluster{Machines: []topology.Machine{{Name: "control-1"}, {Name: "gauges-1"}}}
	dark := map[string]string{"gauges-1": "it is switched off", "gone-1": "it is switched off"}
	for _, x := range []struct {
		kind    plan.Kind
		machine string
		want    string
	}{
		{plan.Ready, "gauges-1", "gauges-1"}, {plan.Drain, "gone-1", "gone-1"}, {plan.Switch, "control-1", ""},
		{plan.Get, "gauges-1", ""}, {plan.Wipe, "gauges-1", ""}, {plan.Drop, "gauges-1", ""}, {plan.Leave, "gauges-1", ""}, {plan.Unnode, "gauges-1", ""}, {plan.Release, "gauges-1", ""},
		{plan.Network, "", "gauges-1"}, {plan.Verify, "", "gauges-1"}, {plan.Backup, "", ""}, {plan.DNS, "", ""},
	} {
		if got := waitsFor(plan.Step{Kind: x.kind, Machine: x.machine}, c, dark); got != x.want {
			t.Errorf("%s of %s waits for %q, wanted %q", x.kind, x.machine, got, x.want)
		}
	}
}

// Every kind of step that can be planned is carried out by somebody, and nothing else is.
func TestCarriers(t *testing.T) {
	for _, k := range plan.Kinds {
		if carriers[k.Kind] == nil {
			t.Errorf("nobody carries out %s", k.Kind)
		}
	}
	if len(carriers) != len(plan.Kinds) {
		t.Errorf("%d kinds are carried out, and there are %d", len(carriers), len(plan.Kinds))
	}
	r, _ := run(t, nil)
	if err := r.do(context.Background(), plan.Step{Kind: "another"}, topology.Machine{}); err == nil || !strings.Contains(err.Error(), `no step "another"`) {
		t.Errorf("a kind that there is not: %v", err)
	}
}

// Why a node is not Ready is told with how far the network plugin is, where that does not serve.
func TestWithNetwork(t *testing.T) {
	plugin := func(serve int32) *appsv1.DaemonSet {
		d := &appsv1.DaemonSet{ObjectMeta: metav1.ObjectMeta{Namespace: "kube-system", Name: kube.Network}, Status: appsv1.DaemonSetStatus{DesiredNumberScheduled: 3, UpdatedNumberScheduled: 3, NumberAvailable: serve}}
		d.Spec.Template.Spec.Containers = []corev1.Container{{Name: kube.Network}}
		return d
	}
	why := errors.New("its network is not ready")
	for _, x := range []struct {
		there []runtime.Object
		want  string
	}{
		{[]runtime.Object{plugin(1)}, "its network is not ready; the network plugin fairway: 1 of 3 nodes serve it, 3 in the new version"},
		{[]runtime.Object{plugin(3)}, why.Error()},
		{nil, why.Error()},
	} {
		r := at(t, enginetest.New(t, 1, x.there...))
		if err := r.withKube(func(k *kube.Client) error { return withNetwork(t.Context(), k, why) }); err == nil || err.Error() != x.want || !errors.Is(err, why) {
			t.Errorf("%v, wanted %q", err, x.want)
		}
		if err := r.withKube(func(k *kube.Client) error { return withNetwork(t.Context(), k, nil) }); err != nil {
			t.Error(err)
		}
	}
}

// A machine that stays when it is given back keeps no keys: it is wiped before, unless it is not
// this cluster's; and where nobody can look whether it stays, it is not given back.
func TestReleaseOfWhatStays(t *testing.T) {
	w := enginetest.New(t, 1)
	r := at(t, w)
	m, fm := w.Of(versions.Worker)
	i := slices.IndexFunc(w.Site.Has.Machines, func(x site.Machine) bool { return x.Name == m.Name })
	var order []string
	w.Site.Giving = func(context.Context, string) error {
		order = append(order, strings.Join(fm.Done(), ", "))
		return nil
	}
	w.Site.Fail(errors.New("no answer"))
	if err := r.release(t.Context(), m.Name); err == nil || !strings.Contains(err.Error(), "no answer") {
		t.Errorf("unseen: %v", err)
	}
	w.Site.Fail(nil)
	here := w.Site.Has.Machines[i]
	here.Adopted = true
	w.Site.Has.Machines[i] = here
	fm.Fail = func(string) error { return errors.New("it cannot be wiped") }
	if err := r.release(t.Context(), m.Name); err == nil || len(order) > 0 {
		t.Errorf("not wiped: %v, given back %q", err, order)
	}
	fm.Fail = nil
	if err := r.release(t.Context(), m.Name); err != nil || !slices.Equal(order, []string{"wipe"}) {
		t.Errorf("%v; before it was given back was done %q", err, order)
	}
	// One without power keeps what it has, and that is said.
	here.Power = site.PowerOff
	w.Site.Has.Machines = append(w.Site.Has.Machines, here)
	sessiontest.Remember(t, r.Session, func(st *memory.State) { st.Machines[m.Name] = memory.Machine{Address: m.Address} })
	said := ""
	r.Tell = func(e store.Entry) { said += e.Text }
	if err := r.release(t.Context(), m.Name); err != nil || !strings.Contains(said, "keeps what was written to it") {
		t.Errorf("%v, said %q", err, said)
	}
	// Of a list, one that was never taken over is somebody else's.
	w.Cluster.Listed = true
	here.Power = site.PowerOn
	w.Site.Has.Machines = append(w.Site.Has.Machines, here)
	sessiontest.Remember(t, r.Session, func(st *memory.State) {
		st.Machines[m.Name] = memory.Machine{Address: m.Address, Fingerprint: "SHA256:made-up"}
	})
	order = nil
	if err := r.release(t.Context(), m.Name); err != nil || !slices.Equal(order, []string{""}) {
		t.Errorf("%v; before it was given back was done %q", err, order)
	}
}

// Where somebody deleted a node, there is nothing to be evicted from it, and its machine changes.
func TestDrainOfNoNode(t *testing.T) {
	w := enginetest.New(t, 1)
	m, _ := w.Of(versions.Worker)
	r, told := rolling(t, w)
	if err := r.Steps(t.Context(), t.Context(), []plan.Step{{ID: "drain/" + m.Name, Kind: plan.Drain, Machine: m.Name, Within: time.Minute, Text: "empty it"}}); err != nil {
		t.Fatal(err)
	}
	if !slices.ContainsFunc(*told, func(e store.Entry) bool { return strings.Contains(e.Text, "there is no such node") }) {
		t.Errorf("nobody was told: %+v", *told)
	}
}

// A kubelet that runs makes no node a second time: where its node is gone it is started anew, and
// where the node is there, or it did not run, nothing more is done than to start what is to run.
func TestNodeThatWasDeleted(t *testing.T) {
	for _, x := range []struct {
		what       string
		runs, node bool
		anew       bool
	}{{"deleted", true, false, true}, {"there", true, true, false}, {"not started yet", false, false, false}} {
		w := enginetest.New(t, 1)
		m, fm := w.Of(versions.Worker)
		r, _ := rolling(t, w)
		if !x.runs {
			fm.States[nodeconf.UnitKubelet] = "inactive"
		}
		if x.node {
			if _, err := w.API.CoreV1().Nodes().Create(t.Context(), &corev1.Node{ObjectMeta: metav1.ObjectMeta{Name: m.Name}}, metav1.CreateOptions{}); err != nil {
				t.Fatal(err)
			}
		}
		fm.Done()
		if err := r.Steps(t.Context(), t.Context(), []plan.Step{{ID: "node/" + m.Name, Kind: plan.Node, Machine: m.Name, Text: "start it"}}); err != nil {
			t.Fatalf("%s: %v", x.what, err)
		}
		done := fm.Done()
		if anew := slices.Contains(done, "restart "+nodeconf.UnitKubelet); anew != x.anew || !slices.Contains(done, "start "+nodeconf.UnitKubelet) {
			t.Errorf("%s: done was %q", x.what, done)
		}
	}
}

// unwritten is a journal that takes nothing more at some point, as one elsewhere that is not
// reached, or whose lock was lost.
type unwritten struct {
	store.Journal
	ends atomic.Bool
}

func (u *unwritten) Append(e store.Entry) error {
	if u.ends.Load() {
		return errors.New("nobody takes it")
	}
	return u.Journal.Append(e)
}

// What cannot be written down does not begin; what is under way is finished, and it is said.
func TestJournalEndsUnderway(t *testing.T) {
	j := &unwritten{}
	var done []string
	r, _ := run(t, func(_ context.Context, m string) error {
		j.ends.Store(true)
		done = append(done, m)
		return nil
	})
	j.Journal, r.journal = r.journal, j
	r.Parallel = 1
	err := r.Steps(context.Background(), context.Background(), []plan.Step{release("a"), release("b"), release("c", "release/a")})
	if err == nil || !strings.Contains(err.Error(), "nobody takes it") || !slices.Equal(done, []string{"a"}) {
		t.Errorf("%v were done: %v", done, err)
	}
}
