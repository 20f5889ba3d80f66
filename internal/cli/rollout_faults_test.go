package cli_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	corev1 "k8s.io/api/core/v1"
	policyv1 "k8s.io/api/policy/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/apimachinery/pkg/util/intstr"
)

// in the middle of a roll-out: what is done when a step of a kind has ended for the first time.
func (w *world) inTheMiddle(kind, step string, do func(), args ...string) (code int, said string) {
	w.Helper()
	cmd, out, log := w.start(append(args, "-o", "json")...)
	if !untilEntry(out, kind, step) {
		cmd.Wait()
		w.Fatalf("there was no %s %s: %s", kind, step, log)
	}
	do()
	cmd.Wait()
	return cmd.ProcessState.ExitCode(), log.String()
}

// A budget that is set to zero in the middle keeps the next machine from being emptied: the run
// ends within the patience that is declared, names the budget, and leaves nobody without a
// pod; when it lets go again the same command goes on.
func TestBudgetInTheMiddle(t *testing.T) {
	t.Parallel()
	w, k, kc := raisedWorld(t, "v1.36.3")
	w.deploy(kc)
	w.declare(`patience: 2m`, "patience: 3s")
	ctx, cancel := context.WithTimeout(context.Background(), 6*time.Minute)
	defer cancel()
	three := intstr.FromInt32(3)
	budgets := k.PolicyV1().PodDisruptionBudgets("default")
	if _, err := budgets.Create(ctx, &policyv1.PodDisruptionBudget{ObjectMeta: metav1.ObjectMeta{Name: "tidetable"},
		Spec: policyv1.PodDisruptionBudgetSpec{MinAvailable: &three, Selector: &metav1.LabelSelector{MatchLabels: map[string]string{"app": "tidetable"}}}}, metav1.CreateOptions{}); err != nil {
		t.Fatal(err)
	}
	set := func(least int) {
		t.Helper()
		if _, err := budgets.Patch(ctx, "tidetable", types.MergePatchType, fmt.Appendf(nil, `{"spec":{"minAvailable":%d}}`, least), metav1.PatchOptions{}); err != nil {
			t.Fatal(err)
		}
	}
	l := startLoad(map[string]func(context.Context) error{"page": asksPage("http://" + w.status().Endpoint.Address + ":8080/")})
	code, said := w.inTheMiddle("step-done", "uncordon/tidewatch-gauges-1", func() { set(4) }, "upgrade", "v1.37.2", "--yes")
	if code != 1 || !strings.Contains(said, "default/tidetable") {
		t.Errorf("exit code %d, and it says\n%s", code, said)
	}
	d, err := k.AppsV1().Deployments("default").Get(ctx, "tidetable", metav1.GetOptions{})
	if err != nil || d.Status.AvailableReplicas != 4 {
		t.Errorf("%v pods are available, %v", d.Status.AvailableReplicas, err)
	}
	// As long as it stays so it is said before anything is begun.
	before := len(w.journal())
	w.fails(1, []string{"default/tidetable"}, "converge", "--yes")
	if n := len(w.journal()); n != before {
		t.Errorf("%d entries were written", n-before)
	}
	set(3)
	w.ok("converge", "--yes")
	l.end(w, 20)
	w.well("v1.37.2")
	if o := w.ok("nodes"); strings.Contains(o, "cordoned") {
		t.Errorf("a node was left cordoned:\n%s", o)
	}
}

// A zone is lost in the middle of a replacement: the run ends and says so; when the zone is back
// the same command goes on, and there is no machine too many or too few.
func TestZoneLostInReplacement(t *testing.T) {
	t.Parallel()
	w, _, _ := raisedWorld(t, "v1.37.2")
	w.declare(`size: small\n    labels`, "size: medium\n    labels")
	code, said := w.inTheMiddle("step-done", "get/", func() { w.ok("site", "fault", "lost-zone", "south") }, "converge", "--yes")
	t.Logf("exit code %d", code) // the site may have brought the zone back before anything needed it
	if code != 0 && said == "" {
		t.Error("it ended without a word")
	}
	w.ok("site", "start")
	for i := 1; i <= 3; i++ {
		w.run("site", "power", fmt.Sprint("tidewatch-control-", i), "on")
	}
	w.ok("converge", "--yes")
	w.well("v1.37.2")
	o := w.ok("machines")
	for _, line := range strings.Split(o, "\n") {
		if strings.Contains(line, "-gauges-") && !strings.Contains(line, "medium") {
			t.Errorf("an old one is left: %s", line)
		}
	}
	if n := strings.Count(o, "-gauges-"); n != 3 {
		t.Errorf("%d machines of pool gauges:\n%s", n, o)
	}
}

// The whole control plane is away in the middle of a roll-out: nothing is changed without it,
// no node is forgotten, and the roll-out goes on when it is back.
func TestAPIAwayInTheMiddle(t *testing.T) {
	t.Parallel()
	w, _, kc := raisedWorld(t, "v1.36.3")
	w.deploy(kc)
	page := asksPage("http://" + w.status().Endpoint.Address + ":8080/")
	l := startLoad(map[string]func(context.Context) error{"page": page})
	power := func(how string) {
		for i := 1; i <= 3; i++ {
			w.ok("site", "power", fmt.Sprint("tidewatch-control-", i), how)
		}
	}
	code, said := w.inTheMiddle("step-done", "uncordon/tidewatch-gauges-1", func() { power("cut") }, "upgrade", "v1.37.2", "--yes")
	if code != 1 {
		t.Errorf("exit code %d, and it says\n%s", code, said)
	}
	power("on")
	w.ok("converge", "--yes")
	l.end(w, 20)
	w.well("v1.37.2")
	if o := w.ok("nodes"); strings.Contains(o, "cordoned") {
		t.Errorf("a node was left cordoned:\n%s", o)
	}
}

// The hours end in the middle of a wave: it is finished, no other one begins, the run says when
// it goes on and ends with 3.
func TestWindowCloses(t *testing.T) {
	t.Parallel()
	w, _, _ := raisedWorld(t, "v1.36.3")
	// Far enough away for the first wave of workers to begin before it, however slow this computer is.
	now := time.Now().UTC()
	closes := now.Add(time.Minute).Truncate(time.Minute).Add(time.Minute)
	// The trial is watched until the hours are over.
	w.declare(`trial: 1, soak: 1s`, fmt.Sprintf("trial: 1, soak: %ds", int(closes.Sub(now).Seconds())+3))
	w.edit("tidewatch.verbund.yaml", `(?s)$`, fmt.Sprintf("rollout:\n  window: {from: '%s', to: '%s', timeZone: UTC}\n", closes.Add(-2*time.Hour).Format("15:04"), closes.Format("15:04")))
	o := w.fails(3, []string{"see tidewatch-gauges-1 stay well", "outside of the declared hours no wave begins; the next may at"}, "upgrade", "v1.37.2", "--yes")
	if strings.Contains(o, "begin wave 2 of pool gauges") && !strings.Contains(o, "held") {
		t.Errorf("another wave began:\n%s", o)
	}
	for n, v := range versionsOf(w) {
		if strings.Contains(n, "-gauges-") && (v == "v1.37.2") != strings.HasSuffix(n, "-1") {
			t.Errorf("%s runs %s", n, v)
		}
	}
	w.declare(`  window: .*\n`, "  prefetch: 2\n")
	w.soak("1s")
	w.ok("converge", "--yes")
	w.well("v1.37.2")
}

// A machine's clock jumps in the middle of a roll-out: it is found before the machine is
// touched, and nothing is done to it until it is right again.
func TestClockInTheMiddle(t *testing.T) {
	t.Parallel()
	w, _, _ := raisedWorld(t, "v1.36.3")
	code, said := w.inTheMiddle("step-done", "uncordon/tidewatch-gauges-1", func() { w.ok("site", "fault", "wrong-clock", "tidewatch-gauges-3") }, "upgrade", "v1.37.2", "--yes")
	if code != 0 {
		t.Logf("exit code %d: %s", code, said)
	}
	if o, _, _ := w.run("status"); !strings.Contains(o, "clock of tidewatch-gauges-3") {
		t.Errorf("it is not said:\n%s", o)
	}
	if code != 0 {
		w.fails(1, []string{"its clock is"}, "converge", "--yes")
	}
	w.ok("site", "fault", "mended-clock", "tidewatch-gauges-3")
	w.ok("converge", "--yes")
	w.well("v1.37.2")
}

// Nodes come and go in the middle: one that somebody else brings is left alone, and one that
// somebody deletes comes back with its machine.
func TestNodesComeAndGo(t *testing.T) {
	t.Parallel()
	w, k, _ := raisedWorld(t, "v1.36.3")
	ctx, cancel := context.WithTimeout(context.Background(), 6*time.Minute)
	defer cancel()
	var joined, left error
	code, said := w.inTheMiddle("step-done", "uncordon/tidewatch-gauges-1", func() {
		_, joined = k.CoreV1().Nodes().Create(ctx, &corev1.Node{ObjectMeta: metav1.ObjectMeta{Name: "stranger"}}, metav1.CreateOptions{})
		left = k.CoreV1().Nodes().Delete(ctx, "tidewatch-forecast-2", metav1.DeleteOptions{})
	}, "upgrade", "v1.37.2", "--yes")
	if joined != nil || left != nil {
		t.Fatal(joined, left)
	}
	if code != 0 {
		t.Logf("exit code %d: %s", code, said)
	}
	if _, err := k.CoreV1().Nodes().Get(ctx, "stranger", metav1.GetOptions{}); err != nil {
		t.Errorf("a node of somebody else: %v", err)
	}
	if err := k.CoreV1().Nodes().Delete(ctx, "stranger", metav1.DeleteOptions{}); err != nil {
		t.Fatal(err)
	}
	w.ok("converge", "--yes")
	w.well("v1.37.2")
	// Deleted where nothing else is to be done, its kubelet does not make it again by itself.
	if err := k.CoreV1().Nodes().Delete(ctx, "tidewatch-gauges-1", metav1.DeleteOptions{}); err != nil {
		t.Fatal(err)
	}
	w.fails(3, []string{"machine tidewatch-gauges-1 is not a node"}, "status")
	w.fails(0, []string{"is started anew"}, "converge", "--yes")
	w.well("v1.37.2")
}
