package cli_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/google/go-containerregistry/pkg/registry"
	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/client-go/informers"
	"k8s.io/client-go/kubernetes"
	"k8s.io/client-go/tools/cache"
)

// keptBackup is one of what backup list says.
type keptBackup struct {
	Name, Called, Kubernetes, Why, Trouble string
	Objects                                map[string]int
	Revision                               int64
	Verified, Raised                       *time.Time
	Copies                                 []struct{ To, Digest string }
}

func (w *world) backups() []keptBackup {
	w.Helper()
	var k struct{ Backups []keptBackup }
	if err := json.Unmarshal([]byte(w.ok("backup", "list", "-o", "json")), &k); err != nil {
		w.Fatal(err)
	}
	return k.Backups
}

// raisedWorld is a world with a living cluster, a client of it and a kubeconfig.
func raisedWorld(t *testing.T, version string) (*world, *kubernetes.Clientset, string) {
	t.Helper()
	w := newWorld(t, "available", version)
	w.ok("converge", "--yes")
	kc := w.path("kubeconfig")
	w.ok("access", "--merge", kc)
	k, err := clientOf(kc)
	if err != nil {
		t.Fatal(err)
	}
	return w, k, kc
}

func note(name, text string) *corev1.ConfigMap {
	return &corev1.ConfigMap{ObjectMeta: metav1.ObjectMeta{Name: name}, Data: map[string]string{"text": text}}
}

// notes are the config maps of a namespace, with what they hold.
func notes(ctx context.Context, k kubernetes.Interface) (map[string]string, error) {
	l, err := k.CoreV1().ConfigMaps("default").List(ctx, metav1.ListOptions{})
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, m := range l.Items {
		out[m.Name] = m.Data["text"]
	}
	return out, nil
}

// A restoration onto the same machines brings back every object as it was, and takes away what
// came after; the application on the workers goes on serving, whoever watches notices, and what
// was there before it lies in a backup of its own.
func TestBackupRestore(t *testing.T) {
	t.Parallel()
	w, k, kc := raisedWorld(t, "v1.36.3")
	w.deploy(kc)
	ctx, cancel := context.WithTimeout(context.Background(), 6*time.Minute)
	defer cancel()
	must := func(_ any, err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	maps := k.CoreV1().ConfigMaps("default")
	must(maps.Create(ctx, note("stays", "one"), metav1.CreateOptions{}))
	must(maps.Create(ctx, note("changes", "one"), metav1.CreateOptions{}))
	must(maps.Create(ctx, note("goes", "one"), metav1.CreateOptions{}))
	must(k.CoreV1().Secrets("default").Create(ctx, &corev1.Secret{ObjectMeta: metav1.ObjectMeta{Name: "key"}, Data: map[string][]byte{"k": []byte("deep")}}, metav1.CreateOptions{}))
	w.fails(2, []string{`is no name of a backup`}, "backup", "take", "--name", "Before the fair")
	w.fails(0, []string{"read back", "it opens with the key file "}, "backup", "take", "--name", "before-the-fair")
	w.fails(2, []string{"there is a backup before-the-fair already"}, "backup", "take", "--name", "before-the-fair")
	b := w.backups()
	if len(b) != 1 || b[0].Called != "before-the-fair" || b[0].Kubernetes != "v1.36.3" || b[0].Verified == nil || b[0].Raised != nil || b[0].Objects["nodes"] != 8 || b[0].Objects["secrets"] < 1 {
		t.Fatalf("%+v", b)
	}
	w.fails(0, []string{"whole: every part is as it was written", "a member that was raised from it holds"}, "backup", "verify", "--raise")

	// Whoever watches, from before it on.
	f := informers.NewSharedInformerFactoryWithOptions(k, 0, informers.WithNamespace("default"))
	watched := f.Core().V1().ConfigMaps().Informer()
	f.Start(ctx.Done())
	cache.WaitForCacheSync(ctx.Done(), watched.HasSynced)
	must(maps.Update(ctx, note("changes", "two"), metav1.UpdateOptions{}))
	must(nil, maps.Delete(ctx, "goes", metav1.DeleteOptions{}))
	must(maps.Create(ctx, note("comes", "one"), metav1.CreateOptions{}))

	w.fails(2, []string{`has no backup "after"`}, "backup", "restore", "after", "--yes")
	w.fails(2, []string{"no restoration is underway"}, "backup", "restore", "--yes")
	said := w.fails(2, []string{"made since, and vanish: configmaps (1)", "deleted since, and come back: configmaps (1)", "changed since, and are as they were: ", "say --confirm tidewatch"}, "backup", "restore", "before-the-fair", "--yes")
	if !strings.Contains(said, "what was written since is lost") || len(w.backups()) != 1 {
		t.Errorf("before it is agreed to:\n%s", said)
	}
	l := startLoad(map[string]func(context.Context) error{"page": asksPage("http://" + w.status().Endpoint.Address + ":8080/")})
	w.fails(0, []string{"what is there now is in backup", "found the datastore from backup", "is restored"}, "backup", "restore", "before-the-fair", "--yes", "--confirm", "tidewatch")
	got, err := notes(ctx, k)
	if want := map[string]string{"stays": "one", "changes": "one", "goes": "one"}; err != nil || fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("objects are %v, wanted %v; %v", got, want, err)
	}
	if s, err := k.CoreV1().Secrets("default").Get(ctx, "key", metav1.GetOptions{}); err != nil || string(s.Data["k"]) != "deep" {
		t.Errorf("the secret: %v, %v", s, err)
	}
	must(maps.Create(ctx, note("later", "one"), metav1.CreateOptions{}))
	w.until(30*time.Second, "whoever watched to see it as it is", func() (bool, string) {
		var names []string
		for _, o := range watched.GetStore().List() {
			m := o.(*corev1.ConfigMap)
			names = append(names, m.Name+"="+m.Data["text"])
		}
		slices.Sort(names)
		text := strings.Join(names, " ")
		return text == "changes=one goes=one later=one stays=one", text
	})
	l.end(w, 20)
	w.well("v1.36.3")

	// What was there before it can be had back as well.
	b = w.backups()
	if len(b) != 2 || !strings.Contains(b[0].Why, "before the restoration of") {
		t.Fatalf("%+v", b)
	}
	w.ok("backup", "restore", "newest", "--yes", "--confirm", "tidewatch")
	if got, err = notes(ctx, k); err != nil || got["changes"] != "two" || got["comes"] != "one" || got["goes"] != "" {
		t.Errorf("back again: %v, %v", got, err)
	}
}

// Killed at any step, the same command goes on, also converge does; nothing is founded twice
// once an API server has served, and nothing is lost that was in the backup.
func TestRestoreKilled(t *testing.T) {
	t.Parallel()
	w, k, _ := raisedWorld(t, "v1.36.3")
	ctx, cancel := context.WithTimeout(context.Background(), 6*time.Minute)
	defer cancel()
	if _, err := k.CoreV1().ConfigMaps("default").Create(ctx, note("stays", "one"), metav1.CreateOptions{}); err != nil {
		t.Fatal(err)
	}
	w.ok("backup", "take", "--name", "good")
	w.ok("backup", "take", "--name", "other")
	if err := k.CoreV1().ConfigMaps("default").Delete(ctx, "stays", metav1.DeleteOptions{}); err != nil {
		t.Fatal(err)
	}
	// Killed when the first has stopped: it is said, nothing else begins, another backup is not taken instead.
	cmd, out, _ := w.start("backup", "restore", "good", "--yes", "--confirm", "tidewatch", "-o", "json")
	if !untilEntry(out, "step-done", "halt/") {
		t.Fatal("nothing was halted")
	}
	cmd.Process.Kill()
	cmd.Wait()
	if s := w.status(); s.Well || len(s.Ailing) == 0 || !strings.Contains(s.Ailing[0], "verbund backup restore goes on with it") {
		t.Errorf("status in the middle: %+v", s)
	}
	w.fails(2, []string{"the restoration of backup", "is underway"}, "backup", "restore", "other", "--yes", "--confirm", "tidewatch")
	w.fails(1, []string{"is being restored; finish that first"}, "backup", "drop", "good", "--yes")
	w.fails(1, []string{"is underway in cluster tidewatch; finish it first"}, "trust", "replace", "cluster-authority", "--yes")
	w.fails(2, []string{"goes on, which was begun", "--confirm tidewatch"}, "converge", "--yes")
	w.ok("backup", "restore", "good", "--yes", "--confirm", "tidewatch")
	back := func(when string) {
		t.Helper()
		if got, err := notes(ctx, k); err != nil || got["stays"] != "one" || got["comes"] != "" {
			t.Errorf("%s: %v, %v", when, got, err)
		}
	}
	back("halted")
	// At the end of every step, and shortly after its beginning.
	kills := 0
	for at := 1; ; at += 2 {
		if _, err := k.CoreV1().ConfigMaps("default").Create(ctx, note("comes", "one"), metav1.CreateOptions{}); err != nil {
			t.Fatal(err)
		}
		cmd, out, log := w.start("backup", "restore", "good", "--yes", "--confirm", "tidewatch", "-o", "json")
		seen := 0
		entries(out, func(kind, step, _ string) bool {
			if kind == "step-done" || kind == "step-began" && strings.HasPrefix(step, "found") {
				seen++
			}
			if seen == at {
				cmd.Process.Kill()
				return false
			}
			return true
		})
		cmd.Wait()
		if s, ok := cmd.ProcessState.Sys().(syscall.WaitStatus); !ok || !s.Signaled() {
			if !cmd.ProcessState.Success() {
				t.Fatal(log)
			}
			break
		}
		kills++
		w.ok("backup", "restore", "good", "--yes", "--confirm", "tidewatch")
		back(fmt.Sprintf("killed at %d", at))
	}
	back("at the end")
	w.well("v1.36.3")
	if o := w.ok("status"); !strings.Contains(o, "3 of 3 members healthy") {
		t.Errorf("%s", o)
	}
	if t.Logf("killed %d times", kills); kills < 4 {
		t.Errorf("it was killed only %d times", kills)
	}
}

// All control-plane machines are gone: they are got anew, the cluster comes back on them, and
// workers find it by themselves, with the application serving all the while.
func TestRestoreWithoutMachines(t *testing.T) {
	t.Parallel()
	w, k, kc := raisedWorld(t, "v1.36.3")
	w.deploy(kc)
	ctx, cancel := context.WithTimeout(context.Background(), 6*time.Minute)
	defer cancel()
	if _, err := k.CoreV1().ConfigMaps("default").Create(ctx, note("stays", "one"), metav1.CreateOptions{}); err != nil {
		t.Fatal(err)
	}
	w.ok("backup", "take")
	l := startLoad(map[string]func(context.Context) error{"page": asksPage("http://" + w.status().Endpoint.Address + ":8080/")})
	for i := 1; i <= 3; i++ {
		w.ok("site", "fault", "lost-machine", fmt.Sprint("tidewatch-control-", i))
	}
	w.fails(1, []string{"has none of this cluster's control-plane machines", "verbund backup restore newest"}, "converge", "--yes")
	w.fails(0, []string{"the site has none of its machines", "cannot be backed up before", "get a machine of size medium in zone north"}, "backup", "restore", "newest", "--yes", "--confirm", "tidewatch")
	l.end(w, 20)
	w.well("v1.36.3")
	if got, err := notes(ctx, k); err != nil || got["stays"] != "one" {
		t.Errorf("%v, %v", got, err)
	}
}

// A backup of an older minor is the way back from an upgrade: the control plane and the
// datastore run that again, and workers follow.
func TestRestoreOlderMinor(t *testing.T) {
	t.Parallel()
	w, k, _ := raisedWorld(t, "v1.36.3")
	ctx, cancel := context.WithTimeout(context.Background(), 6*time.Minute)
	defer cancel()
	w.ok("upgrade", "v1.37.2", "--yes")
	if _, err := k.CoreV1().ConfigMaps("default").Create(ctx, note("late", "one"), metav1.CreateOptions{}); err != nil {
		t.Fatal(err)
	}
	b := w.backups()
	if len(b) != 1 || b[0].Why != "before the upgrade to v1.37.2" {
		t.Fatalf("%+v", b)
	}
	w.fails(0, []string{"changed kubernetes in", "to v1.36.3"}, "backup", "restore", b[0].Name, "--yes", "--confirm", "tidewatch")
	w.well("v1.36.3")
	for n, v := range versionsOf(w) {
		if v != "v1.36.3" {
			t.Errorf("%s runs %s", n, v)
		}
	}
	if got, err := notes(ctx, k); err != nil || got["late"] != "" {
		t.Errorf("%v, %v", got, err)
	}
	if b = w.backups(); len(b) != 2 || b[0].Kubernetes != "v1.37.2" {
		t.Errorf("what was there before: %+v", b)
	}
	if s := w.status(); s.State != "well" {
		t.Errorf("%+v", s)
	}
}

// Copies are read where they lie; backups that are not what they were are refused before
// anything is asked.
func TestBackupCopiesAndDamage(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	id, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	b, err := os.ReadFile(w.path("tidewatch.verbund.yaml"))
	if err == nil {
		err = os.WriteFile(w.path("tidewatch.verbund.yaml"), append(b, fmt.Sprintf("backup: {opens: [%s], every: 6h, keep: {last: 1}}\n", id.Recipient())...), 0o644)
	}
	if err != nil {
		t.Fatal(err)
	}
	w.fails(1, []string{"was not raised yet"}, "backup", "take")
	w.fails(0, []string{"has no backup"}, "backup", "list")
	w.ok("converge", "--yes")
	w.ok("backup", "take", "--due")
	w.fails(0, []string{"no backup of cluster tidewatch is due before"}, "backup", "take", "--due")
	w.declare("every: 6h", "every: 5m")
	if b := w.backups(); len(b) != 1 || b[0].Why != "as declared" {
		t.Errorf("%+v", b)
	}
	w.ok("backup", "drop", "newest", "--yes", "--confirm", "tidewatch")
	// Sent off as declared: what cannot be sent keeps nothing else from being.
	sent := t.TempDir()
	w.declare("every: 5m", "every: 5m, to: [/nowhere/at/all, "+sent+"]")
	w.fails(1, []string{"there is no folder /nowhere/at/all", "verbund backup copy", "it lies at " + sent}, "backup", "take", "--name", "one")
	w.declare(`, to: \[.*?\]`, "")
	w.ok("backup", "take", "--name", "two")
	w.ok("converge", "--yes") // keepers learn how often one is due

	// Copies.
	reg := httptest.NewServer(registry.New(registry.Logger(log.New(io.Discard, "", 0))))
	defer reg.Close()
	vault, place := w.TempDir(), "oci://"+strings.TrimPrefix(reg.URL, "http://")+"/kept/tidewatch"
	w.ok("backup", "copy", "one", vault)
	w.ok("backup", "copy", "one", vault) // the same once more
	w.fails(1, []string{"is there already, and is another one"}, "backup", "copy", "two", func() string {
		other := w.TempDir()
		for _, x := range w.backups() {
			if x.Called == "two" {
				if err := os.WriteFile(filepath.Join(other, x.Name), []byte("somebody else's"), 0o600); err != nil {
					t.Fatal(err)
				}
			}
		}
		return other
	}())
	w.fails(1, []string{"there is no folder"}, "backup", "copy", "one", filepath.Join(vault, "none", "x"))
	w.ok("backup", "copy", "one", place)
	w.fails(1, []string{"the registry did not take it"}, "backup", "copy", "two", "oci://127.0.0.1:1/kept/tidewatch")
	w.fails(0, []string{vault + ": the same", place + ": the same"}, "backup", "verify", "one", "--copies")
	all := w.backups()
	at := slices.IndexFunc(all, func(x keptBackup) bool { return x.Called == "one" })
	one := all[at]
	if len(one.Copies) != 3 || !strings.HasPrefix(one.Copies[0].Digest, "sha256:") {
		t.Fatalf("%+v", one)
	}
	folder := w.path(".verbund/tidewatch/backups")
	sound, err := os.ReadFile(filepath.Join(folder, one.Name))
	if err != nil {
		t.Fatal(err)
	}
	// The recipient of the declaration opens it, too.
	if c, err := os.Open(filepath.Join(folder, one.Name)); err != nil {
		t.Fatal(err)
	} else if _, err := age.Decrypt(c, id); err != nil {
		t.Error(err)
	}
	if err := os.WriteFile(filepath.Join(vault, one.Name), append([]byte{}, sound[:len(sound)-1]...), 0o600); err != nil {
		t.Fatal(err)
	}
	w.fails(3, []string{vault + ": NOT THE SAME"}, "backup", "verify", "one", "--copies")

	// Altered, cut, of somebody else, without its key.
	spoil := func(b []byte, words ...string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(folder, one.Name), b, 0o600); err != nil {
			t.Fatal(err)
		}
		before := len(w.journal())
		w.fails(3, []string{"NOT AS IT WAS WRITTEN"}, "backup", "verify", one.Name)
		w.fails(1, append(words, "cannot be restored"), "backup", "restore", one.Name, "--yes", "--confirm", "tidewatch")
		if n := len(w.journal()); n != before {
			t.Errorf("a spoilt one was begun with: %d entries", n-before)
		}
	}
	altered := append([]byte{}, sound...)
	altered[len(altered)-300] ^= 1
	spoil(altered)
	spoil(sound[:len(sound)-4000])
	w.ok("backup", "drop", one.Name, "--yes")
	w.ok("backup", "copy", "--back", place+":"+strings.TrimSuffix(one.Name, ".backup.age"))
	w.fails(1, []string{"is here already"}, "backup", "copy", "--back", place+":"+strings.TrimSuffix(one.Name, ".backup.age"))
	w.fails(0, []string{"whole"}, "backup", "verify", "one")
	w.ok("backup", "drop", "two", "--yes")
	w.fails(2, []string{"no backup of it is left here that can be used", "--confirm tidewatch"}, "backup", "drop", "one", "--yes")
	if err := os.Rename(filepath.Join(folder, "identity.age"), filepath.Join(folder, "away")); err != nil {
		t.Fatal(err)
	}
	w.fails(0, []string{"whole"}, "backup", "verify", "one") // what opens it is inside
	if err := os.Rename(filepath.Join(folder, "away"), filepath.Join(folder, "identity.age")); err != nil {
		t.Fatal(err)
	}
	w.well("v1.37.2")
}

// The folder is lost: from the backup's file and what opens it alone, in another folder and
// with other keys, the cluster is raised again, with every object.
func TestRestoreLostFolder(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "available", "v1.37.2")
	w.fewer(1, 1)
	w.ok("converge", "--yes")
	kc := w.path("kubeconfig")
	w.ok("access", "--merge", kc)
	k, err := clientOf(kc)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 6*time.Minute)
	defer cancel()
	_, err = k.CoreV1().ConfigMaps("default").Create(ctx, note("stays", "one"), metav1.CreateOptions{})
	if err == nil {
		_, err = k.CoreV1().Secrets("default").Create(ctx, &corev1.Secret{ObjectMeta: metav1.ObjectMeta{Name: "key"}, Data: map[string][]byte{"k": []byte("deep")}}, metav1.CreateOptions{})
	}
	if err != nil {
		t.Fatal(err)
	}
	// The key file of the folder that is lost, as it was put aside.
	keys, err := filepath.Glob(filepath.Join(w.keys, "tidewatch-*.key"))
	if err != nil || len(keys) != 1 {
		t.Fatal(keys, err)
	}
	key := keys[0]
	vault := t.TempDir()
	w.ok("backup", "take")
	w.ok("backup", "copy", "newest", vault)
	file, err := filepath.Glob(filepath.Join(vault, "*.backup.age"))
	if err != nil || len(file) != 1 {
		t.Fatal(file, err)
	}
	w.ok("site", "stop")

	other := &world{TB: t, dir: t.TempDir(), keys: t.TempDir()}
	t.Cleanup(func() { other.run("teardown", "--yes", "--confirm", "tidewatch") })
	wrong := filepath.Join(t.TempDir(), "wrong")
	if no, err := age.GenerateX25519Identity(); err != nil || os.WriteFile(wrong, []byte(no.String()+"\n"), 0o600) != nil {
		t.Fatal(err)
	}
	other.fails(1, []string{"does not open it, nor what lies beside it", "nothing was changed"}, "backup", "restore", file[0], "--unlock", wrong, "--yes", "--confirm", "tidewatch")
	if l, err := os.ReadDir(other.dir); err != nil || len(l) > 0 {
		t.Errorf("something was written: %v, %v", l, err)
	}
	other.fails(0, []string{"cluster tidewatch is here again", "all of its machines are got anew", "is restored"}, "backup", "restore", file[0], "--unlock", key, "--yes", "--confirm", "tidewatch")
	other.well("v1.37.2")
	other.ok("access", "--merge", other.path("kubeconfig"))
	if k, err = clientOf(other.path("kubeconfig")); err != nil {
		t.Fatal(err)
	}
	if got, err := notes(ctx, k); err != nil || got["stays"] != "one" {
		t.Errorf("%v, %v", got, err)
	}
	if s, err := k.CoreV1().Secrets("default").Get(ctx, "key", metav1.GetOptions{}); err != nil || string(s.Data["k"]) != "deep" {
		t.Errorf("the secret: %v, %v", s, err)
	}
	// The folder is not empty any more.
	other.fails(2, []string{"has no backup"}, "backup", "restore", file[0]+"x", "--yes")
}

// The majority is lost for good: nothing is begun with what is left, and what the member that
// survived holds is had from it, with the last that was written.
func TestRestoreFromMember(t *testing.T) {
	t.Parallel()
	w, k, kc := raisedWorld(t, "v1.36.3")
	w.deploy(kc)
	ctx, cancel := context.WithTimeout(context.Background(), 6*time.Minute)
	defer cancel()
	w.fails(2, []string{"it still decides", "verbund backup take"}, "backup", "restore", "--member", "tidewatch-control-2", "--yes", "--confirm", "tidewatch")
	w.fails(2, []string{"has no member of its datastore on a machine tidewatch-gauges-1"}, "backup", "restore", "--member", "tidewatch-gauges-1", "--yes", "--confirm", "tidewatch")
	for i := range 20 {
		if _, err := k.CoreV1().ConfigMaps("default").Create(ctx, note(fmt.Sprint("last-", i), "one"), metav1.CreateOptions{}); err != nil {
			t.Fatal(err)
		}
	}
	l := startLoad(map[string]func(context.Context) error{"page": asksPage("http://" + w.status().Endpoint.Address + ":8080/")})
	w.ok("site", "fault", "lost-machine", "tidewatch-control-1")
	w.ok("site", "fault", "lost-machine", "tidewatch-control-3")
	before := len(w.journal())
	w.fails(1, []string{"2 of the 3 members of the datastore are gone with their machines (tidewatch-control-1, tidewatch-control-3)", "verbund backup restore --member tidewatch-control-2"}, "converge", "--yes")
	if n := len(w.journal()); n != before {
		t.Errorf("something was begun: %d entries", n-before)
	}
	w.fails(2, []string{"--confirm tidewatch"}, "backup", "restore", "--member", "tidewatch-control-2", "--yes")
	w.fails(0, []string{"what the member on tidewatch-control-2 held is backup", "is restored"}, "backup", "restore", "--member", "tidewatch-control-2", "--yes", "--confirm", "tidewatch")
	l.end(w, 20)
	w.well("v1.36.3")
	if got, err := notes(ctx, k); err != nil || len(got) != 20 {
		t.Errorf("%d of 20 objects, %v", len(got), err)
	}
	if b := w.backups(); len(b) != 1 || b[0].Why != "rescued from the member on tidewatch-control-2" {
		t.Errorf("%+v", b)
	}
}

// A machine of the datastore that is got anew must never found one, whatever starts it and
// when: what it is told of its birth says so from the first file on.
func TestGotAnewNeverFounds(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "available", "v1.37.2")
	w.fewer(1, 1)
	w.ok("converge", "--yes")
	told := func() string {
		b, err := os.ReadFile(w.path(".verbund/sites/estuary/disks/tidewatch-control-1/opt/verbund/active/etc/etcd.yaml"))
		if err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	if !strings.Contains(told(), "initial-cluster-state: new") {
		t.Fatalf("the test looks for something else than is written:\n%s", told())
	}
	w.ok("site", "fault", "lost-machine", "tidewatch-control-1")
	cmd, out, _ := w.start("converge", "--yes", "-o", "json")
	if !untilEntry(out, "step-done", "write/tidewatch-control-1") {
		t.Fatal("it was not written")
	}
	cmd.Process.Kill()
	cmd.Wait()
	if !strings.Contains(told(), "initial-cluster-state: existing") {
		t.Errorf("it would found:\n%s", told())
	}
	w.ok("site", "power", "tidewatch-control-1", "restart")
	w.ok("converge", "--yes")
	w.well("v1.37.2")
}

// A datastore on machines of its own: another size of them comes by new machines, one after the
// other, and a backup is restored onto them.
func TestApartReplacedAndRestored(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "available", "v1.37.2")
	w.fewer(1, 1)
	w.declare(`(?m)^control:`, "control:\n  datastore: {place: apart, count: 3, size: small}")
	w.ok("converge", "--yes")
	kc := w.path("kubeconfig")
	w.ok("access", "--merge", kc)
	k, err := clientOf(kc)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 6*time.Minute)
	defer cancel()
	if _, err := k.CoreV1().ConfigMaps("default").Create(ctx, note("stays", "one"), metav1.CreateOptions{}); err != nil {
		t.Fatal(err)
	}
	w.declare(`count: 3, size: small\}`, "count: 3, size: medium}")
	w.ok("converge", "--yes")
	w.well("v1.37.2")
	if o := w.ok("machines"); strings.Count(o, "-datastore-") != 3 || strings.Contains(o, "-datastore-1 ") {
		t.Errorf("the machines are\n%s", o)
	}
	w.ok("backup", "take")
	if err := k.CoreV1().ConfigMaps("default").Delete(ctx, "stays", metav1.DeleteOptions{}); err != nil {
		t.Fatal(err)
	}
	w.ok("backup", "restore", "newest", "--yes", "--confirm", "tidewatch")
	w.well("v1.37.2")
	if got, err := notes(ctx, k); err != nil || got["stays"] != "one" {
		t.Errorf("%v, %v", got, err)
	}
}

// A backup is taken before an authority is replaced, and before members are cleared; a cluster
// that cannot be asked any more is cleared without one.
func TestBackupBefore(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	w.ok("converge", "--yes")
	why := func() (out []string) {
		for _, b := range w.backups() {
			out = append(out, b.Why)
		}
		slices.Sort(out)
		return out
	}
	w.ok("trust", "replace", "front-proxy-authority", "--yes")
	if got := why(); !slices.Equal(got, []string{"before the replacement of front-proxy-authority"}) {
		t.Errorf("backups %q", got)
	}
	w.ok("clear", "tidewatch-keepers-1", "--yes")
	if got := why(); len(got) != 1 {
		t.Errorf("before a worker was cleared: %q", got)
	}
	w.ok("converge", "--yes")
	w.ok("clear", "--confirm", "tidewatch")
	if got := why(); len(got) != 2 || got[0] != "before clearing 2 machines" {
		t.Errorf("backups %q", got)
	}
	w.ok("converge", "--yes")
	w.ok("site", "fault", "full-disk", "tidewatch-control-1") // its member ends
	w.until(30*time.Second, "the datastore to be gone", func() (bool, string) {
		s := w.status()
		return !s.Well, fmt.Sprint(s.Ailing)
	})
	began := time.Now()
	_, said, code := w.run("clear", "--confirm", "tidewatch")
	if !strings.Contains(said, "it goes on without one") || len(why()) != 2 {
		t.Errorf("exit code %d, %q\n%s", code, why(), said)
	}
	if took := time.Since(began); took > time.Minute {
		t.Errorf("it took %s", took)
	}
}

// Where a backup finds no room it is said, nothing of it is left, and the next one is taken
// when there is room.
func TestBackupNoRoom(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	w.ok("converge", "--yes")
	folder := w.path(".verbund/tidewatch/backups")
	w.ok("backup", "take")
	names := func() (out []string) {
		es, err := os.ReadDir(folder)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range es {
			out = append(out, e.Name())
		}
		return out
	}
	before := names()
	c := w.command("backup", "take")
	// In blocks of 512 or of 1024 bytes: more than a journal, and less than a snapshot.
	limited := exec.Command("sh", "-c", `ulimit -f 400; exec "$@"`, "sh", c.Path, "backup", "take")
	limited.Dir, limited.Env = c.Dir, c.Env
	out, err := limited.CombinedOutput()
	if err == nil || !strings.Contains(string(out), "no backup was taken") || !strings.Contains(string(out), "make room where ") {
		t.Errorf("%v\n%s", err, out)
	}
	if got := names(); !slices.Equal(got, before) {
		t.Errorf("left are %q, before were %q", got, before)
	}
	w.ok("backup", "take")
	if got := len(w.backups()); got != 2 {
		t.Errorf("%d backups", got)
	}
}
