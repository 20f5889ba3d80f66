package cli_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"verbund/internal/sim/linux"
	"verbund/internal/store"
)

// program is the built program that the tests drive.
var program string

func TestMain(m *testing.M) {
	// A machine that a test sets up itself runs the test's own program first.
	if len(os.Args) == 2 && os.Args[1] == linux.Arg {
		fmt.Fprintln(os.Stderr, linux.Main(os.Stdin))
		os.Exit(1)
	}
	dir, err := os.MkdirTemp("", "verbund-built-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "verbund")
	cmd := exec.Command("go", "build", "-o", program, "verbund/cmd/verbund")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "building the program: %v\n%s", err, out)
		os.Exit(1)
	}
	// The tests wait much more than they compute: for etcd's five seconds between
	// two changes of its members, above all.
	flag.Parse()
	if f := flag.Lookup("test.parallel"); f != nil && f.Value.String() == strconv.Itoa(runtime.GOMAXPROCS(0)) {
		f.Value.Set("4")
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// sources looks at all sources of the program. The go command takes a result
// from its cache if nothing has changed that a test looked at while it ran, and
// does not see which program a test starts.
var sources = sync.OnceValue(func() error {
	for _, root := range []string{"../../cmd", "../../internal", "../../go.mod"} {
		err := filepath.WalkDir(root, func(p string, e fs.DirEntry, err error) error {
			if err == nil && !e.IsDir() {
				_, err = os.Stat(p)
			}
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
})

var worlds atomic.Int32

// world is a folder with a declaration, on a site with a block of its own.
type world struct {
	testing.TB
	dir  string
	keys string // folder of key files, outside the working folder

	spoilt bool     // the test has damaged what the tool remembers
	real   bool     // its machines are real systems, which take as long as in life
	folder string   // of the site that has such machines, if it is not the cluster's own
	kills  int      // how often a run was killed
	failed []string // what the test found wrong, for whoever sees only the end of what it says
}

func (w *world) Fatalf(format string, args ...any) {
	w.Helper()
	w.failed = append(w.failed, fmt.Sprintf(format, args...))
	w.TB.Fatal(w.failed[len(w.failed)-1])
}

func (w *world) Errorf(format string, args ...any) {
	w.Helper()
	w.failed = append(w.failed, fmt.Sprintf(format, args...))
	w.TB.Error(w.failed[len(w.failed)-1])
}

// poolsOf are the names that pools have in these tests, by the cluster's shape.
var poolsOf = map[string]string{"small": "keepers", "available": "gauges,forecast"}

// newWorld drafts a cluster at a given version. The block depends on the
// process, so that test runs beside each other do not meet.
func newWorld(t testing.TB, shape, version string) *world {
	t.Helper()
	return newWorldIn(t, t.TempDir(), shape, version)
}

func newWorldIn(t testing.TB, dir, shape, version string) *world {
	t.Helper()
	inLane(t)
	w := &world{TB: t, dir: dir, keys: t.TempDir()}
	w.ok("draft", "tidewatch", "--shape", shape, "--pools", poolsOf[shape], "--kubernetes", version)
	block := fmt.Sprintf("127.%d.%d.0/24", 128+os.Getpid()%120, worlds.Add(1)%256)
	w.edit("estuary.site.yaml", `addresses: .*`, "addresses: "+block)
	w.edit("estuary.site.yaml", `pace: .*`, "pace: 400")
	w.soak("1s")
	t.Cleanup(func() {
		if t.Failed() {
			_, errs, _ := w.run("history")
			t.Logf("folder %s\n%s", w.dir, errs)
		}
		w.run("site", "stop", "-f", "tidewatch.verbund.yaml")
		// A test that failed may have left a declaration that cannot be read.
		for _, p := range w.processes() {
			var pid int
			if _, err := fmt.Sscanf(p, "/proc/%d/", &pid); err == nil {
				syscall.Kill(pid, syscall.SIGKILL)
			}
		}
	})
	t.Cleanup(func() { // before the site ends
		if !t.Failed() && !w.spoilt {
			w.memoryFits()
		}
	})
	return w
}

// memoryFits holds what the tool remembers against everything that must be so, however it
// was ended.
func (w *world) memoryFits() {
	w.Helper()
	_, here := os.Stat(w.path(".verbund/tidewatch/store.db"))
	if _, elsewhere := os.Stat(w.path("tidewatch" + store.PlaceEnding)); here == nil || elsewhere == nil {
		w.ok("store", "show", "--check", "-f", "tidewatch.verbund.yaml")
	}
}

func (w *world) path(name string) string { return filepath.Join(w.dir, name) }

// edit replaces the first match of a pattern in a file, which has to be there.
func (w *world) edit(file, pattern, with string) {
	w.Helper()
	b, err := os.ReadFile(w.path(file))
	if err != nil {
		w.Fatal(err)
	}
	at := regexp.MustCompile(pattern).FindIndex(b)
	if at == nil {
		w.Fatalf("%s has no %s", file, pattern)
	}
	out := string(b[:at[0]]) + with + string(b[at[1]:])
	if err := os.WriteFile(w.path(file), []byte(out), 0o644); err != nil {
		w.Fatal(err)
	}
}

func (w *world) declare(pattern, with string) {
	w.Helper()
	w.edit("tidewatch.verbund.yaml", pattern, with)
}

// soak declares how long all of those are watched that go first.
func (w *world) soak(span string) {
	w.Helper()
	b, err := os.ReadFile(w.path("tidewatch.verbund.yaml"))
	if err != nil {
		w.Fatal(err)
	}
	b = regexp.MustCompile(`soak: \w+`).ReplaceAll(b, []byte("soak: "+span))
	b = bytes.Replace(b, []byte("count: 1, size: small}"), []byte("count: 1, size: small, rollout: {soak: "+span+"}}"), 1)
	if err := os.WriteFile(w.path("tidewatch.verbund.yaml"), b, 0o644); err != nil {
		w.Fatal(err)
	}
}

// fewer declares smaller pools than were drafted, each written machine by machine.
func (w *world) fewer(gauges, forecast int) {
	w.Helper()
	w.declare(`count: 3\n    size: small`, fmt.Sprintf("count: %d\n    size: small", gauges))
	w.declare(`batch: 2`, "batch: 1")
	w.declare(`count: 2\n    size: large`, fmt.Sprintf("count: %d\n    size: large", forecast))
}

// command prepares one run of the program in the world's folder.
func (w *world) command(args ...string) *exec.Cmd {
	if err := sources(); err != nil {
		w.Fatalf("looking at the sources: %v", err)
	}
	cmd := exec.Command(program, args...)
	cmd.Dir = w.dir
	cmd.Env = append(os.Environ(), "NO_COLOR=1", "TZ=UTC", "VERBUND_KEYS="+w.keys)
	return cmd
}

func (w *world) run(args ...string) (stdout, stderr string, code int) {
	w.Helper()
	most := 6 * time.Minute // eight drills in one row take three where much else runs
	if w.real {
		most = 20 * time.Minute // the demonstration takes eight where nothing else runs
	}
	ctx, cancel := context.WithTimeout(context.Background(), most)
	defer cancel()
	cmd := w.command(args...)
	var o, e bytes.Buffer
	cmd.Stdout, cmd.Stderr = &o, &e
	if err := cmd.Start(); err != nil {
		w.Fatal(err)
	}
	stop := context.AfterFunc(ctx, func() { cmd.Process.Kill() })
	defer stop()
	err := cmd.Wait()
	if ctx.Err() != nil {
		w.Fatalf("verbund %s did not end within %s\n%s%s", strings.Join(args, " "), most, o.String(), e.String())
	}
	var xe *exec.ExitError
	if err != nil && !errors.As(err, &xe) {
		w.Fatal(err)
	}
	return o.String(), e.String(), cmd.ProcessState.ExitCode()
}

// start begins a command whose output is read while it runs.
func (w *world) start(args ...string) (*exec.Cmd, io.Reader, *strings.Builder) {
	w.Helper()
	cmd, log := w.command(args...), &strings.Builder{}
	out, err := cmd.StdoutPipe()
	if err != nil {
		w.Fatal(err)
	}
	cmd.Stderr = log
	if err := cmd.Start(); err != nil {
		w.Fatal(err)
	}
	return cmd, out, log
}

// ok runs a command that has to succeed.
func (w *world) ok(args ...string) string {
	w.Helper()
	o, e, code := w.run(args...)
	if code != 0 {
		w.Fatalf("verbund %s: exit code %d\n%s%s", strings.Join(args, " "), code, o, e)
	}
	return o
}

// fails runs a command that has to end with a code and say certain words.
func (w *world) fails(code int, words []string, args ...string) string {
	w.Helper()
	o, e, got := w.run(args...)
	if got != code {
		w.Fatalf("verbund %s: exit code %d, wanted %d\n%s%s", strings.Join(args, " "), got, code, o, e)
	}
	for _, word := range words {
		if !strings.Contains(o+e, word) {
			w.Errorf("verbund %s does not say %q:\n%s%s", strings.Join(args, " "), word, o, e)
		}
	}
	return o + e
}

type machineRow struct {
	Size                                          string
	Name, Cluster, Zone, Power, Hardware, Address string
}

func (w *world) machines() map[string]machineRow {
	w.Helper()
	var ms []machineRow
	if err := json.Unmarshal([]byte(w.ok("machines", "-o", "json")), &ms); err != nil {
		w.Fatal(err)
	}
	out := map[string]machineRow{}
	for _, m := range ms {
		if _, twice := out[m.Name]; twice {
			w.Errorf("machine %s is there twice", m.Name)
		}
		out[m.Name] = m
	}
	return out
}

type statusReport struct {
	State             string
	Well              bool
	Ailing, Trust     []string
	Strained, Strays  []string
	Pending           int
	Declared, Running string
	Refused           string
	Endpoint          struct{ Address string }
}

func (w *world) status() statusReport {
	w.Helper()
	o, e, _ := w.run("status", "--machines-only", "-o", "json")
	var s statusReport
	if err := json.Unmarshal([]byte(o), &s); err != nil {
		w.Fatalf("status: %v\n%s%s", err, o, e)
	}
	return s
}

// well asserts that the cluster is as declared.
func (w *world) well(version string) {
	w.Helper()
	if s := w.status(); !s.Well || s.Pending != 0 || s.Running != version {
		w.Errorf("status is %+v, wanted well on %s", s, version)
	}
}

// processes lists the processes that name the world's folder.
func (w *world) processes() []string {
	var out []string
	ps, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, p := range ps {
		b, err := os.ReadFile(p)
		if err == nil && bytes.Contains(b, []byte(w.dir)) {
			out = append(out, p+": "+strings.ReplaceAll(string(b), "\x00", " "))
		}
	}
	return out
}

// entries reads JSON lines until the reader ends and hands each to f, which
// says whether to go on.
func entries(r io.Reader, f func(kind, step, what string) bool) {
	dec := json.NewDecoder(r)
	for {
		var e struct{ Kind, Step, What string }
		if dec.Decode(&e) != nil || !f(e.Kind, e.Step, e.What) {
			return
		}
	}
}

// runs lists the runs of the journal, the newest last.
func (w *world) runs() []string {
	w.Helper()
	var runs []struct{ Run string }
	if err := json.Unmarshal([]byte(w.ok("history", "-o", "json")), &runs); err != nil || len(runs) == 0 {
		w.Fatalf("%d runs, %v", len(runs), err)
	}
	var out []string
	for _, r := range runs {
		out = append(out, r.Run)
	}
	return out
}

func (w *world) lastRun() string { rs := w.runs(); return rs[len(rs)-1] }
