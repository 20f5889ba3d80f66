package cli_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	corev1 "k8s.io/api/core/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
)

// A copy of the cluster is raised beside it from a backup, killed again and again: its API holds
// what the backup does, Secrets as well, nothing acts on that, and the cluster itself is as it
// was. Torn down, nothing of it is left.
func TestCopyBeside(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "available", "v1.36.3")
	w.fewer(1, 1)
	w.ok("converge", "--yes")
	k := w.client()
	ctx, cancel := context.WithTimeout(context.Background(), 6*time.Minute)
	defer cancel()
	if _, err := k.CoreV1().Secrets("default").Create(ctx, &corev1.Secret{ObjectMeta: metav1.ObjectMeta{Name: "tide"}, StringData: map[string]string{"high": "07:12"}}, metav1.CreateOptions{}); err != nil {
		t.Fatal(err)
	}
	if _, err := k.CoreV1().ConfigMaps("default").Create(ctx, note("then", "one"), metav1.CreateOptions{}); err != nil {
		t.Fatal(err)
	}
	w.ok("backup", "take", "--name", "good")
	if err := k.CoreV1().ConfigMaps("default").Delete(ctx, "then", metav1.DeleteOptions{}); err != nil {
		t.Fatal(err)
	}
	before := w.machines()

	w.fails(2, []string{"needs a name of its own"}, "backup", "restore", "good", "--as", "tidewatch", "--yes")
	w.fails(2, []string{`has no backup "nosuch"`}, "backup", "restore", "nosuch", "--as", "tidewatch-then", "--yes")
	if err := os.WriteFile(w.path("spring.verbund.yaml"), []byte("schema: verbund/1\nname: spring\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	w.fails(2, []string{"spring.verbund.yaml is here already, and declares no copy of tidewatch"}, "backup", "restore", "good", "--as", "spring", "--yes", "-f", "tidewatch.verbund.yaml")
	os.Remove(w.path("spring.verbund.yaml"))

	if n := killed(t, w, 20, "backup", "restore", "good", "--as", "tidewatch-then", "--yes"); n < 2 {
		t.Errorf("it was killed only %d times", n)
	}
	then := func(args ...string) []string { return append(args, "-f", "tidewatch-then") }
	kc := w.path("then.kubeconfig")
	w.ok(then("access", "--merge", kc)...)
	c, err := clientOf(kc)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := notes(ctx, c); err != nil || got["then"] != "one" {
		t.Errorf("the copy holds %v, %v", got, err)
	}
	if s, err := c.CoreV1().Secrets("default").Get(ctx, "tide", metav1.GetOptions{}); err != nil || string(s.Data["high"]) != "07:12" {
		t.Errorf("the copy's secret: %v, %v", s, err)
	}
	// Commands without a name mean the cluster, which lacks what was deleted and nothing else.
	if got, err := notes(ctx, k); err != nil || got["then"] != "" {
		t.Errorf("the cluster holds %v, %v", got, err)
	}
	w.well("v1.36.3")
	after := w.machines()
	for name, m := range before {
		if after[name] != m {
			t.Errorf("%s was %+v, and is %+v", name, m, after[name])
		}
	}
	if len(after) != len(before) {
		t.Errorf("%d machines, wanted %d", len(after), len(before))
	}

	// Nothing acts on what it holds.
	if o := w.ok(then("status")...); !strings.Contains(o, "of cluster tidewatch, for looking at") || !strings.Contains(o, "5 in what the backup held") {
		t.Errorf("%s", o)
	}
	if o := w.ok(then("inspect", "tidewatch-then-control-1")...); strings.Contains(o, "kube-scheduler") || strings.Contains(o, "kube-controller-manager") || !strings.Contains(o, "kube-apiserver") {
		t.Errorf("%s", o)
	}
	w.fails(1, []string{"is a copy of tidewatch for looking at, and nothing acts in it"}, then("prove")...)
	// Nobody comes in with what lets in to the cluster, nor the other way round.
	crossed, err := os.ReadFile(kc)
	if err != nil {
		t.Fatal(err)
	}
	own, err := os.ReadFile(w.path("kubeconfig"))
	if err != nil {
		t.Fatal(err)
	}
	mixed := w.path("mixed.kubeconfig")
	if err := os.WriteFile(mixed, []byte(withUserOf(string(crossed), string(own))), 0o600); err != nil {
		t.Fatal(err)
	}
	if m, err := clientOf(mixed); err != nil {
		t.Error(err)
	} else if _, err := notes(ctx, m); !apierrors.IsUnauthorized(err) {
		t.Errorf("what lets in to the cluster was answered by the copy: %v", err)
	}
	// It stays a copy as long as it lives: controllers would act on what is not theirs.
	w.edit("tidewatch-then.verbund.yaml", `copyOf: .*\n`, "")
	w.fails(1, []string{"is a copy, and of which cluster, cannot be changed"}, then("converge", "--yes")...)
	w.edit("tidewatch-then.verbund.yaml", `name: tidewatch-then\n`, "name: tidewatch-then\ncopyOf: tidewatch\n")
	// What it holds gives way when its name was said, and not before.
	w.fails(2, []string{"what the copy holds now gives way", "--confirm tidewatch-then"}, "backup", "restore", "good", "--as", "tidewatch-then", "--yes")
	w.ok("backup", "restore", "good", "--as", "tidewatch-then", "--yes", "--confirm", "tidewatch-then")

	keys, _ := filepath.Glob(filepath.Join(w.keys, "*"))
	beside, _ := filepath.Glob(w.path(".verbund/tidewatch-then/*/*"))
	w.ok(then("teardown", "--yes", "--confirm", "tidewatch-then")...)
	for _, dir := range []string{w.dir, w.path(".verbund"), w.keys} {
		left, err := filepath.Glob(filepath.Join(dir, "*tidewatch-then*"))
		if err != nil || len(left) > 0 {
			t.Errorf("left of the copy: %v, %v; before there were the keys %v, and of the copy %v", left, err, keys, beside)
		}
	}
	// What was declared and never raised is not removed without a word.
	idle := w.path("idle.verbund.yaml")
	if err := os.WriteFile(idle, []byte("schema: verbund/1\nname: idle\ncopyOf: tidewatch\nkubernetes: v1.36.3\nsite: estuary\ncontrol: {nodes: false}\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	w.fails(2, []string{"--yes"}, "teardown", "-f", "idle")
	if _, err := os.Stat(idle); err != nil {
		t.Errorf("it is gone: %v", err)
	}
	w.ok("teardown", "-f", "idle", "--yes")
	if _, err := os.Stat(idle); err == nil {
		t.Error("it is still there")
	}
	w.well("v1.36.3")
	if len(w.backups()) != 1 {
		t.Errorf("backups: %+v", w.backups())
	}
}

// withUserOf is a kubeconfig in which people come with the certificate and key of another one.
func withUserOf(kubeconfig, other string) string {
	value := func(text, key string) string {
		_, rest, _ := strings.Cut(text, key+": ")
		line, _, _ := strings.Cut(rest, "\n")
		return line
	}
	for _, key := range []string{"client-certificate-data", "client-key-data"} {
		kubeconfig = strings.Replace(kubeconfig, value(kubeconfig, key), value(other, key), 1)
	}
	return kubeconfig
}
