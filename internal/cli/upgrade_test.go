package cli_test

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"verbund/internal/core/versions"
)

// versionsOf lists the version of every node.
func versionsOf(w *world) map[string]string {
	w.Helper()
	var nodes []struct {
		Metadata struct{ Name string }
		Status   struct {
			NodeInfo struct{ KubeletVersion string }
		}
	}
	if err := json.Unmarshal([]byte(w.ok("nodes", "-o", "json")), &nodes); err != nil {
		w.Fatal(err)
	}
	out := map[string]string{}
	for _, n := range nodes {
		out[n.Metadata.Name] = n.Status.NodeInfo.KubeletVersion
	}
	return out
}

// spoilSlot puts into a worker's idle slot what looks as if v1.37.2 had been fetched, and of
// which the kubelet cannot run. It returns the folder.
func (w *world) spoilSlot(machine string) (bin string) {
	w.Helper()
	bin = w.path(".verbund/sites/estuary/disks/" + machine + "/opt/verbund/slots/b/bin")
	if err := os.MkdirAll(bin, 0o755); err != nil {
		w.Fatal(err)
	}
	for name, text := range map[string]string{
		"containerd": `{"standIn":"containerd","version":"v2.4.2"}`, "kube-proxy": `{"standIn":"kube-proxy","version":"v1.37.2"}`, "kubelet": `{"standIn":"spoilt","version":"v1.37.2"}`,
	} {
		var d struct{ Version string }
		if err := json.Unmarshal([]byte(text), &d); err != nil {
			w.Fatal(err)
		}
		digest := versions.Shipped().Digest(name + ":" + d.Version)
		if err := errors.Join(os.WriteFile(filepath.Join(bin, name), []byte(text), 0o755), os.WriteFile(filepath.Join(bin, name+".digest"), []byte(digest), 0o644)); err != nil {
			w.Fatal(err)
		}
	}
	return bin
}

// The first machine that does not come back stops the run with its last log
// lines, and nothing else is touched; after mending, the next run finishes.
func TestUpgradeStopsAtTheFirstFailure(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.36.3")
	w.declare(`count: 1, size: small`, "count: 3, size: small")
	w.declare(`name: tidewatch\n`, "name: tidewatch\ntrust: {kubelets: {renew: tool}}\n")
	w.ok("converge", "--yes")
	bin := w.spoilSlot("tidewatch-keepers-1")
	w.declare(`kubernetes: .*`, "kubernetes: v1.37.2")
	// What only the old slot needs is there for the way back.
	w.declare(`renew: tool`, "renew: own")
	o := w.fails(1, []string{"tidewatch-keepers-1 did not come up on v1.37.2", "went back to slot a", "unit       kubelet.service", "exit code  203", `no stand-in "spoilt"`, "last log lines", "nothing else was touched"}, "converge", "--yes")
	if strings.Contains(o, "on the way back") {
		t.Errorf("it did not come back whole:\n%s", o)
	}
	if err := os.RemoveAll(bin); err != nil {
		t.Fatal(err)
	}
	vs := versionsOf(w)
	for n, want := range map[string]string{"tidewatch-control-1": "v1.37.2", "tidewatch-keepers-1": "v1.36.3", "tidewatch-keepers-2": "v1.36.3", "tidewatch-keepers-3": "v1.36.3"} {
		if vs[n] != want {
			t.Errorf("%s is on %s, wanted %s", n, vs[n], want)
		}
	}
	w.ok("converge", "--yes")
	w.well("v1.37.2")
	if o := w.ok("nodes"); strings.Contains(o, "cordoned") {
		t.Errorf("a node was left cordoned:\n%s", o)
	}
}

// The site dies while a run is under way: the run ends with a clear error, and
// the next one starts the site and finishes.
func TestSiteDiesUnderway(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "available", "v1.37.2")
	cmd, out, log := w.start("converge", "--yes", "-o", "json")
	killed := false
	entries(out, func(kind, step, _ string) bool {
		if kind == "step-done" && strings.HasPrefix(step, "control/") && !killed {
			killed = true
			for _, p := range w.processes() {
				if strings.Contains(p, "simulated-site") {
					syscall.Kill(atoi(strings.Split(p, "/")[2]), syscall.SIGKILL)
				}
			}
		}
		return true
	})
	done := make(chan error, 1)
	go func() { done <- cmd.Wait() }()
	select {
	case <-done:
	case <-time.After(90 * time.Second):
		cmd.Process.Kill()
		t.Fatal("the run does not end")
	}
	if code := cmd.ProcessState.ExitCode(); code != 1 || !killed {
		t.Errorf("exit code %d, killed %v:\n%s", code, killed, log.String())
	}
	if !strings.Contains(log.String(), "what now") {
		t.Errorf("it does not say what to do:\n%s", log.String())
	}
	w.fails(0, []string{"it is started"}, "converge", "--yes")
	w.well("v1.37.2")
}

// A disruption budget that can never be met is found before anything is
// evicted, and named with the way out.
func TestBudgetThatNeverAllows(t *testing.T) {
	t.Parallel()
	inLane(t)
	bin := kubectl(t)
	w := newWorld(t, "small", "v1.36.3")
	w.ok("converge", "--yes")
	kc := w.path("kubeconfig")
	w.ok("access", "--merge", kc)
	apply := func(text string) {
		t.Helper()
		cmd := w.command()
		cmd.Path, cmd.Args = bin, []string{bin, "--kubeconfig", kc, "apply", "-f", "-"}
		cmd.Stdin = strings.NewReader(text)
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
	}
	strict := strings.Replace(application, "minAvailable: 1", "minAvailable: 100%%", 1)
	apply(strings.ReplaceAll(strings.ReplaceAll(strings.ReplaceAll(strict, "%d", "1"), "%s", "1.0"), "%%", "%"))
	cmd := w.command()
	cmd.Path, cmd.Args = bin, []string{bin, "--kubeconfig", kc, "rollout", "status", "deployment/tidetable", "--timeout=30s"}
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	w.declare(`kubernetes: .*`, "kubernetes: v1.37.2")
	// It is found before the first step: the control plane stays, too.
	w.fails(1, []string{"could never be emptied, so nothing was begun", "disruption budget default/tidetable wants all 1 pods", "change the disruption budget"}, "converge", "--yes")
	w.fails(1, []string{"so nothing was begun"}, "plan")
	for name, v := range versionsOf(w) {
		if v != "v1.36.3" {
			t.Errorf("%s was upgraded to %s", name, v)
		}
	}
	// A part that empties no node is no matter of it.
	w.fails(0, []string{"beside this:", "could never be emptied"}, "plan", "--only", "control")
	// So is a pod that would be lost, until somebody says that it may be.
	apply(`{"apiVersion":"v1","kind":"Pod","metadata":{"name":"scratch","labels":{"app":"scratch"}},"spec":{"volumes":[{"name":"v","emptyDir":{}}],"containers":[{"name":"c","image":"images.seamark.test/tidetable:1.0"}]}}`)
	w.fails(1, []string{"would lose something for good", "pod default/scratch has no controller", "mayLose", "--may-lose"}, "plan")
	w.fails(2, []string{"chooses every pod"}, "plan", "--may-lose", "")
	w.fails(1, []string{"disruption budget"}, "plan", "--may-lose", "app=scratch")
	apply(strings.ReplaceAll(strings.ReplaceAll(strings.Replace(application, "minAvailable: 1", "minAvailable: 0", 1), "%d", "1"), "%s", "1.0"))
	w.declare(`name: tidewatch\n`, "name: tidewatch\nmayLose: [{pods: app=scratch, reason: its data is made anew}]\n")
	w.ok("converge", "--yes")
	w.well("v1.37.2")
}

// What a run did stands in the journal, also as JSON.
func TestHistory(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	if o := w.ok("history"); strings.Contains(o, "converge") {
		t.Errorf("a history before anything happened:\n%s", o)
	}
	w.ok("converge", "--yes", "--quiet")
	var runs []struct {
		Run, Command, Outcome string
		Steps                 int
	}
	if err := json.Unmarshal([]byte(w.ok("history", "-o", "json")), &runs); err != nil {
		t.Fatal(err)
	}
	if len(runs) != 1 || runs[0].Command != "converge" || runs[0].Outcome != "done" || runs[0].Steps < 10 {
		t.Fatalf("runs are %+v", runs)
	}
	o := w.ok("history", runs[0].Run)
	for _, word := range []string{"found the datastore", "tidewatch-keepers-1", "ran beside each other"} {
		if !strings.Contains(o, word) {
			t.Errorf("the run's history lacks %q:\n%s", word, o)
		}
	}
	w.fails(1, []string{"there is no run nonsense"}, "history", "nonsense")
	for _, args := range [][]string{{"logs", "tidewatch-control-1", "-u", "kubelet"}, {"logs", "tidewatch-control-1", "tidewatch-keepers-1"}, {"site", "console", "tidewatch-keepers-1"}} {
		if o := w.ok(args...); !strings.Contains(o, "start") && !strings.Contains(o, "booted") {
			t.Errorf("%v: %s", args, o)
		}
	}
	w.fails(2, []string{"no machine"}, "logs", "tidewatch-nobody-1")
	if _, err := os.Stat(w.path(".verbund/tidewatch/journal.jsonl")); err != nil {
		t.Error(err)
	}
}
