package cli_test

import (
	"bytes"
	"encoding/base64"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"filippo.io/age"
	"go.etcd.io/bbolt"
	"go.etcd.io/etcd/api/v3/mvccpb"
	"golang.org/x/crypto/nacl/secretbox"
	"google.golang.org/protobuf/proto"
	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"sigs.k8s.io/yaml"

	"verbund/internal/backup"
)

// One cluster through its whole life: raised, grown, shrunk, relabelled,
// healed, upgraded, torn down.
func TestLife(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "available", "v1.36.3")
	if o := w.ok("plan"); !strings.Contains(o, "found the datastore") {
		t.Errorf("the plan of a new cluster does not found a datastore:\n%s", o)
	}
	if len(w.processes()) > 0 {
		t.Error("plan started something")
	}
	w.ok("converge", "--yes")
	w.well("v1.36.3")
	w.fails(0, []string{"nothing to do"}, "converge", "--yes")

	// Machines keep their identity through every change that is not about them.
	before := w.machines()
	w.declare(`count: 3\n    size: small`, "count: 4\n    size: small")
	w.declare(`labels: \{work: gauges\}`, "labels: {work: gauges, depth: shallow}")
	w.declare(`taints: \[\{key: work, value: forecast, effect: NoSchedule\}\]`, "taints: [{key: work, value: night, effect: NoSchedule}]")
	w.ok("converge", "--yes")
	w.well("v1.36.3")
	o := w.ok("nodes", "-o", "json")
	for _, word := range []string{`"tidewatch-gauges-4"`, `"depth": "shallow"`, `"value": "night"`} {
		if !strings.Contains(o, word) {
			t.Errorf("nodes does not show %s", word)
		}
	}
	if strings.Contains(o, `"value": "forecast"`) {
		t.Error("the old taint is still there")
	}

	w.declare(`count: 4\n    size: small`, "count: 2\n    size: small")
	w.fails(0, []string{"removes tidewatch-gauges-4", "removes tidewatch-gauges-3"}, "converge", "--yes")
	w.well("v1.36.3")
	after := w.machines()
	if len(after) != len(before)-1 {
		t.Errorf("%d machines, wanted %d", len(after), len(before)-1)
	}
	for n, m := range after {
		if b := before[n]; b.Hardware != m.Hardware || b.Address != m.Address {
			t.Errorf("%s was %+v and is %+v", n, b, m)
		}
	}

	// A control-plane machine and a worker vanish, disk and all.
	w.ok("site", "fault", "lost-machine", "tidewatch-control-2")
	w.ok("site", "fault", "lost-machine", "tidewatch-gauges-1")
	w.fails(3, []string{"tidewatch-control-2 is missing"}, "status")
	w.ok("converge", "--yes")
	w.well("v1.36.3")
	if n := w.machines()["tidewatch-control-2"]; n.Hardware == before["tidewatch-control-2"].Hardware || n.Hardware == "" {
		t.Errorf("the replacement is %+v", n)
	}

	kc := w.path("kubeconfig")
	w.ok("access", "--merge", kc)
	api, err := clientOf(kc)
	if err != nil {
		t.Fatal(err)
	}
	secret := &corev1.Secret{ObjectMeta: metav1.ObjectMeta{Name: "harbour"}, StringData: map[string]string{"pin": "spring tide"}}
	if _, err := api.CoreV1().Secrets("default").Create(t.Context(), secret, metav1.CreateOptions{}); err != nil {
		t.Fatal(err)
	}
	w.declare(`kubernetes: .*`, "kubernetes: v1.37.2")
	if o := w.ok("plan", "--steps"); !strings.Contains(o, "from v1.36.3 to v1.37.2") || !strings.Contains(o, "back the datastore up") {
		t.Errorf("the plan of an upgrade:\n%s", o)
	}
	w.fails(3, nil, "plan", "--exit-code")
	w.ok("converge", "--yes")
	w.well("v1.37.2")
	w.declare(`kubernetes: .*`, "kubernetes: v1.36.3")
	w.fails(1, []string{"v1.36.3 is lower than v1.37.2"}, "converge", "--yes")
	w.declare(`kubernetes: .*`, "kubernetes: v1.37.2")

	w.fails(2, []string{"--confirm tidewatch"}, "teardown")
	w.fails(2, []string{"--confirm tidewatch"}, "teardown", "--yes")
	w.ok("teardown", "--confirm", "tidewatch")
	if ps := w.processes(); len(ps) > 0 {
		t.Errorf("processes are left: %v", ps)
	}
	filepath.WalkDir(w.dir, func(p string, d os.DirEntry, err error) error {
		rel, _ := filepath.Rel(w.dir, p)
		switch {
		case err != nil:
			t.Error(err)
		case d.IsDir(), strings.HasSuffix(rel, ".yaml"), strings.HasSuffix(rel, ".schema.json"), rel == "kubeconfig", filepath.Base(rel) == "journal.jsonl", filepath.Base(rel) == ".gitignore", strings.Contains(rel, "/backups/"):
		default:
			t.Errorf("left behind: %s", rel)
		}
		return nil
	})
	if b, err := os.ReadFile(kc); err != nil || strings.Contains(string(b), "tidewatch") {
		t.Errorf("the kubeconfig still names the cluster: %v\n%s", err, b)
	}
	// What is left opens the backup, and the Secrets in it.
	if got := w.secretInBackup("/secrets/default/harbour"); !strings.Contains(got, base64.StdEncoding.EncodeToString([]byte("spring tide"))) {
		t.Errorf("the Secret in the backup is %q", got)
	}
}

// secretInBackup reads a Secret from the only backup, with the store's key file and what
// lies beside the backup, and with nothing of the cluster.
func (w *world) secretInBackup(key string) string {
	w.Helper()
	no := func(err error) {
		w.Helper()
		if err != nil {
			w.Fatal(err)
		}
	}
	one := func(pattern string) []byte {
		w.Helper()
		m, _ := filepath.Glob(pattern)
		if len(m) != 1 {
			w.Fatalf("%s is %v", pattern, m)
		}
		b, err := os.ReadFile(m[0])
		no(err)
		return b
	}
	identity := func(b []byte) age.Identity {
		w.Helper()
		ids, err := age.ParseIdentities(bytes.NewReader(b))
		no(err)
		return ids[0]
	}
	aside, err := age.Decrypt(bytes.NewReader(one(w.path(".verbund/tidewatch/backups/identity.age"))), identity(one(filepath.Join(w.keys, "tidewatch-*"))))
	no(err)
	b, err := io.ReadAll(aside)
	no(err)
	back, err := backup.Open(bytes.NewReader(one(w.path(".verbund/tidewatch/backups/*.backup.age"))), identity(b))
	no(err)
	if back.Manifest.Cluster != "tidewatch" || back.Manifest.Kubernetes != "v1.36.3" {
		w.Errorf("the backup's manifest is %+v", back.Manifest)
	}
	db := filepath.Join(w.TempDir(), "db")
	f, err := os.Create(db)
	no(err)
	no(back.Verify(f))
	no(f.Truncate(back.Manifest.Bytes - 32))
	no(f.Close())
	open, err := bbolt.Open(db, 0o600, nil)
	no(err)
	defer open.Close()
	var boxed []byte
	no(open.View(func(tx *bbolt.Tx) error {
		return tx.Bucket([]byte("key")).ForEach(func(_, v []byte) error {
			var kv mvccpb.KeyValue
			if err := proto.Unmarshal(v, &kv); err != nil {
				return err
			}
			if strings.HasSuffix(string(kv.Key), key) {
				boxed = bytes.Clone(kv.Value)
			}
			return nil
		})
	}))
	var config struct {
		Resources []struct {
			Providers []struct {
				Secretbox struct {
					Keys []struct {
						Name   string
						Secret string
					}
				}
			}
		}
	}
	no(yaml.Unmarshal(back.Secrets, &config))
	for _, k := range config.Resources[0].Providers[0].Secretbox.Keys {
		box, ok := bytes.CutPrefix(boxed, []byte("k8s:enc:secretbox:v1:"+k.Name+":"))
		raw, err := base64.StdEncoding.DecodeString(k.Secret)
		no(err)
		if ok {
			plain, _ := secretbox.Open(nil, box[24:], (*[24]byte)(box[:24]), (*[32]byte)(raw))
			return string(plain)
		}
	}
	w.Fatalf("no key in the backup opens %.60q", boxed)
	return ""
}

// The control plane grows one learner at a time and shrinks with a spoken
// confirmation.
func TestControlCount(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	w.declare(`endpoint: \{name: api.tidewatch.test\}`, "endpoint: {name: api.tidewatch.test, balancer: {size: small}}")
	w.ok("converge", "--yes")
	w.declare(`control: \{count: 1`, "control: {count: 3")
	w.ok("converge", "--yes")
	w.well("v1.37.2")
	w.declare(`control: \{count: 3`, "control: {count: 1")
	w.fails(2, []string{"removes tidewatch-control-3", "removes tidewatch-control-2", "--confirm tidewatch"}, "converge", "--yes")
	w.fails(2, []string{"does not name the cluster"}, "converge", "--yes", "--confirm", "other")
	if len(w.machines()) != 5 {
		t.Error("a refused run changed something")
	}
	w.ok("converge", "--yes", "--confirm", "tidewatch")
	w.well("v1.37.2")
}

// killed runs a command again and again until a run ends by itself. Every second
// run is killed right after its first finished step, the others at some moment
// after a step began: within it, or within one beside it. After the most kills
// it is let go on to its end.
func killed(t *testing.T, w *world, most int, args ...string) (kills int) {
	t.Helper()
	for kills = 0; kills < most; kills++ {
		cmd, out, log := w.start(append(args, "-o", "json", "--parallel", "4")...)
		within := kills%2 == 1
		var timer *time.Timer
		entries(out, func(kind, step, _ string) bool {
			switch {
			case within && kind == "step-began" && timer == nil:
				timer = time.AfterFunc(rand.N(300*time.Millisecond), func() { cmd.Process.Kill() })
			case !within && kind == "step-done" && !strings.HasPrefix(step, "verify"):
				cmd.Process.Kill()
				return false
			}
			return true
		})
		err := cmd.Wait()
		if timer != nil {
			timer.Stop()
		}
		w.memoryFits()
		if s, ok := cmd.ProcessState.Sys().(syscall.WaitStatus); !ok || !s.Signaled() {
			if err != nil {
				t.Fatalf("after %d kills: %v\n%s", kills, err, log.String())
			}
			return kills
		}
		w.kills++
	}
	w.ok(args...)
	return kills
}

// The tool is killed at every step boundary of a raise and of an upgrade, and
// at moments in between; the next run finishes it, and nothing is made twice or
// lost.
func TestKilledAtEveryStep(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "available", "v1.36.2")
	w.declare(`count: 3\n    size: small`, "count: 1\n    size: small")
	w.declare(`count: 2\n    size: large`, "count: 1\n    size: large")
	n := killed(t, w, 80, "converge", "--yes")
	t.Logf("raised after %d kills", n)
	// Every other run is cut at a moment of its own, and one may be through before that comes.
	if n < 6 {
		t.Errorf("only %d kills: the steps were not cut one by one", n)
	}
	w.well("v1.36.2")
	raised := w.machines()
	if len(raised) != 6 {
		t.Errorf("%d machines, wanted 6", len(raised))
	}
	w.declare(`kubernetes: .*`, "kubernetes: v1.37.1")
	n = killed(t, w, 80, "converge", "--yes")
	t.Logf("upgraded after %d kills", n)
	if n < 10 {
		t.Errorf("only %d kills: the steps were not cut one by one", n)
	}
	w.well("v1.37.1")
	for name, m := range w.machines() {
		if raised[name].Hardware != m.Hardware {
			t.Errorf("%s is another machine than before", name)
		}
	}
	if o := w.ok("nodes"); strings.Contains(o, "cordoned") {
		t.Errorf("a node was left cordoned:\n%s", o)
	}
}

// Ctrl-C finishes the running steps, says so and exits 130; the site lives on.
// A second run meanwhile is refused and told who holds the lock; looking works.
func TestInterruptAndLock(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "available", "v1.37.2")
	cmd, out, log := w.start("converge", "--yes", "-o", "json")
	began := 0
	entries(out, func(kind, _, _ string) bool {
		if kind == "step-began" {
			began++
		}
		return began == 0
	})
	w.fails(4, []string{"verbund converge, process"}, "converge", "--yes")
	before, err := os.ReadFile(w.path("tidewatch.verbund.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	for range 3 {
		w.fails(4, []string{"verbund converge, process"}, "scale", "gauges", "4", "--yes")
	}
	if now, err := os.ReadFile(w.path("tidewatch.verbund.yaml")); err != nil || string(now) != string(before) {
		t.Errorf("a refused scale left the declaration changed: %v", err)
	}
	w.fails(3, []string{"tidewatch: being changed", "run", "verbund converge, since"}, "status")
	w.ok("history")
	if err := cmd.Process.Signal(syscall.SIGINT); err != nil {
		t.Fatal(err)
	}
	go entries(out, func(string, string, string) bool { return true })
	done := make(chan error, 1)
	go func() { done <- cmd.Wait() }()
	select {
	case <-done:
	case <-time.After(time.Minute):
		cmd.Process.Kill()
		t.Fatal("it did not stop")
	}
	if code := cmd.ProcessState.ExitCode(); code != 130 {
		t.Errorf("exit code %d, wanted 130\n%s", code, log.String())
	}
	if !strings.Contains(log.String(), "interrupted") {
		t.Errorf("it does not say that it was interrupted: %s", log.String())
	}
	if len(w.processes()) == 0 {
		t.Error("the site did not live on")
	}
	if o := w.ok("history"); !strings.Contains(o, "interrupted") {
		t.Errorf("history does not show it:\n%s", o)
	}
	w.ok("converge", "--yes")
	w.well("v1.37.2")
}

// A folder may be called whatever a file system takes.
func TestOddFolder(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), `tide [a-b] \* ?{x}`)
	if err := os.Mkdir(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	w := newWorldIn(t, dir, "small", "v1.36.3")
	w.ok("converge", "--yes")
	w.ok("upgrade", "v1.37.2", "--yes")
	w.well("v1.37.2")
	w.fails(0, []string{"tidewatch  well"}, "status", "--all")
	if o := w.ok("status"); !strings.Contains(o, "of v1.36.3, verified") {
		t.Errorf("the backup is not found:\n%s", o)
	}
	if o := w.ok("trust", "list", "--all"); !strings.Contains(o, "tidewatch-keepers-1/kubelet-client") {
		t.Errorf("the kubelet's own certificate was not looked at:\n%s", o)
	}
	w.fails(0, []string{"1 backup left in"}, "teardown", "--confirm", "tidewatch")
}
