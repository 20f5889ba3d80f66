package cli_test

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"

	"verbund/internal/cli"
	"verbund/internal/store"
)

// mark is a digest of everything in the working folder that a person keeps: not of
// the simulated site, nor of locks.
func (w *world) mark() string {
	w.Helper()
	var b strings.Builder
	err := filepath.WalkDir(w.dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			if d != nil && d.Name() == "sites" {
				return filepath.SkipDir
			}
			return err
		}
		if d.Name() == "lock" {
			return nil
		}
		text, err := os.ReadFile(p)
		fmt.Fprintf(&b, "%s %x\n", p, sha256.Sum256(text))
		return err
	})
	if err != nil {
		w.Fatal(err)
	}
	return b.String()
}

// unchanged runs f and finds that nothing in the working folder has changed.
func (w *world) unchanged(what string, f func()) {
	w.Helper()
	before := w.mark()
	f()
	if after := w.mark(); after != before {
		w.Errorf("%s changed the working folder:\n%s\nthen\n%s", what, before, after)
	}
}

// When the site is not seen nothing is known: everything that looks says that, and
// nothing advises to destroy anything. What is refused or declined changes nothing.
func TestNothingIsKnown(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	// Of a cluster that nobody has raised, what is refused leaves nothing at all.
	w.unchanged("a refused converge", func() { w.fails(2, []string{"there is no terminal"}, "converge") })
	w.unchanged("an interrupted converge", func() { w.interrupted("[y/N] ", syscall.SIGINT, "converge") })
	w.ok("converge", "--yes")
	w.ok("site", "stop")
	packed := filepath.Join(w.keys, "packed")
	pass := filepath.Join(w.keys, "pass")
	if err := os.WriteFile(pass, []byte("ebb and flow and ebb\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	w.unchanged("looking", func() {
		for _, x := range []struct {
			code int
			args []string
		}{{3, []string{"status"}}, {1, []string{"plan"}}, {1, []string{"nodes"}}, {1, []string{"machines"}}, {1, []string{"survey"}}, {3, []string{"trust", "list"}}, {3, []string{"status", "--all"}}} {
			o := w.fails(x.code, []string{"nothing is known of cluster tidewatch", "verbund converge starts it"}, x.args...)
			for _, bad := range []string{"is gone", "tear", "teardown", "0 things wrong", "raise it anew"} {
				if strings.Contains(o, bad) {
					t.Errorf("verbund %s says %q:\n%s", strings.Join(x.args, " "), bad, o)
				}
			}
		}
		if s := w.status(); s.State != "not known" || s.Well {
			t.Errorf("status is %+v", s)
		}
	})
	w.unchanged("refused commands", func() {
		w.fails(2, []string{"there is no terminal to ask at"}, "converge")
		w.fails(2, []string{"there is no terminal to ask at"}, "scale", "keepers", "2")
		w.fails(2, []string{"there is no terminal to ask at"}, "trust", "renew", "--all")
		w.fails(2, []string{"there is no terminal to ask at"}, "teardown")
	})
	if len(w.processes()) > 0 {
		t.Errorf("a refused command started the site: %v", w.processes())
	}
	w.ok("trust", "pack", packed, "--passphrase-file", pass)
	w.fails(0, []string{"it is started"}, "converge", "--yes")
	w.well("v1.37.2")

	w.unchanged("looking as JSON", w.said)
	w.fails(2, []string{"has no service kubelt; it has"}, "logs", "tidewatch-keepers-1", "-u", "kubelt")
	w.fails(2, []string{"did you mean tidewatch-keepers-1?"}, "inspect", "tidewatch-keeper-1")
	w.fails(0, []string{"api.tidewatch.test", "tidewatch-keepers-1"}, "hosts", "-f", "tidewatch")

	// At a question: declined, or interrupted by whatever means, at once.
	w.unchanged("declined commands", func() {
		w.converse(1, []turn{{"[y/N] ", "n"}}, []string{"nothing was changed"}, "scale", "keepers", "2")
		w.converse(1, []turn{{"[y/N] ", "n"}}, []string{"nothing was changed"}, "trust", "renew", "--all")
		w.converse(1, []turn{{"go on: ", "lampwright"}}, []string{"nothing was changed"}, "teardown")
		for _, sig := range []syscall.Signal{syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP} {
			if o := w.interrupted("[y/N] ", sig, "trust", "renew", "--all"); !strings.Contains(o, "interrupted; nothing was changed") {
				t.Errorf("%v: %s", sig, o)
			}
		}
		w.interrupted("go on: ", syscall.SIGINT, "teardown")
	})
	w.fails(0, []string{"nothing to do"}, "plan")
	w.ok("site", "fault", "full-disk", "tidewatch-control-1")
	w.unchanged("what the survey stops", func() {
		w.fails(1, []string{"nothing was changed"}, "trust", "renew", "--all", "--yes")
	})
	w.ok("site", "fault", "mended-disk", "tidewatch-control-1")
	w.ok("converge", "--yes") // the only member had ended

	// In a folder that was unpacked elsewhere the site's own folder is not.
	there := newWorld(t, "small", "v1.37.2")
	for _, f := range []string{"tidewatch.verbund.yaml", "estuary.site.yaml"} {
		if err := os.Remove(there.path(f)); err != nil {
			t.Fatal(err)
		}
	}
	there.ok("trust", "unpack", packed, "--unlock", pass)
	for _, args := range [][]string{{"status"}, {"plan"}, {"converge", "--yes"}, {"trust", "list"}, {"teardown", "--confirm", "tidewatch"}} {
		o, e, code := there.run(args...)
		if code == 0 || !strings.Contains(o+e, "whose inventory is not in this folder") || strings.Contains(o+e, "is gone") {
			t.Errorf("unpacked, verbund %s: %d\n%s%s", strings.Join(args, " "), code, o, e)
		}
	}
	if len(there.processes()) > 0 {
		t.Error("a second site was started for a cluster that has one")
	}

	// The memory is gone while its machines live.
	memory := w.path(".verbund/tidewatch")
	if err := os.Rename(memory, memory+".away"); err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{{"status"}, {"plan"}, {"converge", "--yes"}, {"survey"}} {
		w.run(args...)
		o, e, code := w.run(args...)
		if code == 0 || !strings.Contains(o+e, "the keys to them are not here") || !strings.Contains(o+e, "trust unpack") || strings.Contains(o+e, "has not been raised") {
			t.Errorf("without the memory, verbund %s: %d\n%s%s", strings.Join(args, " "), code, o, e)
		}
	}
	os.RemoveAll(memory)
	if err := os.Rename(memory+".away", memory); err != nil {
		t.Fatal(err)
	}
	w.well("v1.37.2")
	keys, err := filepath.Glob(filepath.Join(w.keys, "*.key"))
	if err != nil || len(keys) == 0 {
		t.Fatalf("the key file: %v, %v", keys, err)
	}
	for _, k := range keys {
		if err := os.Rename(k, k+".away"); err != nil {
			t.Fatal(err)
		}
	}
	w.fails(1, []string{"cannot be opened"}, "converge", "--yes")
	w.fails(2, []string{"the keys of the cluster are not to be had", "--confirm tidewatch"}, "teardown", "--yes")
	for _, k := range keys {
		if err := os.Rename(k+".away", k); err != nil {
			t.Fatal(err)
		}
	}
	w.well("v1.37.2")
}

// said runs every command that prints facts, and holds what it prints as JSON
// against the type from which its description is made.
func (w *world) said() {
	w.Helper()
	for command, args := range map[string][]string{
		"check": {"check"}, "check --rules": {"check", "--rules"}, "check --merged": {"check", "--merged"}, "versions": {"versions"}, "render": {"render", "--to", filepath.Join(w.keys, "rendered")}, "plan": {"plan"},
		"status": {"status"}, "status --all": {"status", "--all"}, "nodes": {"nodes"}, "machines": {"machines"}, "inspect": {"inspect", "tidewatch-control-1", "tidewatch-keepers-1"},
		"logs": {"logs", "tidewatch-control-1", "--all", "--since", "10m"}, "history": {"history"}, "history RUN": {"history", "last"}, "survey": {"survey"}, "collect": {"collect", "--to", filepath.Join(w.keys, "all.tar.gz")},
		"access --list": {"access", "--list"}, "hosts": {"hosts"}, "trust list": {"trust", "list"}, "trust show": {"trust", "show", "tidewatch-control-1/api-server"}, "token list": {"token", "list"}, "requests list": {"requests", "list", "--all"},
		"site mirror": {"site", "mirror"}, "site images": {"site", "images"}, "store show": {"store", "show"}, "store show --check": {"store", "show", "--check"}, "version": {"version"},
	} {
		o := w.ok(append(args, "-o", "json")...)
		d := json.NewDecoder(strings.NewReader(o))
		d.DisallowUnknownFields()
		if err := d.Decode(cli.SaidBy(command)); err != nil {
			w.Errorf("verbund %s: %v\n%.600s", command, err, o)
		}
		if strings.Contains(o, ": null") {
			w.Errorf("verbund %s prints null, where there is nothing:\n%.600s", command, o)
		}
	}
}

// Two clusters that are raised at once on one site do not lock each other out, and
// of many that raise the same one all but one are told who does.
func TestRaisedAtOnce(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	b, err := os.ReadFile(w.path("tidewatch.verbund.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	other := strings.NewReplacer("name: tidewatch\n", "name: lampwright\n", "tidewatch.test", "lampwright.test").Replace(string(b))
	if err := os.WriteFile(w.path("lampwright.verbund.yaml"), []byte(other), 0o644); err != nil {
		t.Fatal(err)
	}
	type ended struct {
		code int
		text string
	}
	var mu sync.Mutex
	runs := map[string][]ended{}
	var wg sync.WaitGroup
	for _, name := range []string{"tidewatch", "lampwright", "tidewatch", "lampwright", "tidewatch"} {
		wg.Go(func() {
			_, e, code := w.run("converge", "--yes", "-f", name+".verbund.yaml")
			mu.Lock()
			defer mu.Unlock()
			runs[name] = append(runs[name], ended{code, e})
		})
	}
	wg.Wait()
	for name, rs := range runs {
		done := 0
		for _, r := range rs {
			switch {
			case r.code == 0:
				done++
			case r.code != 4 || strings.Contains(r.text, "invalid database"):
				t.Errorf("%s: exit code %d\n%s", name, r.code, r.text)
			}
		}
		if done == 0 {
			t.Errorf("nobody raised %s: %+v", name, rs)
		}
		w.fails(0, []string{name + ": well"}, "status", "-f", name+".verbund.yaml")
	}
}

// An address that was chosen before a run was killed, and that another cluster has got
// meanwhile, is not asked for again.
func TestAddressGotByAnother(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	b, err := os.ReadFile(w.path("tidewatch.verbund.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	other := strings.NewReplacer("name: tidewatch\n", "name: lampwright\n", "tidewatch.test", "lampwright.test").Replace(string(b))
	w.rewrite("lampwright.verbund.yaml", other)
	one, two := []string{"-f", "tidewatch.verbund.yaml"}, []string{"-f", "lampwright.verbund.yaml"}
	cmd, out, _ := w.start(append([]string{"converge", "--yes", "-o", "json"}, one...)...)
	entries(out, func(kind, _, _ string) bool {
		if kind == "step-began" {
			cmd.Process.Kill()
			return false
		}
		return true
	})
	cmd.Wait()
	w.ok(append([]string{"converge", "--yes"}, two...)...)
	w.ok(append([]string{"converge", "--yes"}, one...)...)
	at := map[string]string{}
	for _, m := range w.machinesOf(two) {
		at[m.Address] = m.Name
	}
	for _, m := range w.machinesOf(one) {
		if at[m.Address] != "" {
			t.Errorf("%s and %s are both at %s", m.Name, at[m.Address], m.Address)
		}
	}
	w.fails(0, []string{"lampwright  well", "tidewatch   well"}, "status", "--all")
}

// machinesOf lists the machines of one of several clusters.
func (w *world) machinesOf(file []string) []machineRow {
	w.Helper()
	var ms []machineRow
	if err := json.Unmarshal([]byte(w.ok(append([]string{"machines", "-o", "json"}, file...)...)), &ms); err != nil {
		w.Fatal(err)
	}
	return ms
}

// First commands that come at once make one authority, not one each.
func TestFirstCommandsAtOnce(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	var wg sync.WaitGroup
	var done atomic.Int32
	for i := range 4 {
		wg.Go(func() {
			args := []string{"render", "--to", fmt.Sprintf("rendered-%d", i)}
			if i%2 == 1 {
				args = []string{"trust", "issue", "gauge-reader", "--client", "--into", filepath.Join(w.keys, fmt.Sprint(i))}
			}
			switch _, e, code := w.run(args...); code {
			case 0:
				done.Add(1)
			case 4:
			default:
				t.Errorf("%v: exit code %d\n%s", args, code, e)
			}
		})
	}
	wg.Wait()
	if done.Load() == 0 {
		t.Error("nobody did anything")
	}
	// Whoever was first, what is there now is what everybody has.
	w.ok("render", "--to", "last")
	ca := func(dir string) string {
		b, err := os.ReadFile(filepath.Join(dir, "tidewatch-control-1/etc/kubernetes/trust/cluster-authority.crt"))
		if err != nil {
			return ""
		}
		return string(b)
	}
	for i := range 4 {
		if got := ca(w.path(fmt.Sprintf("rendered-%d", i))); got != "" && got != ca(w.path("last")) {
			t.Errorf("rendering %d has another authority", i)
		}
	}
	// With all of it there, rendering is reading, and waits for nobody.
	release, err := store.At(w.dir, "tidewatch", &store.Keys{Dir: w.keys}).Lock("a test")
	if err != nil {
		t.Fatal(err)
	}
	defer release()
	w.ok("render", "--to", "meanwhile")
}
