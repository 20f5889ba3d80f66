package cli_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/google/go-containerregistry/pkg/registry"
	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/client-go/kubernetes"
)

// onDisks are the backups that lie on control-plane machines, by machine.
func (w *world) onDisks() map[string][]string {
	w.Helper()
	out := map[string][]string{}
	files, err := filepath.Glob(w.path(".verbund/sites/estuary/disks/*/var/lib/verbund/backups/*.backup.age"))
	if err != nil {
		w.Fatalf("%v", err)
	}
	for _, f := range files {
		m := strings.Split(strings.TrimPrefix(f, w.path(".verbund/sites/estuary/disks")+"/"), "/")[0]
		out[m] = append(out[m], f)
	}
	return out
}

// kept is what keepers say they last did.
type kept struct {
	Kept []struct {
		Machine, File, Trouble string
		Sent                   []string
	}
	Due *time.Time
}

func (w *world) kept() (k kept) {
	w.Helper()
	out, _, _ := w.run("status", "-o", "json")
	if err := json.Unmarshal([]byte(out), &k); err != nil {
		w.Fatalf("%v", err)
	}
	return k
}

// client is a client by a kubeconfig that is written for it.
func (w *world) client() *kubernetes.Clientset {
	w.Helper()
	file := w.path("kubeconfig")
	w.ok("access", "--merge", file)
	k, err := clientOf(file)
	if err != nil {
		w.Fatalf("%v", err)
	}
	return k
}

// Control-plane machines take backups when nobody runs the tool, which they cannot open; the tool
// gathers them, and one of them alone brings the cluster back in an empty folder.
func TestKeepers(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "available", "v1.37.2")
	w.fewer(3, 1)
	id, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	key := filepath.Join(t.TempDir(), "key")
	if err := os.WriteFile(key, []byte(id.String()+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	w.fails(2, []string{"no machine of cluster tidewatch takes backups by itself"}, "backup", "gather")
	reg := httptest.NewServer(registry.New(registry.Logger(log.New(io.Discard, "", 0))))
	defer reg.Close()
	place, nowhere := "oci://"+strings.TrimPrefix(reg.URL, "http://")+"/kept/tidewatch", "oci://127.0.0.1:1/kept/tidewatch"
	w.declare(`(?s)\z`, "\nbackup: {every: 5m, opens: ["+id.Recipient().String()+"], to: ['"+nowhere+"', '"+place+"']}\n")
	w.ok("converge", "--yes")
	w.well("v1.37.2")
	w.until(time.Minute, "a machine to take the first backup", func() (bool, string) { return len(w.onDisks()) == 1, fmt.Sprint(w.onDisks()) })
	w.until(10*time.Second, "status to say so", func() (bool, string) {
		k := w.kept()
		return len(k.Kept) == 1 && slices.Equal(k.Kept[0].Sent, []string{place}) && strings.Contains(k.Kept[0].Trouble, "could not be sent to "+nowhere) && k.Due == nil, fmt.Sprint(k)
	})
	w.declare("'"+nowhere+"', ", "")
	w.ok("converge", "--yes")
	w.until(time.Minute, "the trouble to be over", func() (bool, string) { k := w.kept(); return k.Kept[0].Trouble == "", fmt.Sprint(k) })
	w.ok("backup", "copy", "--back", place+":"+strings.TrimSuffix(w.kept().Kept[0].File, ".backup.age"))
	w.fails(0, []string{"whole"}, "backup", "verify", "newest")
	w.ok("backup", "drop", "newest", "--yes", "--confirm", "tidewatch")
	// Nothing of what the machines have is of use to them.
	for _, f := range []string{"rest.age", "rest.json"} {
		b, err := os.ReadFile(w.path(".verbund/sites/estuary/disks/tidewatch-control-1/var/lib/verbund/backups/" + f))
		if err != nil || bytes.Contains(b, []byte("PRIVATE KEY")) || bytes.Contains(b, []byte("AGE-SECRET-KEY")) || f == "rest.age" && !bytes.HasPrefix(b, []byte("age-encryption.org/")) {
			t.Errorf("%s on a machine: %v, %.60q", f, err, b)
		}
	}
	w.fails(0, []string{"which tidewatch-control-", "read to its end"}, "backup", "gather")
	bs := w.backups()
	if len(bs) != 1 || bs[0].Why != "as declared" || bs[0].Verified == nil {
		t.Fatalf("what was gathered: %+v", bs)
	}
	w.fails(0, []string{"a member that was raised from it holds"}, "backup", "verify", "newest", "--raise")
	w.fails(0, []string{"nothing new lies on the machines"}, "backup", "gather")

	// What is declared is left with them anew when it means something else, and not for a word
	// that nobody reads.
	w.declare(`(?m)^backup:`, "# twice an hour would do\nbackup:")
	w.fails(0, []string{"nothing to do"}, "converge", "--yes")
	w.declare(`count: 1\n    size: large`, "count: 2\n    size: large")
	w.fails(0, []string{"leave with it, sealed, what its backups hold"}, "plan")
	w.ok("converge", "--yes")
	w.well("v1.37.2")

	// They take turns, and thin out what they took: for that they are told to hurry.
	for _, m := range []string{"tidewatch-control-1", "tidewatch-control-2", "tidewatch-control-3"} {
		files, err := filepath.Glob(w.path(".verbund/sites/estuary/disks/" + m + "/opt/verbund/slots/*/etc/backup-keeper.json"))
		if err != nil || len(files) != 1 {
			t.Fatal(files, err)
		}
		b, err := os.ReadFile(files[0])
		if err == nil {
			b = bytes.Replace(bytes.Replace(b, []byte(`"every": "5m0s"`), []byte(`"every": "2s"`), 1), []byte(`"last": 8`), []byte(`"last": 2`), 1)
			err = os.WriteFile(files[0], b, 0o644)
		}
		if err != nil || !bytes.Contains(b, []byte(`"every": "2s"`)) || !bytes.Contains(b, []byte(`"last": 2`)) {
			t.Fatalf("%v\n%s", err, b)
		}
		w.ok("site", "power", m, "restart")
		w.until(time.Minute, m+" to be back", func() (bool, string) {
			out, errs, _ := w.run("status")
			return strings.Contains(out, "3 of 3 members healthy"), out + errs
		})
	}
	seen := map[string]bool{}
	w.until(time.Minute, "two machines to have taken two and more", func() (bool, string) {
		several := 0
		for m, fs := range w.onDisks() {
			for _, f := range fs {
				seen[m+" "+filepath.Base(f)] = true
			}
			if len(fs) > 3 { // one may be there for a moment that goes
				t.Errorf("%s keeps %d backups, and is to keep 2", m, len(fs))
			}
			if len(fs) >= 2 {
				several++
			}
		}
		return several >= 2 && len(seen) >= 8, fmt.Sprint(w.onDisks())
	})

	// One of them, and the key of somebody who is named, are enough.
	k := w.client()
	if _, err := k.CoreV1().ConfigMaps("default").Create(t.Context(), &corev1.ConfigMap{ObjectMeta: metav1.ObjectMeta{Name: "stays"}}, metav1.CreateOptions{}); err != nil {
		t.Fatal(err)
	}
	asked := time.Now().UTC()
	newest := ""
	w.until(time.Minute, "a backup that was begun afterwards", func() (bool, string) {
		for _, fs := range w.onDisks() {
			for _, f := range fs {
				if at, err := time.Parse("20060102-150405", filepath.Base(f)[:15]); err == nil && at.After(asked) {
					newest = f
				}
			}
		}
		return newest != "", ""
	})
	file := filepath.Join(t.TempDir(), filepath.Base(newest))
	b, err := os.ReadFile(newest)
	if err == nil {
		err = os.WriteFile(file, b, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	// Where none are taken any more, what was left for them goes; what they took stays.
	w.declare(`(?m)^backup:.*\n`, "")
	w.ok("converge", "--yes")
	w.well("v1.37.2")
	if left, err := filepath.Glob(w.path(".verbund/sites/estuary/disks/*/var/lib/verbund/backups/rest.*")); err != nil || len(left) > 0 || len(w.onDisks()) != 3 {
		t.Errorf("left of what was for keepers: %v, %v; backups on %d machines", left, err, len(w.onDisks()))
	}
	w.ok("site", "stop")
	other := &world{TB: t, dir: t.TempDir(), keys: t.TempDir()}
	t.Cleanup(func() { other.run("teardown", "--yes", "--confirm", "tidewatch") })
	other.fails(0, []string{"cluster tidewatch is here again", "is restored"}, "backup", "restore", file, "--unlock", key, "--yes", "--confirm", "tidewatch")
	other.well("v1.37.2")
	k = other.client()
	cms, err := k.CoreV1().ConfigMaps("default").List(t.Context(), metav1.ListOptions{})
	if err != nil || !slices.ContainsFunc(cms.Items, func(c corev1.ConfigMap) bool { return c.Name == "stays" }) {
		t.Errorf("what was there: %v, %v", cms, err)
	}
}
