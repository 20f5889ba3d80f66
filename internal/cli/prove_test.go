package cli_test

import (
	"context"
	"encoding/json"
	"strings"
	"syscall"
	"testing"
	"time"

	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/client-go/kubernetes"
)

// proven is what prove says in JSON.
type proven struct {
	Quick   bool
	Answers []struct{ Node, Question, State, Found string }
}

// proves makes a proof that has to end with a code.
func (w *world) proves(code int, args ...string) proven {
	w.Helper()
	o, e, got := w.run(append([]string{"prove", "-o", "json"}, args...)...)
	if got != code {
		w.Fatalf("prove %v: exit code %d, wanted %d\n%s%s", args, got, code, o, e)
	}
	var p proven
	if err := json.Unmarshal([]byte(o), &p); err != nil {
		w.Fatalf("%v\n%s", err, o)
	}
	return p
}

// states are the answers to a question, by node.
func (p proven) states(question string) map[string]string {
	out := map[string]string{}
	for _, a := range p.Answers {
		if a.Question == question {
			out[a.Node] = a.State
		}
	}
	return out
}

// cleared asserts that no proof has left anything.
func cleared(t *testing.T, k kubernetes.Interface) {
	t.Helper()
	if _, err := k.CoreV1().Namespaces().Get(t.Context(), "verbund-proof", metav1.GetOptions{}); !apierrors.IsNotFound(err) {
		t.Errorf("the proof's namespace: %v", err)
	}
}

// A cluster is proven by use; what does not work shows under its own question, and nowhere
// else; a proof that was killed leaves nothing behind the next one.
func TestProve(t *testing.T) {
	t.Parallel()
	w, k, file := raisedWorld(t, "v1.37.2")
	p := w.proves(0)
	if len(p.Answers) != 3+8*7 {
		t.Errorf("%d answers", len(p.Answers))
	}
	for _, a := range p.Answers {
		if a.State != "holds" {
			t.Errorf("%+v", a)
		}
		if a.Question == "balancer" && !strings.Contains(a.Found, "the workload at") {
			t.Errorf("the way through the balancer was not taken: %+v", a)
		}
	}
	cleared(t, k)

	// Whoever has the published node port keeps it.
	w.deploy(file)
	for _, a := range w.proves(0, "--quick").Answers {
		if a.Question == "balancer" && !strings.Contains(a.Found, "services have every node port") {
			t.Errorf("%+v", a)
		}
		if a.Question == "name" || a.Question == "returns" {
			t.Errorf("a quick proof asks %s", a.Question)
		}
	}

	// Without the cluster's DNS, names are not found, and everything else is.
	scale := func(n string) {
		t.Helper()
		if _, err := k.AppsV1().Deployments("kube-system").Patch(t.Context(), "cluster-dns", types.MergePatchType, []byte(`{"spec":{"replicas":`+n+`}}`), metav1.PatchOptions{}); err != nil {
			t.Fatal(err)
		}
	}
	scale("0")
	w.until(time.Minute, "the DNS to be gone", func() (bool, string) {
		l, err := k.CoreV1().Pods("kube-system").List(t.Context(), metav1.ListOptions{LabelSelector: "app.kubernetes.io/name=cluster-dns"})
		return err == nil && len(l.Items) == 0, ""
	})
	p = w.proves(3, "--patience", "15s")
	for n, s := range p.states("name") {
		if s != "fails" {
			t.Errorf("%s finds names without a DNS: %s", n, s)
		}
	}
	for _, q := range []string{"runs", "port", "near", "zones", "logs", "returns"} {
		for n, s := range p.states(q) {
			if s != "holds" {
				t.Errorf("without DNS, %s of %q %s", q, n, s)
			}
		}
	}
	// Killed while it asks in vain, it leaves its pods; the next one clears them away.
	cmd, _, log := w.start("prove")
	w.until(30*time.Second, "the proof's pods", func() (bool, string) {
		l, err := k.CoreV1().Pods("verbund-proof").List(t.Context(), metav1.ListOptions{})
		return err == nil && len(l.Items) > 0, log.String()
	})
	if err := cmd.Process.Signal(syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	cmd.Wait()
	if _, err := k.CoreV1().Namespaces().Get(t.Context(), "verbund-proof", metav1.GetOptions{}); err != nil {
		t.Fatalf("it was to be killed in the middle: %v", err)
	}
	scale("2")
	w.soonWell("v1.37.2")

	w.proves(0)
	cleared(t, k)

	// A dead worker is a node without answers, and the others have theirs.
	w.ok("site", "power", "tidewatch-gauges-1", "cut")
	p = w.proves(3, "--patience", "15s")
	for _, q := range []string{"runs", "port"} {
		for n, s := range p.states(q) {
			if good := s == "holds"; good == (n == "tidewatch-gauges-1") {
				t.Errorf("%s of %s: %s", q, n, s)
			}
		}
	}
	w.fails(1, []string{"no control-plane machine may lose its power", "not well"}, "prove", "--lose-control", "--yes")
	w.fails(2, []string{"choose one"}, "prove", "--lose-control", "--quick")
	w.fails(2, []string{"from 1s to 1h"}, "prove", "--patience", "0s")
	w.ok("converge", "--yes")
	w.soonWell("v1.37.2")
	cleared(t, k)
}

// The API goes on while a control-plane machine has no power, and what it acknowledged is
// kept. The machine has its power back, also when the proof is interrupted meanwhile.
func TestProveLoseControl(t *testing.T) {
	t.Parallel()
	w, k, _ := raisedWorld(t, "v1.37.2")
	p := w.proves(0, "--lose-control", "--yes")
	if s := p.states("control"); s[""] != "holds" {
		t.Errorf("%v", p.Answers)
	}
	for _, a := range p.Answers {
		if a.Question == "control" {
			t.Log(a.Found)
		}
	}
	w.well("v1.37.2")
	w.fails(2, []string{"--yes"}, "prove", "--lose-control")

	cmd, _, log := w.start("prove", "--lose-control", "--yes")
	w.until(time.Minute, "a machine to be without power", func() (bool, string) {
		for _, m := range w.machines() {
			if m.Power == "off" || m.Power == "crashed" {
				return true, ""
			}
		}
		return false, log.String()
	})
	if err := cmd.Process.Signal(syscall.SIGINT); err != nil {
		t.Fatal(err)
	}
	cmd.Wait()
	if cmd.ProcessState.ExitCode() == 0 {
		t.Errorf("an interrupted proof counts as one:\n%s", log)
	}
	for n, m := range w.machines() {
		if m.Power != "on" {
			t.Errorf("%s is %s after the interruption", n, m.Power)
		}
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	w.soonWell("v1.37.2")
	if _, err := k.CoreV1().Namespaces().Get(ctx, "verbund-proof", metav1.GetOptions{}); !apierrors.IsNotFound(err) {
		t.Errorf("the interrupted proof's namespace: %v", err)
	}
}

// Where it is declared, a run ends with the quick part of a proof, and with 3 when that does
// not hold though everything is as declared.
func TestProveAfterChange(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.36.3")
	w.declare(`\npools:`, "\nprove: after-change\n\npools:")
	_, said, code := w.run("converge", "--yes")
	if code != 0 || !strings.Contains(said, "proven: ") {
		t.Errorf("exit code %d\n%s", code, said)
	}
	if _, said, _ = w.run("converge", "--yes"); strings.Contains(said, "proven: ") {
		t.Errorf("nothing was changed, and it was proven:\n%s", said)
	}
	w.ok("site", "fault", "damaged-blob", "witness:1.0")
	w.declare(`count: 1, size: small`, "count: 2, size: small")
	out := w.fails(3, []string{"everything is as declared, and not proven", "runs"}, "converge", "--yes")
	if !strings.Contains(out, "done: ") {
		t.Errorf("the run itself did not end well:\n%s", out)
	}
}
