package cli_test

import (
	"errors"
	"os"
	"strings"
	"testing"
)

// What vouches is looked at where it was issued, where it lies, and where it is
// shown; converge puts right what lies on machines.
func TestTrustList(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	w.fails(1, []string{"has no certificates yet"}, "trust", "list")
	w.ok("converge", "--yes")
	w.fails(0, []string{"tidewatch-control-1/api-server", "cluster-authority", "0 things wrong"}, "trust", "list", "--all")
	if o := w.fails(0, []string{"well and end late", "--all lists them", "0 things wrong"}, "trust", "list"); strings.Contains(o, "renewed from") {
		t.Errorf("what is well and ends late is listed:\n%s", o)
	}
	if o := w.ok("trust", "list", "--within", "60d"); strings.Contains(o, "api-server") {
		t.Errorf("a fresh certificate ends within 60 days:\n%s", o)
	}
	w.fails(2, []string{"write it like 60d"}, "trust", "list", "--within", "soon")
	w.fails(0, []string{"what for", "the scheduler shows it to the API server", "tidewatch-control-1, kubernetes, kubernetes.default, "}, "trust", "list", "--verbose")
	w.fails(0, []string{"lies on      tidewatch-control-1, tidewatch-keepers-1", "key          also on tidewatch-control-1: "}, "trust", "show", "cluster-authority")
	dir := func(machine, file string) string {
		return w.path(".verbund/sites/estuary/disks/" + machine + "/etc/kubernetes/trust/" + file)
	}
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	stolen, err := os.ReadFile(dir("tidewatch-control-1", "cluster-signing.key"))
	must(err)
	must(os.WriteFile(dir("tidewatch-keepers-1", "cluster-authority.key"), stolen, 0o600))
	must(os.Chmod(dir("tidewatch-keepers-1", "proxy.key"), 0o644))
	must(os.Remove(dir("tidewatch-keepers-1", "kubelet-client.crt")))
	other, err := os.ReadFile(dir("tidewatch-control-1", "scheduler.crt"))
	must(err)
	must(os.WriteFile(dir("tidewatch-control-1", "controller-manager.crt"), other, 0o644))
	o := w.fails(3, []string{
		"Wrong: tidewatch-keepers-1 has /etc/kubernetes/trust/cluster-authority.key, which nothing there needs",
		"its key can be read by others: mode 644", "it is missing on the machine", "another one than was issued lies on the machine; and 1 more", "4 things wrong"}, "trust", "list")
	_, table, _ := strings.Cut(o, "\ncertificate ")
	if rows := strings.Split(table, "\n"); len(rows) < 2 || !strings.Contains(rows[1], "controller-manager") {
		t.Errorf("the most urgent does not come first:\n%s", o)
	}
	w.fails(3, []string{"trouble      that one: it is for CN=system:kube-scheduler", "the controller manager shows it to the API server"}, "trust", "show", "tidewatch-control-1/controller-manager")
	w.fails(2, []string{"did you mean tidewatch-control-1/controller-manager?"}, "trust", "show", "tidewatch-control-1/controller-manage")
	w.fails(3, []string{"tidewatch: not well", "4 things wrong: tidewatch-control-1/controller-manager: "}, "status")
	w.fails(0, []string{"cluster-authority.key: nothing there needs it"}, "plan")
	w.ok("converge", "--yes")
	w.fails(0, []string{"0 things wrong"}, "trust", "list")
	if _, err := os.Stat(dir("tidewatch-keepers-1", "cluster-authority.key")); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("the stray key is still there: %v", err)
	}
	w.well("v1.37.2")
	// Nothing is to be done to a machine, and yet the cluster is not well.
	w.declare(`pools:`, "trust: {authority: 5000d, leaf: 4000d, renew: 20d}\n\npools:")
	w.fails(3, []string{"tidewatch: not well", "3 things wrong: cluster-authority: it ends sooner than what it is to sign"}, "status")
	w.fails(3, []string{"cluster-authority: it ends sooner"}, "status", "--all")
}

// Plain keys are not written into a git work tree unless that is meant.
func TestKeysInWorkTree(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	w.ok("render", "--with-keys")
	if err := os.RemoveAll(w.path("tidewatch.rendered")); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(w.path(".git"), 0o755); err != nil {
		t.Fatal(err)
	}
	w.fails(2, []string{"lies in a git work tree", "--in-work-tree"}, "render", "--with-keys")
	if _, err := os.Stat(w.path("tidewatch.rendered")); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("something was rendered: %v", err)
	}
	w.ok("render")
	w.ok("render", "--with-keys", "--in-work-tree")
	if _, err := os.Stat(w.path("tidewatch.rendered/tidewatch-control-1/etc/kubernetes/trust/api-server.key")); err != nil {
		t.Error(err)
	}
}
