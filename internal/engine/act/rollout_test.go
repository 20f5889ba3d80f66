package act

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime"

	"verbund/internal/core/memory"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/rollout"
	"verbund/internal/engine/enginetest"
	"verbund/internal/engine/look"
	"verbund/internal/engine/sessiontest"
	"verbund/internal/probe"
	"verbund/internal/store"
)

// rolling is a run on a whole cluster, with the steps that it has told of.
func rolling(t *testing.T, w *enginetest.World) (*Run, *[]store.Entry) {
	t.Helper()
	seen := plan.Observed{Machines: map[string]plan.MachineSeen{}}
	for _, m := range w.Cluster.Machines {
		seen.Machines[m.Name] = plan.MachineSeen{Exists: true, Reached: true, Active: "a", Role: m.Role}
		w.Furnish(m)
	}
	var mu sync.Mutex
	var told []store.Entry
	r, err := Begin(w.Session, &look.View{Cluster: w.Cluster, Seen: seen}, "test", 0, func(e store.Entry) {
		mu.Lock()
		defer mu.Unlock()
		told = append(told, e)
	})
	if err != nil {
		t.Fatal(err)
	}
	return r, &told
}

func wave(group string, n int, machines ...string) plan.Step {
	return plan.Step{ID: "wave/" + group, Kind: plan.Wave, Group: group, Wave: n, Text: "begin a wave", Guards: []plan.Guard{plan.MayBegin}, Opens: &rollout.Open{Number: n, Machines: machines, Before: "v1.36.3"}}
}

// A wave begins when nobody holds the roll-out and the hours allow it, and is remembered
// then; otherwise nothing that comes after it is begun, and what does not is done.
func TestWavesWait(t *testing.T) {
	night := &rollout.Window{Days: [7]bool{true, true, true, true, true, true, true}, From: 22 * time.Hour, To: 5 * time.Hour, Zone: time.UTC}
	at := func(hour int) time.Time { return time.Date(2026, 11, 27, hour, 0, 0, 0, time.UTC) }
	for _, x := range []struct {
		name   string
		held   *memory.Held
		window *rollout.Window
		now    time.Time
		until  time.Time
		want   string
	}{
		{"at any time", nil, nil, at(12), time.Time{}, ""},
		{"within the hours", nil, night, at(23), time.Time{}, ""},
		{"outside of the hours", nil, night, at(12), at(22), "outside of the declared hours no wave begins; the next may at Fri 2026-11-27 22:00 UTC"},
		{"held by a person", &memory.Held{By: memory.ByPerson, Why: "the fair", Since: at(9)}, nil, at(12), time.Time{}, "held by a person"},
		{"held as declared", &memory.Held{By: memory.ByDeclaration, Group: "forecast", Since: at(9)}, night, at(23), time.Time{}, "as it is declared for pool forecast"},
	} {
		t.Run(x.name, func(t *testing.T) {
			w := enginetest.New(t, 1)
			r, told := rolling(t, w)
			r.Cluster.Window, r.Clock = x.window, func() time.Time { return x.now }
			sessiontest.Remember(t, r.Session, func(st *memory.State) { st.Held = x.held })
			bg := context.Background()
			err := r.Steps(bg, bg, []plan.Step{wave("gauges", 3, "tidewatch-gauges-1"), release("after", "wave/gauges"), release("beside")})
			open := sessiontest.Known(t, r.Session).Waves
			var h *Held
			if x.want == "" {
				if err != nil || open["gauges"].Number != 3 || open["gauges"].Before != "v1.36.3" {
					t.Errorf("%v, open %+v", err, open)
				}
				return
			}
			if !errors.As(err, &h) || !strings.Contains(err.Error(), x.want) || !h.Until.Equal(x.until) || len(open) > 0 {
				t.Errorf("%v until %v, open %+v; wanted %q", err, h, open, x.want)
			}
			done := ""
			for _, e := range *told {
				done += e.Kind + " " + e.Step + "\n"
			}
			if !strings.Contains(done, "step-done release/beside") || strings.Contains(done, "release/after") || !strings.Contains(done, "step-held wave/gauges") {
				t.Errorf("it was told\n%s", done)
			}
			if outcome(err) != "held" {
				t.Errorf("the run ends %q", outcome(err))
			}
		})
	}
}

// What the declaration holds is remembered with the group, so that the next process knows.
func TestHoldOutlives(t *testing.T) {
	r, _ := rolling(t, enginetest.New(t, 1))
	bg := context.Background()
	err := r.Steps(bg, bg, []plan.Step{{ID: "hold/gauges-1", Kind: plan.Pause, Group: "gauges", Wave: 1, Text: "wait for a person's word"}, release("after", "hold/gauges-1")})
	h := sessiontest.Known(t, r.Session).Held
	if held := (*Held)(nil); !errors.As(err, &held) || h == nil || h.Group != "gauges" || h.By != memory.ByDeclaration {
		t.Errorf("%v; held %+v", err, h)
	}
}

// While machines are watched, what is seen wrong twice ends it and names the machine; a
// moment does not, and at the end it is remembered that they stayed well.
func TestSoak(t *testing.T) {
	const name = "tidewatch-gauges-1"
	ready := func(s corev1.ConditionStatus) runtime.Object {
		return &corev1.Node{ObjectMeta: metav1.ObjectMeta{Name: name}, Status: corev1.NodeStatus{Conditions: []corev1.NodeCondition{{Type: corev1.NodeReady, Status: s, LastHeartbeatTime: metav1.Now()}}}}
	}
	for _, x := range []struct {
		name, want string
		node       runtime.Object
		be         func(*enginetest.World)
	}{
		{"well", "", ready(corev1.ConditionTrue), func(*enginetest.World) {}},
		{"a service has ended", nodeconf.UnitKubelet + " does not run", ready(corev1.ConditionTrue), func(w *enginetest.World) { w.Machines[name].States[nodeconf.UnitKubelet] = "failed" }},
		{"its node is not Ready", "the node is not Ready", ready(corev1.ConditionFalse), func(*enginetest.World) {}},
		{"it is not reached", "nobody answers", ready(corev1.ConditionTrue), func(w *enginetest.World) { delete(w.Machines, name) }},
	} {
		t.Run(x.name, func(t *testing.T) {
			t.Parallel()
			w := enginetest.New(t, 1, x.node)
			r, _ := rolling(t, w)
			sessiontest.Remember(t, r.Session, func(st *memory.State) {
				st.Waves["gauges"] = rollout.Open{Number: 1, Machines: []string{name}, Trial: true}
			})
			x.be(w)
			bg := context.Background()
			err := r.Steps(bg, bg, []plan.Step{{ID: "soak/gauges-1", Kind: plan.Soak, Group: "gauges", Wave: 1, Text: "see it stay well", Machines: []string{name}, Waits: 400 * time.Millisecond, Within: 400 * time.Millisecond}})
			open := sessiontest.Known(t, r.Session).Waves
			var se *StepError
			switch {
			case x.want == "" && (err != nil || !open["gauges"].Soaked || open["gauges"].Number != 1):
				t.Errorf("%v, open %+v", err, open)
			case x.want != "" && (!errors.As(err, &se) || se.Machine != name || !strings.Contains(err.Error(), x.want) || open["gauges"].Soaked):
				t.Errorf("%v, open %+v, wanted %q", err, open, x.want)
			}
		})
	}
}

// A machine that fails is spared as its pool says: none on trial, none that is yet to take the
// place of another, and not more than may. What needs it goes on, and the last look is left out.
func TestSpared(t *testing.T) {
	for _, x := range []struct {
		name     string
		may      int
		trial    bool
		fresh    bool
		before   []string // that were spared already
		spared   bool
		followed bool
	}{
		{"one may", 1, false, false, nil, true, true},
		{"none may", 0, false, false, nil, false, false},
		{"on trial", 1, true, false, nil, false, false},
		{"a new one", 1, false, true, nil, false, false},
		{"another one was", 1, false, false, []string{"tidewatch-gauges-2"}, false, false},
		{"it was, and fails again", 1, false, false, []string{"tidewatch-gauges-1"}, true, true},
		{"two may", 2, false, false, []string{"tidewatch-gauges-2"}, true, true},
	} {
		t.Run(x.name, func(t *testing.T) {
			w := enginetest.New(t, 3)
			r, told := rolling(t, w)
			policy := r.Cluster.Policies["gauges"]
			policy.Failures = x.may
			r.Cluster.Policies["gauges"] = policy
			if x.fresh {
				r.View.Seen.Machines["tidewatch-gauges-1"] = plan.MachineSeen{}
			}
			sessiontest.Remember(t, r.Session, func(st *memory.State) {
				st.Waves["gauges"] = rollout.Open{Machines: []string{"tidewatch-gauges-1"}, Trial: x.trial}
				for _, m := range x.before {
					st.Spared[m] = memory.Spared{Group: "gauges"}
				}
			})
			w.Site.Giving = func(_ context.Context, m string) error {
				if m == "tidewatch-gauges-1" {
					return errors.New("its disk is broken")
				}
				return nil
			}
			bad := release("tidewatch-gauges-1")
			bad.Group = "gauges"
			bg := context.Background()
			err := r.Steps(bg, bg, []plan.Step{bad, {ID: "uncordon/tidewatch-gauges-1", Kind: plan.Uncordon, Machine: "tidewatch-gauges-1", Group: "gauges", Needs: []string{bad.ID}, Text: "uncordon"},
				release("next", "uncordon/tidewatch-gauges-1"), {ID: "verify", Kind: plan.Verify, Text: "look", Needs: []string{"release/next"}}})
			var f *Failed
			if errors.As(err, &f) != x.spared || err == nil {
				t.Fatalf("it ends %v", err)
			}
			spared := sessiontest.Known(t, r.Session).Spared
			if _, is := spared["tidewatch-gauges-1"]; is != (x.spared || slices.Contains(x.before, "tidewatch-gauges-1")) {
				t.Errorf("spared are %v", spared)
			}
			done := ""
			for _, e := range *told {
				done += e.Kind + " " + e.Step + "\n"
			}
			if strings.Contains(done, "step-done release/next") != x.followed || strings.Contains(done, "uncordon") || strings.Contains(done, "verify") {
				t.Errorf("it was told\n%s", done)
			}
		})
	}
}

// When an application has broken its limit no wave begins, and no further machine of one that
// has begun goes out of service; what is no roll-out is not asked.
func TestApplicationsHaveASay(t *testing.T) {
	var closed atomic.Bool
	site := httptest.NewServer(http.HandlerFunc(func(a http.ResponseWriter, _ *http.Request) {
		if closed.Load() {
			a.WriteHeader(http.StatusInternalServerError)
		}
	}))
	defer site.Close()
	w := enginetest.New(t, 1)
	r, _ := rolling(t, w)
	r.Watches = probe.Start(t.Context(), []probe.Watch{{Name: "tidetable", URL: site.URL, Status: 200, Interval: 5 * time.Millisecond, Slow: time.Second}}, func(string) string { return "" })
	defer r.Watches.Stop()
	bg := context.Background()
	if err := r.Steps(bg, bg, []plan.Step{wave("gauges", 1, "tidewatch-gauges-1")}); err != nil {
		t.Fatalf("all is well: %v", err)
	}
	if n := r.Watches.Figures()[0].Answers; n < enoughAnswers {
		t.Errorf("a wave began after %d answers", n)
	}
	closed.Store(true)
	for r.Watches.Broken() == nil {
		select {
		case <-t.Context().Done():
			t.Fatal("the limit was not broken")
		case <-time.After(5 * time.Millisecond):
		}
	}
	out := plan.Step{ID: "rest/tidewatch-gauges-1", Kind: plan.Rest, Machine: "tidewatch-gauges-1", Group: "gauges", Text: "take it out"}
	for _, s := range []plan.Step{wave("gauges", 2, "tidewatch-gauges-2"), out} {
		if err := r.Steps(bg, bg, []plan.Step{s}); err == nil || !strings.Contains(err.Error(), "watch tidetable has broken its limit") || !strings.Contains(err.Error(), "tidewatch-gauges-1 had been begun with") {
			t.Errorf("%s: %v", s.ID, err)
		}
	}
	if err := r.Steps(bg, bg, []plan.Step{release("something")}); err != nil {
		t.Errorf("what is no roll-out: %v", err)
	}
	// At an hour at which no wave begins, that is said.
	var held *Held
	r.Cluster.Window, r.Clock = &rollout.Window{Days: [7]bool{true, true, true, true, true, true, true}, From: 22 * time.Hour, To: 5 * time.Hour, Zone: time.UTC}, func() time.Time { return time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC) }
	if err := r.Steps(bg, bg, []plan.Step{wave("gauges", 3, "tidewatch-gauges-3")}); !errors.As(err, &held) || held.Until.IsZero() {
		t.Errorf("outside of the hours: %v", err)
	}
}

// A machine that is yet to come rests in the balancer until a step puts it into it; one that
// is there does not rest because of that.
func TestNewOnesRest(t *testing.T) {
	r, _ := rolling(t, enginetest.New(t, 2))
	r.View.Seen.Machines["tidewatch-gauges-2"] = plan.MachineSeen{}
	back := func(m string) plan.Step {
		return plan.Step{ID: "return/" + m, Kind: plan.Return, Machine: m, Text: "let requests come"}
	}
	if err := r.RestNew([]plan.Step{back("tidewatch-gauges-1"), back("tidewatch-gauges-2"), release("tidewatch-gauges-3")}); err != nil {
		t.Fatal(err)
	}
	if got := sessiontest.Known(t, r.Session).Resting; len(got) != 1 || !got["tidewatch-gauges-2"] {
		t.Errorf("%v rest", got)
	}
}
