package cli_test

import (
	"bytes"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"go.etcd.io/bbolt"
)

func TestBadDeclarations(t *testing.T) {
	t.Parallel()
	good := newWorld(t, "available", "v1.37.2")
	b, err := os.ReadFile(good.path("tidewatch.verbund.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	site, err := os.ReadFile(good.path("estuary.site.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	text := string(b)
	replace := func(old, new string) string {
		if !strings.Contains(text, old) {
			t.Fatalf("the draft has no %q", old)
		}
		return strings.Replace(text, old, new, 1)
	}
	for _, c := range []struct {
		name, text string
		words      []string
	}{
		{"empty", "", []string{"tidewatch.verbund.yaml:1:1: error: the file holds no document"}},
		{"only comment", "# nothing\n", []string{"holds no document"}},
		{"not YAML", "schema: [verbund/1\n", []string{"error: this is not YAML"}},
		{"binary", "\x00\x01\x02", []string{"not YAML"}},
		{"two documents", text + "---\nschema: verbund/1\n", []string{"a second document begins here"}},
		{"too large", text + strings.Repeat("# long\n", 10<<20/7), []string{"more than the 1048576"}},
		{"unknown version", replace("v1.37.2", "v1.30.0"), []string{"Kubernetes v1.30.0 is not in the catalogue", "choose one of v1.35.3"}},
		{"unknown key", replace("size: medium", "siez: medium"), []string{`unknown key "siez" in control; did you mean size?`}},
		{"wrong type", replace("count: 3\n  size: medium", "count: three\n  size: medium"), []string{`control.count is the text "three", not a whole number`}},
		{"no control", replace("count: 3\n  size: medium", "count: 0\n  size: medium"), []string{"control.count is 0"}},
		{"overlap", replace("10.112.0.0/16", "10.172.8.0/24"), []string{"ranges.services 10.172.8.0/24 and ranges.pods 10.172.0.0/15 overlap"}},
		{"unknown zone", replace("[north, south, island]", "[north, sauth, island]"), []string{`site estuary has no zone "sauth"; did you mean south?`}},
		{"unknown size", replace("size: large", "size: huge"), []string{`site estuary has no size "huge"; choose one of large, medium, small`}},
		{"bad name", replace("name: gauges", "name: Gauges_1"), []string{`"Gauges_1" is not a name`}},
		{"all at once", strings.NewReplacer("v1.37.2", "v9", "size: large", "size: huge", "count: 3\n  size", "count: -1\n  size").Replace(text), []string{"v9", "huge", "control.count is -1", "3 errors"}},
		{"alias", replace("dns: {domain: tidewatch.test}", "dns: &d {domain: tidewatch.test}"), []string{"anchors and aliases are not read"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := &world{TB: t, dir: t.TempDir(), keys: t.TempDir()}
			if err := os.WriteFile(w.path("tidewatch.verbund.yaml"), []byte(c.text), 0o644); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(w.path("estuary.site.yaml"), site, 0o644); err != nil {
				t.Fatal(err)
			}
			w.fails(2, c.words, "check")
			w.fails(2, nil, "converge", "--yes")
			if _, err := os.Stat(w.path(".verbund")); err == nil {
				t.Error("a refused declaration left something behind")
			}
		})
	}
	t.Run("none", func(t *testing.T) {
		w := &world{TB: t, dir: t.TempDir(), keys: t.TempDir()}
		w.fails(2, []string{"there is no declaration", "verbund draft NAME"}, "status")
	})
	t.Run("two", func(t *testing.T) {
		w := &world{TB: t, dir: t.TempDir(), keys: t.TempDir()}
		w.ok("draft", "tidewatch")
		w.ok("draft", "lampwright", "--shape", "small")
		w.fails(2, []string{"2 declarations", "lampwright", "--file"}, "plan")
		w.ok("check", "--file", "lampwright.verbund.yaml")
	})
	t.Run("wide", func(t *testing.T) {
		w := &world{TB: t, dir: t.TempDir(), keys: t.TempDir()}
		w.ok("draft", "tidewatch", "--shape", "wide")
		w.fails(0, []string{"0 errors, 1 warning"}, "check")
	})
	t.Run("no site file", func(t *testing.T) {
		w := &world{TB: t, dir: t.TempDir(), keys: t.TempDir()}
		w.ok("draft", "tidewatch")
		os.Remove(w.path("estuary.site.yaml"))
		w.fails(2, []string{"estuary.site.yaml is not there"}, "check")
	})
	t.Run("no terminal", func(t *testing.T) { good.fails(2, []string{"--yes"}, "converge") })
	t.Run("warnings", func(t *testing.T) {
		w := &world{TB: t, dir: t.TempDir(), keys: t.TempDir()}
		w.ok("draft", "tidewatch")
		w.declare(`count: 3\n  size: medium`, "count: 4\n  size: medium")
		w.fails(0, []string{"warning: 4 control-plane machines survive the loss of 1, as 3 would", "warning: the balancer is one machine", "0 errors, 2 warnings"}, "check")
	})
}

func TestWrongUse(t *testing.T) {
	t.Parallel()
	w := &world{TB: t, dir: t.TempDir(), keys: t.TempDir()}
	for _, args := range [][]string{{"draft"}, {"draft", "Not-A-Name"}, {"draft", "x", "--shape", "round"}, {"draft", "x", "--shape", "wide", "--listed", "y"}, {"draft", "x", "--pools", "one,two,three"}, {"draft", "x", "--pools", "One,two"}, {"status", "now"}, {"plan", "--no-such"}, {"check", "missing.yaml"}, {"plan", "-o", "xml"}} {
		if _, e, code := w.run(args...); code != 2 || !strings.Contains(e, "error:") {
			t.Errorf("verbund %v: exit code %d, wanted 2: %s", args, code, e)
		}
	}
}

// Faults of the site and of machines end in a clear error, and the run after
// the fault was mended finishes.
func TestFaultsOfTheSite(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.35.3")

	w.edit("estuary.site.yaml", `name: north, machines: 12`, "name: north, machines: 1")
	w.edit("estuary.site.yaml", `name: south, machines: 12`, "name: south, machines: 1")
	w.edit("estuary.site.yaml", `name: island, machines: 12`, "name: island, machines: 1")
	w.declare(`count: 1, size: small`, "count: 4, size: small")
	w.fails(2, []string{"zone north has room for 1 machines, and 3 are declared there", "declare fewer", "[site-full]"}, "converge", "--yes")
	w.edit("estuary.site.yaml", `name: north, machines: 1`, "name: north, machines: 2")
	w.edit("estuary.site.yaml", `name: south, machines: 1`, "name: south, machines: 12")
	w.edit("estuary.site.yaml", `name: island, machines: 1`, "name: island, machines: 12")
	w.declare(`count: 4, size: small`, "count: 2, size: small")

	// A blob that arrives damaged is refused by its digest and named.
	w.ok("site", "start")
	w.ok("site", "fault", "damaged-blob", "kubelet:v1.35.3")
	w.fails(1, []string{"kubelet v1.35.3", "3 tries", "sha256"}, "converge", "--yes", "--confirm", "tidewatch")
	w.ok("site", "fault", "mended-blob", "kubelet:v1.35.3")
	w.fails(0, nil, "converge", "--yes")
	w.well("v1.35.3")

	// The site's process dies; the next run starts it and says so.
	var pid int
	for _, p := range w.processes() {
		if strings.Contains(p, "simulated-site") {
			pid = atoi(strings.Split(p, "/")[2])
		}
	}
	if pid == 0 {
		t.Fatalf("no process of the site among %v", w.processes())
	}
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	// Its connections may end a moment before it does.
	w.until(10*time.Second, "status to say that the site does not run", func() (bool, string) {
		out, errs, code := w.run("status")
		return code == 3 && strings.Contains(out+errs, "not running"), out + errs
	})
	w.fails(0, []string{"it is started"}, "converge", "--yes")
	w.well("v1.35.3")

	// A machine that shows another host key is not spoken to.
	w.ok("site", "fault", "new-host-key", "tidewatch-keepers-1")
	deadline := time.Now().Add(20 * time.Second)
	for w.machines()["tidewatch-keepers-1"].Power != "on" && time.Now().Before(deadline) {
	}
	w.fails(1, []string{"host key", "tidewatch-keepers-1", "nothing was sent to it"}, "converge", "--yes")
	w.ok("site", "fault", "lost-machine", "tidewatch-keepers-1")
	w.ok("converge", "--yes")
	w.well("v1.35.3")

	// A full disk stops the upgrade with its reason; then it goes on.
	w.ok("site", "fault", "full-disk", "tidewatch-keepers-2")
	w.declare(`kubernetes: .*`, "kubernetes: v1.35.4")
	w.fails(1, []string{"tidewatch-keepers-2", "disk is full", "make room"}, "converge", "--yes")
	w.ok("site", "fault", "mended-disk", "tidewatch-keepers-2")
	w.ok("converge", "--yes")
	w.well("v1.35.4")

	// With a machine that the site cannot supply nothing is drained.
	w.declare(`size: small`, "size: large")
	if o := w.fails(1, []string{"zone north is full"}, "converge", "--yes"); strings.Contains(o, "evict") {
		t.Errorf("something was drained for a machine that does not come:\n%s", o)
	}
	// Taken back, the old one has its place again, and needs no room.
	w.declare(`size: large`, "size: small")
	w.ok("converge", "--yes")
	w.well("v1.35.4")
}

func atoi(s string) int {
	n := 0
	for _, c := range s {
		n = n*10 + int(c-'0')
	}
	return n
}

// Over several minors the plan has the first hop, and says the way; what is not well does
// not follow from it.
func TestHopsArePending(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.35.4")
	w.ok("converge", "--yes")
	w.declare(`kubernetes: .*`, "kubernetes: v1.37.2")
	w.fails(3, []string{"from v1.35.4 to v1.37.2: 2 hops of the control plane", "What follows is the hop to v1.36.3, on the way to v1.37.2", "1 drain of each worker"}, "plan", "--exit-code")
	if s := w.status(); s.State != "changes pending" || len(s.Ailing)+len(s.Strained) > 0 || s.Running != "v1.35.4" || s.Pending == 0 || s.Refused != "" {
		t.Errorf("status is %+v", s)
	}
}

// A control-plane machine whose datastore member is down keeps the others from
// being taken down.
func TestQuorumGuard(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "available", "v1.36.3")
	w.declare(`(?s)pools:.*`, "pools: []\n")
	w.ok("converge", "--yes")
	// The member's data is damaged, so it does not come back when it is woken.
	disk := w.path(".verbund/sites/estuary/disks/tidewatch-control-3")
	w.ok("site", "power", "tidewatch-control-3", "cut")
	db := filepath.Join(disk, "var/lib/etcd/member/snap/db")
	if err := os.WriteFile(db, bytes.Repeat([]byte("x"), 8192), 0o600); err != nil {
		t.Fatal(err)
	}
	w.declare(`kubernetes: .*`, "kubernetes: v1.37.2")
	out := w.fails(1, []string{"tidewatch-control-3", "etcd.service", "exit code", "last log lines"}, "converge", "--yes")
	if strings.Contains(out, "switch from v1.36.3") {
		t.Errorf("a machine was upgraded although a member is down:\n%s", out)
	}
	w.ok("site", "fault", "lost-machine", "tidewatch-control-3")
	w.ok("converge", "--yes")
	w.well("v1.37.2")
}

func TestBlockTaken(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	b, err := os.ReadFile(w.path("estuary.site.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	_, rest, _ := strings.Cut(string(b), "addresses: ")
	block, _, _ := strings.Cut(rest, "\n")
	l, err := net.Listen("tcp", strings.TrimSuffix(block, "0/24")+"1:5001")
	if err != nil {
		t.Fatal(err)
	}
	w.fails(1, []string{"address block taken", block}, "converge", "--yes")
	l.Close()
	w.ok("converge", "--yes")
}

func TestDamagedStore(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	w.spoilt = true
	w.ok("render")
	file := w.path(".verbund/tidewatch/store.db")
	good, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if i, err := os.Stat(file); err != nil || i.Mode().Perm() != 0o600 {
		t.Errorf("the store's mode is %v", i.Mode())
	}
	if err := os.WriteFile(file, bytes.Repeat([]byte("spoilt"), 4000), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range [][]string{{"converge", "--yes"}, {"plan"}, {"teardown", "--confirm", "tidewatch"}} {
		w.fails(1, []string{"is damaged", "nothing was changed", "store show --check"}, c...)
	}
	if err := os.WriteFile(file, good, 0o600); err != nil {
		t.Fatal(err)
	}
	db, err := bbolt.Open(file, 0o600, nil)
	if err != nil {
		t.Fatal(err)
	}
	err = db.Update(func(tx *bbolt.Tx) error { return tx.Bucket([]byte("meta")).Put([]byte("format"), []byte("99")) })
	if err != nil {
		t.Fatal(err)
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	w.fails(1, []string{"format 99", "newer version"}, "converge", "--yes")
}

// A whole zone is lost, the balancer with it: what is left is a quorum, and
// converge brings the zone's machines back as they were.
func TestLostZone(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "available", "v1.36.3")
	w.ok("converge", "--yes")
	before := w.machines()
	w.ok("site", "fault", "lost-zone", "north")
	out := w.fails(3, []string{"2 of 3 members healthy", "tidewatch-control-1 cannot be reached", "its zone was lost"}, "status")
	if strings.Contains(out, "tidewatch-control-2 cannot") {
		t.Errorf("another zone is down too:\n%s", out)
	}
	w.fails(0, []string{"switch it on and log in"}, "converge", "--yes")
	w.well("v1.36.3")
	for n, m := range w.machines() {
		if before[n].Hardware != m.Hardware {
			t.Errorf("%s is another machine than before", n)
		}
	}
	// A zone that goes while a run waits for its machines ends the run at once, by name.
	w.declare(`batch: 2`, "batch: 3")
	w.declare(`labels: \{work: gauges\}`, "labels: {work: night}")
	w.declare(`kubernetes: v1.36.3`, "kubernetes: v1.37.2")
	cmd, o, log := w.start("converge", "--yes", "-o", "json")
	var fault time.Time
	entries(o, func(kind, step, _ string) bool {
		if kind == "step-began" && strings.HasPrefix(step, "switch/tidewatch-control-") && fault.IsZero() {
			n := strings.TrimPrefix(step, "switch/")
			w.ok("site", "fault", "lost-zone", w.machines()[n].Zone)
			fault = time.Now()
		}
		return true
	})
	cmd.Wait()
	if took := time.Since(fault); cmd.ProcessState.ExitCode() != 1 || took > 30*time.Second || !strings.Contains(log.String(), "went dark underway: it has crashed: its zone was lost") {
		t.Errorf("exit code %d after %s\n%s", cmd.ProcessState.ExitCode(), took, log)
	}
	w.ok("converge", "--yes")
	w.well("v1.37.2")
	w.fails(2, []string{"nothing runs in zone west"}, "site", "fault", "lost-zone", "west")
}

// A pipe that closes does not end a run: it goes on to its end, without a word.
func TestPipeCloses(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	cmd := w.command("converge", "--yes")
	r, p, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	cmd.Stdout, cmd.Stderr = p, p
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	p.Close()
	if _, err := r.Read(make([]byte, 10)); err != nil {
		t.Fatal(err)
	}
	r.Close()
	if err := cmd.Wait(); err != nil {
		t.Errorf("it ended with %v", err)
	}
	w.well("v1.37.2")
	// Nor is it an error of a command that only prints.
	cmd = w.command("history", "last")
	if r, p, err = os.Pipe(); err != nil {
		t.Fatal(err)
	}
	var said strings.Builder
	cmd.Stdout, cmd.Stderr = p, &said
	r.Close()
	if err := cmd.Run(); err != nil || said.Len() > 0 {
		t.Errorf("it ended with %v, and said %q", err, said.String())
	}
	p.Close()
}
