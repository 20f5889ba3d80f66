package cli_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	admissionv1 "k8s.io/api/admissionregistration/v1"
	appsv1 "k8s.io/api/apps/v1"
	corev1 "k8s.io/api/core/v1"
	policyv1 "k8s.io/api/policy/v1"
	storagev1beta1 "k8s.io/api/storage/v1beta1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/util/intstr"
)

// rolled is where a roll-out stands, as JSON.
type rolled struct {
	State  string
	Since  *time.Time
	Ends   *time.Time
	Next   *time.Time
	Held   *struct{ By, Group, Why string }
	Groups []struct {
		Group, Waits   string
		Done, Of, Wave int
		Machines, Left []string
		Trial          bool
		Runs           []string
	}
	Spared map[string]struct{ Group, Why string }
	Out    map[string]float64
	Run    *struct {
		Command string
		Process int
	}
}

func (w *world) rolled() rolled {
	w.Helper()
	var r rolled
	if err := json.Unmarshal([]byte(w.ok("rollout", "-o", "json")), &r); err != nil {
		w.Fatal(err)
	}
	return r
}

// journal is every entry that was written so far. Each kill may have cut one short, which the
// tool leaves out, too.
func (w *world) journal() []journalEntry {
	w.Helper()
	b, err := os.ReadFile(w.path(".verbund/tidewatch/journal.jsonl"))
	if err != nil {
		w.Fatal(err)
	}
	var out []journalEntry
	short := 0
	for line := range strings.Lines(string(b)) {
		var e journalEntry
		if err := json.Unmarshal([]byte(line), &e); err != nil {
			if short++; short > w.kills {
				w.Fatal(err)
			}
			continue
		}
		out = append(out, e)
	}
	return out
}

// ended is the journal with the ends of steps that kills swallowed: of a step that was cut off
// when it was done there is none, and no later run began it again.
func (w *world) ended() []journalEntry {
	w.Helper()
	es := w.journal()
	begun := map[string]int{}
	for i, e := range es {
		switch e.Kind {
		case "step-began":
			begun[e.Step] = i
		case "step-done", "step-failed", "step-held":
			delete(begun, e.Step)
		}
	}
	swallowed := map[string][]journalEntry{}
	for i, e := range es {
		if at, ok := begun[e.Step]; ok && at == i {
			e.Kind = "step-done"
			swallowed[e.Run] = append(swallowed[e.Run], e)
		}
	}
	var out []journalEntry
	for i, e := range es {
		out = append(out, e)
		if i == len(es)-1 || es[i+1].Run != e.Run {
			out = append(out, swallowed[e.Run]...)
			delete(swallowed, e.Run)
		}
	}
	return out
}

type journalEntry struct {
	Time                                  time.Time
	Run, Kind, Step, What, Where, Outcome string
	Group                                 string
	Wave                                  int
}

// until reads what a run tells until an entry comes, and then goes on to read it.
func untilEntry(out io.Reader, kind, step string) bool {
	seen := false
	entries(out, func(k, s, _ string) bool {
		seen = k == kind && strings.HasPrefix(s, step)
		return !seen
	})
	go entries(out, func(string, string, string) bool { return true })
	return seen
}

// The declaration holds a roll-out after its trial: that outlives the process, no machine is
// touched until a person says so, and it can be taken back.
func TestHoldResumeBack(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "available", "v1.36.3")
	w.declare(`trial: 1, soak: 1s`, "trial: 1, soak: 1s, hold: after-trial")
	w.fails(0, []string{"none;", "machines are not there yet"}, "rollout")
	w.ok("converge", "--yes")
	w.fails(2, []string{"nothing is held"}, "rollout", "resume", "--yes")
	w.fails(0, []string{"none; no machine is to change"}, "rollout")
	w.declare(`kubernetes: .*`, "kubernetes: v1.37.2")
	w.fails(0, []string{"tidewatch-gauges-1 goes first, and has to stay well for 1s", "3, 1 hold", "--steps shows them one by one"}, "plan")
	w.fails(3, []string{"the roll-out holds since", "as it is declared for pool gauges", "verbund rollout resume"}, "converge", "--yes")
	moved := func(want ...string) {
		t.Helper()
		var got []string
		for n, v := range versionsOf(w) {
			if v == "v1.37.2" && strings.Contains(n, "-gauges-") || v == "v1.37.2" && strings.Contains(n, "-forecast-") {
				got = append(got, strings.TrimPrefix(n, "tidewatch-"))
			}
		}
		if slices.Sort(got); !slices.Equal(got, want) {
			t.Errorf("workers %v have moved, wanted %v", got, want)
		}
	}
	moved("gauges-1")
	before := len(w.journal())
	w.fails(3, []string{"the roll-out holds since"}, "converge", "--yes")
	if n := len(w.journal()); n != before {
		t.Errorf("a converge while it is held wrote %d entries", n-before)
	}
	r := w.rolled()
	if r.State != "held" || r.Held == nil || r.Held.By != "declaration" || r.Held.Group != "gauges" || r.Since == nil || r.Ends == nil || r.Groups[1].Waits != "a person's word" || r.Groups[1].Done != 1 || !r.Groups[1].Trial || len(r.Groups[1].Left) != 2 || r.Out["tidewatch-gauges-1"] <= 0 {
		t.Errorf("it stands %+v", r)
	}
	if s := w.status(); s.State != "changes pending" || len(s.Ailing) > 0 {
		t.Errorf("status is %+v", s)
	}
	w.fails(3, []string{"is held"}, "plan", "--exit-code")
	w.ok("rollout", "resume", "--yes")
	w.well("v1.37.2")
	moved("forecast-1", "forecast-2", "gauges-1", "gauges-2", "gauges-3")
	if o := w.ok("nodes"); strings.Contains(o, "cordoned") {
		t.Errorf("a node was left cordoned:\n%s", o)
	}

	// Back: one pool, and the declaration says so from now on. It is a roll-out as any other.
	w.fails(2, []string{`has no group of machines "gauge"; did you mean gauges?`}, "rollout", "back", "gauge", "--yes")
	w.fails(3, []string{"back in cluster tidewatch: pool gauges to v1.36.3", "as it is declared for pool gauges"}, "rollout", "back", "gauges", "--yes")
	moved("forecast-1", "forecast-2", "gauges-2", "gauges-3")
	// The hold of one pool holds another one that comes after it.
	w.fails(3, []string{"back in cluster tidewatch: pool forecast to v1.36.3", "nothing was written down", "as it is declared for pool gauges"}, "rollout", "back", "forecast", "--yes")
	moved("forecast-1", "forecast-2", "gauges-2", "gauges-3")
	w.ok("rollout", "resume", "--yes")
	moved("forecast-1", "forecast-2")
	// The control plane does not go back a minor, and the backup is named.
	w.fails(0, []string{"back in cluster tidewatch: pool forecast to v1.36.3", "a minor does not go back", "the backup of before is", "-v1.36.3.backup.age"}, "rollout", "back", "--yes")
	moved()
	w.well("v1.37.2")
	w.fails(1, []string{"nothing to take back", "a minor does not go back"}, "rollout", "back", "--yes")
}

// A patch is taken back whole, or in the middle: the pools that follow the control plane go back
// with it, and nothing moves forward again by itself.
func TestPatchBack(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "available", "v1.37.1")
	w.declare(`trial: 1, soak: 1s`, "trial: 1, soak: 1s, hold: after-trial")
	w.ok("converge", "--yes")
	w.fails(3, []string{"the roll-out holds since"}, "upgrade", "v1.37.2", "--yes")
	w.fails(0, []string{"back in cluster tidewatch: the control plane to v1.37.1, pool gauges with it", "of pool gauges: tidewatch-gauges-1"}, "rollout", "back", "--yes")
	w.well("v1.37.1")
	w.fails(0, []string{"nothing to do"}, "converge", "--yes")

	w.declare(`, hold: after-trial`, "")
	w.ok("upgrade", "v1.37.2", "--yes")
	w.fails(0, []string{"the control plane to v1.37.1, pool gauges with it, pool forecast with it"}, "rollout", "back", "--yes")
	w.well("v1.37.1")
	w.fails(1, []string{"nothing to take back"}, "rollout", "back", "--yes")
}

// A person holds a roll-out from another terminal while it runs: the machines that have begun
// are finished, no other is touched, and no node stays cordoned.
func TestHoldByAPerson(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "available", "v1.36.3")
	w.ok("converge", "--yes")
	w.declare(`kubernetes: .*`, "kubernetes: v1.37.2")
	// Longer than anybody needs to say it: the trial is still watched when the word comes.
	w.declare(`trial: 1, soak: 1s`, "trial: 1, soak: 20s")
	cmd, out, log := w.start("converge", "--yes", "-o", "json")
	if !untilEntry(out, "step-began", "switch/tidewatch-gauges-1") {
		t.Fatalf("it never came to the pools: %s", log.String())
	}
	w.fails(0, []string{"underway", "run         verbund converge, process", "1: tidewatch-gauges-1, on trial", "its turn"}, "rollout")
	w.fails(0, []string{"the roll-out is held by a person", "(the fair begins)", "finishes the machines that it has begun with"}, "rollout", "hold", "--reason", "the fair begins")
	if err := cmd.Wait(); err == nil || cmd.ProcessState.ExitCode() != 3 {
		t.Errorf("exit code %d, wanted 3: %s", cmd.ProcessState.ExitCode(), log.String())
	}
	vs := versionsOf(w)
	if vs["tidewatch-gauges-1"] != "v1.37.2" || vs["tidewatch-gauges-2"] != "v1.36.3" || vs["tidewatch-forecast-1"] != "v1.36.3" {
		t.Errorf("nodes run %v", vs)
	}
	if o := w.ok("nodes"); strings.Contains(o, "cordoned") {
		t.Errorf("a node was left cordoned:\n%s", o)
	}
	if es := w.journal(); es[len(es)-1].Outcome != "held" {
		t.Errorf("the run ended %q", es[len(es)-1].Outcome)
	}
	// What is no roll-out is done meanwhile.
	w.ok("site", "power", "tidewatch-forecast-2", "off")
	w.fails(3, []string{"what is not part of it is done meanwhile"}, "converge", "--yes")
	if m := w.machines()["tidewatch-forecast-2"]; m.Power != "on" {
		t.Errorf("a machine without power was not woken: %+v", m)
	}
	w.soak("1s")
	w.ok("rollout", "resume", "--yes")
	w.well("v1.37.2")
}

// No wave begins outside of the declared hours, and it is said when one may.
func TestHours(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.1")
	w.ok("converge", "--yes")
	now := time.Now().UTC()
	from, to := now.Add(2*time.Hour), now.Add(4*time.Hour)
	w.declare(`name: tidewatch\n`, fmt.Sprintf("name: tidewatch\nrollout: {window: {from: '%s', to: '%s'}}\n", from.Format("15:04"), to.Format("15:04")))
	w.declare(`kubernetes: .*`, "kubernetes: v1.37.2")
	w.fails(3, []string{"outside of the declared hours no wave begins", "the next may at " + from.Format("Mon 2006-01-02 15:04") + " UTC"}, "converge", "--yes")
	for n, v := range versionsOf(w) {
		if v != "v1.37.1" {
			t.Errorf("%s went to %s", n, v)
		}
	}
	if r := w.rolled(); r.Next == nil || r.Next.Format("15:04") != from.Format("15:04") || r.Held != nil {
		t.Errorf("it stands %+v", r)
	}
	w.declare(`from: '[0-9:]*', to: '[0-9:]*'`, fmt.Sprintf("from: '%s', to: '%s'", now.Add(-time.Hour).Format("15:04"), to.Format("15:04")))
	w.ok("converge", "--yes")
	w.well("v1.37.2")
}

// A living pool gets another size, in the way of replacement: under load no request fails,
// the new ones come before the old ones go, and whoever is killed in between makes nothing
// twice and gives nothing back that was not emptied. It runs alone: it measures requests.
func TestSizeOfALivingPool(t *testing.T) {
	w := newWorld(t, "available", "v1.37.2")
	w.ok("converge", "--yes")
	kc := w.path("kubeconfig")
	w.ok("access", "--merge", kc)
	w.deploy(kc)
	old := w.machines()
	l := startLoad(map[string]func(context.Context) error{"api": asksAPI(kc), "page": asksPage("http://" + w.status().Endpoint.Address + ":8080/")})
	w.declare(`size: small\n    labels`, "size: medium\n    labels")
	w.fails(0, []string{"Removes tidewatch-gauges-1 (worker, zone north)", "Removes tidewatch-gauges-2 after these", "size medium instead of small"}, "plan", "--steps")
	n := killed(t, w, 60, "converge", "--yes")
	t.Logf("replaced after %d kills", n)
	if n < 10 {
		t.Errorf("only %d kills: the steps were not cut one by one", n)
	}
	l.end(w, 100)
	w.well("v1.37.2")
	ms := w.machines()
	if len(ms) != len(old) {
		t.Errorf("%d machines, wanted %d", len(ms), len(old))
	}
	for _, name := range []string{"tidewatch-gauges-4", "tidewatch-gauges-5", "tidewatch-gauges-6"} {
		if ms[name].Size != "medium" {
			t.Errorf("%s is %+v", name, ms[name])
		}
	}
	w.inOrder("tidewatch-gauges-1", "tidewatch-gauges-4")
	w.inOrder("tidewatch-gauges-2", "tidewatch-gauges-5")
	if o := w.ok("nodes"); strings.Contains(o, "cordoned") {
		t.Errorf("a node was left cordoned:\n%s", o)
	}
	w.fails(0, []string{"as declared: nothing to do"}, "converge", "--yes")
}

// inOrder asserts by the journal that a machine was given back after it was emptied, and
// emptied after the new one was well.
func (w *world) inOrder(old, new string) {
	w.Helper()
	at := map[string]time.Time{}
	for _, e := range w.ended() {
		if e.Kind == "step-done" || e.Kind == "step-began" && strings.HasPrefix(e.Step, "release/") {
			at[e.Step+" "+e.Kind] = e.Time
		}
	}
	ready, drained, given := at["ready/"+new+" step-done"], at["drain/"+old+" step-done"], at["release/"+old+" step-began"]
	// A run that finds the new one Ready does not wait for it first.
	if drained.IsZero() || !ready.IsZero() && drained.Before(ready) || given.Before(drained) {
		w.Errorf("%s was well at %s, %s emptied at %s and given back at %s", new, ready, old, drained, given)
	}
}

// The control plane and its datastore get another size while the API is used: one joins, then
// one leaves, and at no moment is a member less than before.
func TestControlPlaneByReplacement(t *testing.T) {
	w := newWorld(t, "available", "v1.37.2")
	w.fewer(1, 1)
	w.ok("converge", "--yes")
	kc := w.path("kubeconfig")
	w.ok("access", "--merge", kc)
	l := startLoad(map[string]func(context.Context) error{"api": asksAPI(kc)})
	w.declare(`size: medium`, "size: large")
	n := killed(t, w, 24, "converge", "--yes")
	t.Logf("replaced after %d kills", n)
	l.end(w, 50)
	w.well("v1.37.2")
	ms := w.machines()
	for _, name := range []string{"tidewatch-control-4", "tidewatch-control-5", "tidewatch-control-6"} {
		if ms[name].Size != "large" {
			t.Errorf("%s is %+v", name, ms[name])
		}
	}
	members := 3
	for _, e := range w.ended() {
		switch {
		case e.Kind != "step-done":
		case e.What == "member":
			members++
		case e.What == "leave":
			if members--; members < 3 {
				t.Errorf("%d members were left after %s", members, e.Step)
			}
		}
	}
	if len(ms) != 6 || members != 3 {
		t.Errorf("%d machines, %d members", len(ms), members)
	}
}

// Over two minors in one command, killed at each hop and in between: the control plane minor
// by minor, each after a backup, the workers drained once. It runs alone: it measures requests.
func TestTwoMinorsInOneRun(t *testing.T) {
	w := newWorld(t, "available", "v1.35.4")
	w.declare(`count: 2\n    size: large`, "count: 1\n    size: large")
	w.ok("converge", "--yes")
	kc := w.path("kubeconfig")
	w.ok("access", "--merge", kc)
	w.deploy(kc)
	w.fails(0, []string{"2 hops of the control plane, each after a backup, and 1 drain of each worker", "hop to v1.36.3, on the way to v1.37.2"}, "plan", "--to", "v1.37.2")
	if o := w.ok("plan"); !strings.Contains(o, "as declared") {
		t.Errorf("plan --to wrote something down:\n%s", o)
	}
	// Which machines are done is counted by the hop, and called so.
	w.declare(`kubernetes: .*`, "kubernetes: v1.37.2")
	w.fails(0, []string{"to v1.36.3, on the way to v1.37.2", "hop done", "0 of 3"}, "rollout")
	w.declare(`kubernetes: .*`, "kubernetes: v1.35.4")
	w.fails(2, []string{"v1.38 is no hop on the way"}, "upgrade", "v1.37.2", "--to-hop", "v1.38", "--yes")
	l := startLoad(map[string]func(context.Context) error{"api": asksAPI(kc), "page": asksPage("http://" + w.status().Endpoint.Address + ":8080/")})
	w.fails(0, []string{"stopped after the hop to v1.36.3, as asked"}, "upgrade", "v1.37.2", "--to-hop", "v1.36", "--yes")
	for n, v := range versionsOf(w) {
		want := "v1.35.4"
		if strings.Contains(n, "control") {
			want = "v1.36.3"
		}
		if v != want {
			t.Errorf("%s runs %s, wanted %s", n, v, want)
		}
	}
	n := killed(t, w, 20, "converge", "--yes")
	t.Logf("upgraded after %d kills", n)
	l.end(w, 100)
	w.well("v1.37.2")
	drains := map[string]int{}
	for _, e := range w.ended() {
		if e.Kind == "step-done" && e.What == "switch" && !strings.Contains(e.Where, "control") {
			drains[e.Where]++
		}
	}
	for m, n := range drains {
		if n != 1 && !strings.Contains(m, "balancer") {
			t.Errorf("%s was switched %d times", m, n)
		}
	}
	if n := len(w.backups()); len(drains) < 4 || n < 2 {
		t.Errorf("%d workers were switched, %d backups taken", len(drains), n)
	}
	w.nothingPulledWhileOut()
}

// nothingPulledWhileOut asserts by the journal that between a node's cordon and the end of it
// nothing was fetched for its machine.
func (w *world) nothingPulledWhileOut() {
	w.Helper()
	out, pulls := map[string]bool{}, 0
	for _, e := range w.ended() {
		switch {
		case e.Kind == "step-began" && e.What == "drain":
			out[e.Where] = true
		case e.Kind == "step-done" && e.What == "uncordon":
			delete(out, e.Where)
		case e.What == "pull" && e.Kind == "step-began":
			if pulls++; out[e.Where] {
				w.Errorf("%s fetched while its node was out of service", e.Where)
			}
		}
	}
	if pulls == 0 {
		w.Error("nothing was fetched at all")
	}
}

// A machine on trial that never becomes well ends the roll-out: no other one is touched. Of
// those after it as many may fail as it is declared, and they stay cordoned, by name.
func TestTrialAndFailures(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.36.3")
	w.declare(`count: 1, size: small, rollout: {`, "count: 4, size: small, rollout: {failures: 1, ")
	w.ok("converge", "--yes")
	spoil := func(name string) {
		t.Helper()
		w.spoilSlot(name)
	}
	mend := func(name string) {
		t.Helper()
		if err := os.RemoveAll(w.path(".verbund/sites/estuary/disks/" + name + "/opt/verbund/slots/b/bin")); err != nil {
			t.Fatal(err)
		}
	}
	w.declare(`kubernetes: .*`, "kubernetes: v1.37.2")
	// The first of all is on trial: one that may fail it is not.
	spoil("tidewatch-keepers-1")
	w.fails(1, []string{"tidewatch-keepers-1 did not come up on v1.37.2"}, "converge", "--yes")
	for n, v := range versionsOf(w) {
		if v != "v1.36.3" && !strings.Contains(n, "control") {
			t.Errorf("%s runs %s", n, v)
		}
	}
	mend("tidewatch-keepers-1")
	spoil("tidewatch-keepers-2")
	w.fails(1, []string{"the roll-out went on without tidewatch-keepers-2", "stay as they are, cordoned", "verbund replace tidewatch-keepers-2"}, "converge", "--yes")
	vs := versionsOf(w)
	if vs["tidewatch-keepers-1"] != "v1.37.2" || vs["tidewatch-keepers-3"] != "v1.37.2" || vs["tidewatch-keepers-4"] != "v1.37.2" || vs["tidewatch-keepers-2"] != "v1.36.3" {
		t.Errorf("nodes run %v", vs)
	}
	if r := w.rolled(); r.State != "interrupted" || r.Spared["tidewatch-keepers-2"].Group != "keepers" {
		t.Errorf("it stands %+v", r)
	}
	w.fails(0, []string{"failed", "tidewatch-keepers-2, and stays cordoned"}, "rollout")
	if o := w.ok("nodes"); strings.Count(o, "cordoned") != 1 {
		t.Errorf("one node should be cordoned:\n%s", o)
	}
	mend("tidewatch-keepers-2")
	w.ok("converge", "--yes")
	w.well("v1.37.2")
	if r := w.rolled(); len(r.Spared) > 0 || r.State != "none" {
		t.Errorf("it stands %+v", r)
	}
}

// Turning enrolment by token on is a roll-out as well: no two kubelets of a pool are stopped
// together, and all stay nodes.
func TestEnrolmentRollsOut(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	w.declare(`count: 1, size: small`, "count: 3, size: small")
	w.ok("converge", "--yes")
	w.declare(`}\n$`, ", enrolment: token}\n")
	w.ok("converge", "--yes")
	w.well("v1.37.2")
	busy, waves := "", 0
	for _, e := range w.journal() {
		if e.Group != "keepers" {
			continue
		}
		switch {
		case e.What == "wave" && e.Kind == "step-done":
			waves++
		case e.What == "write" && e.Kind == "step-began":
			if busy != "" {
				t.Errorf("%s was written before %s was Ready", e.Where, busy)
			}
			busy = e.Where
		case e.What == "ready" && e.Kind == "step-done" && e.Where == busy:
			busy = ""
		}
	}
	if waves != 3 || busy != "" {
		t.Errorf("%d waves, wanted 3; %s was never Ready", waves, busy)
	}
}

// The only control-plane machine gives way to another one, too.
func TestSingleControlPlaneByReplacement(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	w.ok("converge", "--yes")
	kc := w.path("kubeconfig")
	w.ok("access", "--merge", kc)
	w.declare(`count: 1, size: medium`, "count: 1, size: large")
	w.ok("converge", "--yes")
	w.well("v1.37.2")
	if ms := w.machines(); ms["tidewatch-control-2"].Size != "large" || len(ms) != 2 {
		t.Errorf("machines are %+v", ms)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	if err := asksAPI(kc)(ctx); err != nil {
		t.Errorf("the kubeconfig that was given out: %v", err)
	}
}

// An application has a say: when it breaks its limit while the machine on trial is watched, no
// further machine is touched, and the run says which one was being changed.
func TestWatchStopsARollout(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "available", "v1.37.1")
	var closed atomic.Bool
	site := httptest.NewServer(http.HandlerFunc(func(a http.ResponseWriter, _ *http.Request) {
		if closed.Load() {
			a.WriteHeader(http.StatusServiceUnavailable)
		}
		fmt.Fprint(a, "high water at ten")
	}))
	defer site.Close()
	w.declare(`name: tidewatch\n`, "name: tidewatch\nwatch: [{name: tidetable, url: '"+site.URL+"', text: high water, interval: 50ms, allow: 2}]\n")
	w.soak("2s")
	w.ok("converge", "--yes")
	w.declare(`kubernetes: .*`, "kubernetes: v1.37.2")
	cmd, out, log := w.start("converge", "--yes", "-o", "json")
	if !untilEntry(out, "step-began", "soak/gauges-1") {
		t.Fatalf("it never came to the trial of the pool: %s", log.String())
	}
	closed.Store(true)
	if err := cmd.Wait(); err == nil || cmd.ProcessState.ExitCode() != 1 {
		t.Errorf("exit code %d, wanted 1", cmd.ProcessState.ExitCode())
	}
	for _, want := range []string{"watch tidetable has broken its limit", "it answered 503 Service Unavailable, and 200 is right", "at that moment tidewatch-gauges-1 had been begun with", "--without-watch REASON", "verbund rollout back"} {
		if !strings.Contains(log.String(), want) {
			t.Errorf("it does not say %q: %s", want, log.String())
		}
	}
	moved := func() (out []string) {
		for n, v := range versionsOf(w) {
			if v == "v1.37.2" && !strings.Contains(n, "control") {
				out = append(out, n)
			}
		}
		return out
	}
	if got := moved(); !slices.Equal(got, []string{"tidewatch-gauges-1"}) {
		t.Errorf("%v have moved", got)
	}
	// While it does not answer, nothing goes on; history has the figures.
	w.fails(1, []string{"has broken its limit"}, "converge", "--yes")
	if got := moved(); len(got) != 1 {
		t.Errorf("%v have moved", got)
	}
	w.fails(0, []string{"watch tidetable: ", "answers failed"}, "history", w.lastRun())
	// Until somebody says why it may.
	w.ok("converge", "--yes", "--without-watch", "the page is closed for the fair")
	w.fails(0, []string{"without the declared 1 watch: the page is closed for the fair"}, "history", w.lastRun())
	w.well("v1.37.2")
	// And one that answers is no bar, and its figures are told.
	closed.Store(false)
	w.declare(`size: small\n    labels`, "size: medium\n    labels")
	w.ok("converge", "--yes")
	w.fails(0, []string{"watch tidetable: 0 of "}, "history", w.lastRun())
}

// A rehearsal says beforehand how an upgrade goes, and touches nothing; what it said is held
// against what came. A machine that is said to fail ends it in words.
func TestRehearse(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "available", "v1.36.2")
	w.ok("converge", "--yes")
	w.fails(0, []string{"is as declared: nothing would be done"}, "rehearse")
	w.ok("upgrade", "v1.36.3", "--yes")
	var r struct {
		Middle, Bad struct {
			Seconds        float64
			Machines       int
			Waves          int
			Lowest         struct{ Share float64 }
			Ends           string
			Cordoned       []string
			Untouched      []string
			Blocked        []struct{ Text string }
			Capacity, Bars []any
		}
	}
	w.unchanged("a rehearsal", func() {
		if err := json.Unmarshal([]byte(w.ok("rehearse", "--to", "v1.37.2", "-o", "json")), &r); err != nil {
			t.Fatal(err)
		}
		w.fails(0, []string{"switch from v1.36.3 to v1.37.2 and restart on tidewatch-gauges-2 fails", "cordoned   tidewatch-gauges-2", "untouched  tidewatch-gauges-3, tidewatch-forecast-1"}, "rehearse", "--to", "v1.37.2", "--fail", "tidewatch-gauges-2")
		w.fails(0, []string{"with       batch=3, order=spread", "in 7 waves"}, "rehearse", "--to", "v1.37.2", "--with", "batch=3", "--with", "order=spread")
		w.fails(2, []string{"cannot be read; write batch=4"}, "rehearse", "--with", "batch=many")
		w.fails(2, []string{"there is no pool gauge"}, "rehearse", "--with", "gauge.batch=2")
		w.fails(2, []string{"has no machine tidewatch-gauges-9"}, "rehearse", "--to", "v1.37.2", "--fail", "tidewatch-gauges-9")
	})
	for _, file := range []string{"r.svg", "r.png"} {
		w.ok("rehearse", "--to", "v1.37.2", "--picture", file)
		if i, err := os.Stat(w.path(file)); err != nil || i.Size() < 2000 {
			t.Errorf("picture %s: %v", file, err)
		}
	}
	if m := r.Middle; m.Seconds <= 0 || m.Machines != 8 || m.Waves != 8 || m.Lowest.Share >= 1 || m.Lowest.Share < 0.5 || m.Ends != "" || r.Bad.Seconds < m.Seconds {
		t.Errorf("%+v", r)
	}
	began := time.Now()
	w.ok("upgrade", "v1.37.2", "--yes")
	took := time.Since(began).Seconds()
	t.Logf("rehearsed %.1f s, took %.1f s: %+.0f %%", r.Middle.Seconds, took, (took-r.Middle.Seconds)/r.Middle.Seconds*100)
	if took > 3*r.Middle.Seconds || took < r.Middle.Seconds/3 {
		t.Errorf("it was to take %.1f s, and took %.1f s", r.Middle.Seconds, took)
	}
	w.fails(0, []string{"It was reckoned to take", "went out of service and came back"}, "history", "last", "--against")
	w.fails(2, []string{"--against wants a run"}, "history", "--against")
}

// A pod that fits on no other machine is told before anything is begun, and so is what the
// cluster has at the lowest.
func TestForeseen(t *testing.T) {
	t.Parallel()
	w, k, _ := raisedWorld(t, "v1.36.3")
	ctx, cancel := context.WithTimeout(context.Background(), 6*time.Minute)
	defer cancel()
	deploy := func(name string, replicas int32, spec corev1.PodSpec) {
		t.Helper()
		l := map[string]string{"app": name}
		spec.Containers = []corev1.Container{{Name: name, Image: "images.seamark.test/tidetable:1.0"}}
		if _, err := k.AppsV1().Deployments("default").Create(ctx, &appsv1.Deployment{ObjectMeta: metav1.ObjectMeta{Name: name}, Spec: appsv1.DeploymentSpec{Replicas: &replicas, Selector: &metav1.LabelSelector{MatchLabels: l},
			Template: corev1.PodTemplateSpec{ObjectMeta: metav1.ObjectMeta{Labels: l}, Spec: spec}}}, metav1.CreateOptions{}); err != nil {
			t.Fatal(err)
		}
		w.until(30*time.Second, name+" to run", func() (bool, string) {
			d, err := k.AppsV1().Deployments("default").Get(ctx, name, metav1.GetOptions{})
			return err == nil && d.Status.AvailableReplicas == replicas, fmt.Sprint(err)
		})
	}
	deploy("forecast", 1, corev1.PodSpec{NodeSelector: map[string]string{"kubernetes.io/hostname": "tidewatch-gauges-2"}})
	// Control-plane machines count as well, and none of these may run there.
	deploy("tides", 3, corev1.PodSpec{TopologySpreadConstraints: []corev1.TopologySpreadConstraint{
		{MaxSkew: 1, TopologyKey: corev1.LabelHostname, WhenUnsatisfiable: corev1.DoNotSchedule, LabelSelector: &metav1.LabelSelector{MatchLabels: map[string]string{"app": "tides"}}}}})
	w.fails(0, []string{"Careful: when tidewatch-gauges-2 is emptied, pod default/forecast-", "finds no place elsewhere: it asks for 0 of a processor", "of what workers have is there for pods",
		"when tidewatch-gauges-3 is emptied, pod default/tides-", "finds no place elsewhere: there is room, but not by its topology spread over kubernetes.io/hostname (maxSkew 1)"}, "plan", "--to", "v1.37.2")
	var p struct {
		Troubles []struct{ Machine, Text string }
	}
	if err := json.Unmarshal([]byte(w.ok("plan", "--to", "v1.37.2", "-o", "json")), &p); err != nil || len(p.Troubles) != 4 {
		t.Errorf("plan as JSON: %+v, %v", p, err)
	}
	// The scheduler sees it in the same way: the pod waits until the node may be used again.
	w.ok("upgrade", "v1.37.2", "--yes")
	es, err := k.CoreV1().Events("default").List(ctx, metav1.ListOptions{})
	if err != nil || !slices.ContainsFunc(es.Items, func(e corev1.Event) bool {
		return strings.HasPrefix(e.InvolvedObject.Name, "tides-") && strings.Contains(e.Message, "topology spread constraints")
	}) {
		t.Errorf("no pod waited for its spread: %v", err)
	}
	w.until(30*time.Second, "all of them to run again", func() (bool, string) {
		d, err := k.AppsV1().Deployments("default").Get(ctx, "tides", metav1.GetOptions{})
		return err == nil && d.Status.AvailableReplicas == 3, fmt.Sprint(err)
	})
	// A cluster whose workloads lack pods is not well, apart from its machines.
	none := int32(1)
	l := map[string]string{"app": "nowhere"}
	if _, err := k.AppsV1().Deployments("default").Create(ctx, &appsv1.Deployment{ObjectMeta: metav1.ObjectMeta{Name: "nowhere"}, Spec: appsv1.DeploymentSpec{Replicas: &none, Selector: &metav1.LabelSelector{MatchLabels: l},
		Template: corev1.PodTemplateSpec{ObjectMeta: metav1.ObjectMeta{Labels: l}, Spec: corev1.PodSpec{NodeSelector: map[string]string{"none": "such"}, Containers: []corev1.Container{{Name: "nowhere", Image: "images.seamark.test/tidetable:1.0"}}}}}}, metav1.CreateOptions{}); err != nil {
		t.Fatal(err)
	}
	w.fails(3, []string{"tidewatch: not well", "workloads", "Deployment default/nowhere has 0 of 1 pods"}, "status")
	w.fails(0, []string{"tidewatch: well"}, "status", "--machines-only")
	if o := w.fails(3, nil, "status", "--quiet"); strings.Contains(o, "nowhere") || !strings.Contains(o, "not well") {
		t.Errorf("quietly it says %q", o)
	}
	// Taking machines away for good is looked at in the same way, before the first one goes.
	two := intstr.FromInt32(2)
	if _, err := k.PolicyV1().PodDisruptionBudgets("default").Create(ctx, &policyv1.PodDisruptionBudget{ObjectMeta: metav1.ObjectMeta{Name: "tides"},
		Spec: policyv1.PodDisruptionBudgetSpec{MinAvailable: &two, Selector: &metav1.LabelSelector{MatchLabels: map[string]string{"app": "tides"}}}}, metav1.CreateOptions{}); err != nil {
		t.Fatal(err)
	}
	w.until(30*time.Second, "the budget to count", func() (bool, string) {
		b, err := k.PolicyV1().PodDisruptionBudgets("default").Get(ctx, "tides", metav1.GetOptions{})
		return err == nil && b.Status.DisruptionsAllowed == 1, fmt.Sprint(err)
	})
	w.fails(1, []string{"does not end within its patience", "[drain-in-vain]", "in the way", "nothing was changed"}, "scale", "gauges", "0", "--yes")
	if d, err := os.ReadFile(w.path("tidewatch.verbund.yaml")); err != nil || strings.Contains(string(d), "count: 0") {
		t.Errorf("it was declared all the same: %v", err)
	}
}

// What clients ask for that the target does not serve, and a webhook that would refuse pods,
// keep an upgrade from beginning; both can be accepted with a reason, and are shown then.
func TestInTheWayBeforehand(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "available", "v1.36.3")
	f := w.path("tidewatch.verbund.yaml")
	b, err := os.ReadFile(f)
	if err != nil {
		t.Fatal(err)
	}
	declared := string(b) + "components:\n  kube-apiserver:\n    flags: {runtime-config: storage.k8s.io/v1beta1=true}\n"
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(f, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write(declared)
	w.ok("converge", "--yes")
	kc := w.path("kubeconfig")
	w.ok("access", "--merge", kc)
	k, err := clientOf(kc)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 6*time.Minute)
	defer cancel()
	w.ok("plan", "--to", "v1.37.2")
	if _, err := k.StorageV1beta1().VolumeAttributesClasses().Create(ctx, &storagev1beta1.VolumeAttributesClass{ObjectMeta: metav1.ObjectMeta{Name: "deep"}, DriverName: "disks.seamark.test"}, metav1.CreateOptions{FieldManager: "harbour"}); err != nil {
		t.Fatal(err)
	}
	none := admissionv1.SideEffectClassNone
	hook := &admissionv1.ValidatingWebhookConfiguration{ObjectMeta: metav1.ObjectMeta{Name: "buoy-checks"}, Webhooks: []admissionv1.ValidatingWebhook{{Name: "buoys.seamark.test", SideEffects: &none, AdmissionReviewVersions: []string{"v1"},
		Rules:        []admissionv1.RuleWithOperations{{Operations: []admissionv1.OperationType{admissionv1.Create}, Rule: admissionv1.Rule{APIGroups: []string{""}, APIVersions: []string{"v1"}, Resources: []string{"pods"}}}},
		ClientConfig: admissionv1.WebhookClientConfig{Service: &admissionv1.ServiceReference{Namespace: "default", Name: "buoy-checks"}}}}}
	// Two that are asked about pods that there are not, and one that is asked about some.
	for name, sel := range map[string][2]*metav1.LabelSelector{
		"buoy-checks":  {nil, {MatchLabels: map[string]string{"app.kubernetes.io/managed-by": "verbund"}}},
		"quay-checks":  {{MatchLabels: map[string]string{"purpose": "quays"}}, nil},
		"float-checks": {nil, {MatchLabels: map[string]string{"app": "float"}}},
	} {
		h := hook.DeepCopy()
		h.Name, h.Webhooks[0].NamespaceSelector, h.Webhooks[0].ObjectSelector = name, sel[0], sel[1]
		if _, err := k.AdmissionregistrationV1().ValidatingWebhookConfigurations().Create(ctx, h, metav1.CreateOptions{}); err != nil {
			t.Fatal(err)
		}
	}
	if o := w.ok("plan", "--to", "v1.37.2"); strings.Contains(o, "quay-checks") || strings.Contains(o, "float-checks") {
		t.Errorf("a webhook that is asked about no pod that there is:\n%s", o)
	}
	w.fails(0, []string{"In the way: somebody asks for volumeattributesclasses of storage.k8s.io/v1beta1, which v1.37 does not serve", "In the way: admission webhook buoys.seamark.test (buoy-checks)", "Careful: harbour wrote VolumeAttributesClass deep as storage.k8s.io/v1beta1"}, "plan", "--to", "v1.37.2")
	before := len(w.journal())
	w.fails(1, []string{"[api-version-gone]", "[webhook-unserved]", "2 things are in the way of a roll-out; nothing was changed"}, "upgrade", "v1.37.2", "--yes")
	if b, err := os.ReadFile(f); err != nil || string(b) != declared || len(w.journal()) != before {
		t.Errorf("something was written: %v", err)
	}
	if err := k.AdmissionregistrationV1().ValidatingWebhookConfigurations().Delete(ctx, "buoy-checks", metav1.DeleteOptions{}); err != nil {
		t.Fatal(err)
	}
	write(declared + "exceptions: [{rule: api-version-gone, reason: one dashboard that goes next week}]\n")
	w.fails(0, []string{"careful: somebody asks for volumeattributesclasses", "accepted: one dashboard that goes next week [api-version-gone]"}, "upgrade", "v1.37.2", "--yes")
	w.well("v1.37.2")
}
